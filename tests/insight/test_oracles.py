"""Every answer against building and solving anew, on small random models of every feature; more in `tests.long_run`."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.oracles import ORACLES

SEEDS = {
    "what_if_is_rebuilding": 15,
    "scenarios_are_rebuilding": 10,
    "sweeps_are_solving_around": 15,
    "reach_is_solving_around": 2,
    "an_optimum_is_appraised_as_one": 40,
    "one_more_is_solving_with_one_more": 40,
    "a_clash_is_one_and_needs_each_member": 15,
    "every_form_comes_back": 15,
    "names_do_not_matter": 5,
}
AT_A_TIME = 5


@pytest.mark.filterwarnings("ignore::ruddock.RuddockWarning")
@pytest.mark.parametrize(("name", "first"), [(name, k) for name in ORACLES for k in range(0, SEEDS[name], AT_A_TIME)])
def test_an_answer_is_what_solving_around_it_gives(name: str, first: int, tmp_path: Path) -> None:
    for seed in range(first, min(first + AT_A_TIME, SEEDS[name])):
        ORACLES[name](seed, tmp_path)
