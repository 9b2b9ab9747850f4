"""What people's files may have gone through: see `mutated_tables`."""

from __future__ import annotations

import ruddock as rk
from tests.formats.mutated_tables import attempts, meant_otherwise


def test_mutated_tables_and_grids_are_read_or_refused() -> None:
    models = 0
    for name, text, work in attempts(3, 400):
        try:
            model = work()
            model.problem()
        except rk.RuddockError:
            continue
        models += 1
        if text:
            assert not (told := meant_otherwise(text, model)), (name, text, told)
    assert 20 < models < 380
