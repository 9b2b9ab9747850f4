"""The gallery: both forms of every model say the same, and its answer holds against an independent computation.

Each is tried with its own data and with data changed at random.
"""

from __future__ import annotations

import importlib.util
import re
import shlex
import shutil
from pathlib import Path
from types import ModuleType

import numpy as np
import pytest
from click.testing import CliRunner

import ruddock as rk
from ruddock import demos
from ruddock.cli import main
from tests.formats.test_mps import same
from tests.gallery_answers import CASES

GALLERY = Path(demos.__file__).parent / "gallery"
PAGES = Path(__file__).parent.parent / "docs" / "gallery"


def module_of(folder: Path) -> ModuleType:
    (path,) = folder.glob("*.py")
    spec = importlib.util.spec_from_file_location(path.stem, path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


WITH_FINDINGS = ("storm_week",)
SEEDS = {"season": 2}  # of 100,000 decisions; the others are changed twice


@pytest.mark.parametrize(("name", "seed"), [(name, seed) for name in CASES for seed in range(SEEDS.get(name, 3))])
def test_the_answer_holds_against_another_computation(name: str, seed: int, tmp_path: Path) -> None:
    folder = tmp_path / name
    shutil.copytree(GALLERY / name, folder)
    computed, change = CASES[name]
    if seed and change is None:
        return
    if seed and change is not None:
        change(folder, np.random.default_rng(seed))
    (text,) = folder.glob("*.rdk")
    module = module_of(folder)
    typed, written = rk.read(text), module.build(folder) if change is not None else module.build()
    same(typed.problem(), written.problem())
    assert typed.formulation().decision_names == written.formulation().decision_names
    assert typed.formulation().constraint_names == written.formulation().constraint_names
    plan, expected = typed.solve(), computed(folder)
    assert plan.status == ("optimal" if np.isfinite(expected) else "infeasible")
    if plan.found:
        assert plan.objectives()["value"].iloc[-1] == pytest.approx(expected)  # of several the one that comes last
    if not seed and name not in WITH_FINDINGS:
        assert typed.check().clean, "the gallery's own data give no finding"


def test_every_model_of_the_gallery_is_tried_and_has_a_page() -> None:
    folders = {path.name for path in GALLERY.iterdir() if path.is_dir() and path.name != "__pycache__"}
    assert folders == set(CASES)
    assert {name.replace("-", "_") for name in demos.GALLERY} == folders
    assert {path.stem for path in PAGES.glob("*.md")} == set(demos.GALLERY)
    index = (PAGES.parent / "gallery.md").read_text()
    assert all(f"gallery/{name}.md" in index for name in demos.GALLERY)


def blocks(page: Path) -> list[tuple[str, list[str]]]:
    found = re.findall(r'```text title="(.*?)"\n(.*?)\n```', page.read_text(encoding="utf-8"), flags=re.S)
    return [(title, [line.rstrip() for line in text.splitlines()]) for title, text in found]


def told_by(title: str) -> list[str]:
    """Return the lines of a file, or of what a command prints; ``with X for Y`` makes a slip in its model first."""
    if title.startswith("from "):
        return Path(title.removeprefix("from ")).read_text(encoding="utf-8").splitlines()
    call, _, slip = title.partition(", with ")
    words = shlex.split(call)[1:]
    path = Path(words[1])
    text = path.read_text(encoding="utf-8")
    if slip:
        wrong, right = slip.split(" for ")
        assert right in text
        path.write_text(text.replace(right, wrong), encoding="utf-8")
    printed = CliRunner().invoke(main, words).output
    path.write_text(text, encoding="utf-8")
    return [line.rstrip() for line in printed.splitlines() if not re.match(r"\d+ s, ", line)]  # no progress


@pytest.mark.parametrize("name", demos.GALLERY)
def test_pages_show_what_is_written_and_what_comes_out(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    demos.copy(name, tmp_path)
    monkeypatch.chdir(tmp_path)
    titles = [title for title, _ in blocks(PAGES / f"{name}.md")]
    assert [title.split()[0] for title in titles][:2] == ["from", "ruddock"]
    for title, shown in blocks(PAGES / f"{name}.md"):
        lines, at, skips = told_by(title), 0, True
        for line in shown:
            if line == "...":
                skips = True
                continue
            assert line in lines[at:], f"{title}: {line!r} is not there"
            place = lines.index(line, at)
            assert skips or place == at, f"{title}: {line!r} does not follow"
            at, skips = place + 1, False


@pytest.mark.parametrize("name", [name for name in demos.GALLERY if name != "season"])
def test_models_are_copied_whole_to_start_from(name: str, tmp_path: Path) -> None:
    paths = demos.copy(name, tmp_path / "mine")
    (text,) = [path for path in paths if path.suffix == ".rdk"]
    mine, shipped = rk.read(text).problem(), demos.build(name).problem()
    assert np.array_equal(mine.matrix().toarray(), shipped.matrix().toarray())
    with pytest.raises(rk.FormatError, match="exists already"):
        demos.copy(name, tmp_path / "mine")
    assert demos.question(name).endswith("?")
