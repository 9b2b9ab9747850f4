"""MPS files: both forms, every bound and range, errors with their lines, faithful round trips."""

from __future__ import annotations

import gzip
import warnings
from pathlib import Path

import numpy as np
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.problem import Problem
from tests.generators import STRUCTURES, random_lp
from tests.integer_problems import random_milp

inf = np.inf

FIXED = """\
* a comment
NAME          Larkmoor
ROWS
 N  MARGIN
 L  HOURS
 G  LEAST
 E  EVEN
 N  SPARE
COLUMNS
* comments may stand anywhere
    JARS      MARGIN              -3   HOURS                1
    JARS      LEAST                1   SPARE                9
    MARKER    'MARKER'                 'INTORG'
    MEAD      MARGIN              -2   HOURS                2
    MEAD      EVEN                 1
    MARKER    'MARKER'                 'INTEND'
    WAX       EVEN                -1   LEAST            2.5D0
RHS
    RHS       HOURS               40   LEAST                1
    RHS       MARGIN              -7
RANGES
    RNG       HOURS               10
BOUNDS
 UP BND       JARS                30
 UP BND       WAX                 12
ENDATA
"""


def write(path: Path, text: str) -> Path:
    path.write_text(text)
    return path


def small(bounds: str = "", ranges: str = "", rhs: str = " RHS a 4\n RHS b 5\n RHS c 6\n") -> str:
    """Return a free-form file with rows of each kind and given sections."""
    return (
        "NAME small\nROWS\n N goal\n L a\n G b\n E c\nCOLUMNS\n x goal 1 a 1\n x b 1 c 1\n y goal 2\n"
        f" M1 'MARKER' 'INTORG'\n z goal 1 c 1\n M2 'MARKER' 'INTEND'\nRHS\n{rhs}"
        + (f"RANGES\n{ranges}" if ranges else "")
        + (f"BOUNDS\n{bounds}" if bounds else "")
        + "ENDATA\n"
    )


def problem_of(path: Path) -> Problem:
    return rk.read(path).problem()


def test_fixed_form(tmp_path: Path) -> None:
    model = rk.read(write(tmp_path / "fixed.mps", FIXED))
    assert model.name == "Larkmoor"
    problem = model.problem()
    formulation = model.formulation()
    assert formulation.decision_names == ["JARS", "MEAD", "WAX"]
    assert formulation.constraint_names == ["HOURS", "LEAST", "EVEN", "SPARE"]
    assert problem.costs.tolist() == [-3, -2, 0]
    assert problem.offset == 7
    assert problem.row_lower.tolist() == [30, 1, 0, -inf]
    assert problem.row_upper.tolist() == [40, inf, 0, inf]
    assert problem.upper.tolist() == [30, inf, 12]
    assert problem.kinds.tolist() == [0, 1, 0]
    assert problem.matrix().toarray().tolist() == [[1, 2, 0], [1, 0, 2.5], [0, 1, -1], [9, 0, 0]]
    plan = model.solve()
    assert plan["JARS"] == 30
    assert plan.objective == pytest.approx(-90 - 10 + 7)


def test_names_with_blanks_are_read_by_the_columns_of_the_fixed_form(tmp_path: Path) -> None:
    text = FIXED.replace("JARS      ", "JAR S     ").replace("HOURS   ", "HO URS  ").replace(" L  HOURS", " L  HO URS")
    formulation = rk.read(write(tmp_path / "blank.mps", text)).formulation()
    assert formulation.decision_names[0] == "JAR S"
    assert formulation.constraint_names[0] == "HO URS"


@pytest.mark.parametrize(
    ("bounds", "x", "z"),
    [
        ("", (0, inf, 0), (0, inf, 1)),
        (" UP B x 4\n UP B z 3\n", (0, 4, 0), (0, 3, 1)),
        (" LO B x -4\n UI B z 9\n", (-4, inf, 0), (0, 9, 1)),
        (" FX B x 2.5\n LI B z 2\n", (2.5, 2.5, 0), (2, inf, 1)),
        (" FR B x\n BV B z\n", (-inf, inf, 0), (0, 1, 1)),
        (" MI B x\n UP B x 3\n PL B z\n", (-inf, 3, 0), (0, inf, 1)),
        (" LO B x -9\n UP B x -2\n MI B z\n", (-9, -2, 0), (-inf, inf, 1)),
        (" LO B x 2\n SC B x 8\n SC B z 6\n", (2, 8, 2), (0, 6, 3)),
        (" LI B x 1\n UP B x 1e30\n FR z\n", (1, inf, 1), (-inf, inf, 1)),
        (" UP x 5\n BV z\n", (0, 5, 0), (0, 1, 1)),
    ],
)
def test_every_kind_of_bound(tmp_path: Path, bounds: str, x: tuple[float, ...], z: tuple[float, ...]) -> None:
    problem = problem_of(write(tmp_path / "b.mps", small(bounds)))
    got = [(problem.lower[j], problem.upper[j], problem.kinds[j]) for j in (0, 2)]
    assert got == [x, z]


def test_a_negative_upper_bound_alone_means_unlimited_below(tmp_path: Path) -> None:
    with pytest.warns(rk.RuddockWarning, match=r"line 19: column 'x' has a negative upper bound"):
        problem = problem_of(write(tmp_path / "n.mps", small(" UP B x -2\n")))
    assert (problem.lower[0], problem.upper[0]) == (-inf, -2)


@pytest.mark.parametrize(
    ("ranges", "rows"),
    [
        (" R a 3\n R b 3\n R c 3\n", [(1, 4), (5, 8), (6, 9)]),
        (" R a -3\n R b -3\n R c -3\n", [(1, 4), (5, 8), (3, 6)]),
        (" a 1 b 2\n", [(3, 4), (5, 7), (6, 6)]),
    ],
)
def test_ranges_on_every_kind_of_row(tmp_path: Path, ranges: str, rows: list[tuple[float, float]]) -> None:
    problem = problem_of(write(tmp_path / "r.mps", small(ranges=ranges)))
    assert list(zip(problem.row_lower, problem.row_upper, strict=True)) == rows


@pytest.mark.parametrize("sense", ["OBJSENSE\n    MAX\n", "OBJSENSE MAXIMIZE\n", "OBJSENSE\n MIN\n"])
def test_sense_constant_and_named_objective(tmp_path: Path, sense: str) -> None:
    text = small(rhs=" RHS goal 10 a 4\n").replace("ROWS\n", sense + "ROWS\n")
    model = rk.read(write(tmp_path / "s.mps", text))
    told = model.formulation().objectives[0]
    assert (told.name, told.maximize) == ("goal", "MAX" in sense)
    assert told.parts["goal"].constants.tolist() == [-10]
    other = rk.read(write(tmp_path / "o.mps", text.replace("ROWS\n", "OBJNAME\n    a\nROWS\n")))
    assert other.formulation().objectives[0].name == "a"


ERRORS = {
    "cut off": (small().replace("ENDATA\n", ""), "ends without ENDATA", None),
    "section": (small().replace("RHS\n", "RHZ\n", 1), "'RHZ' is not a section .did you mean 'RHS'", 14),
    "section of signs": (small().replace("RHS\n", "\x1c\n", 1), "is not a section", 14),
    "quadratic": (small().replace("ENDATA", "QUADOBJ\n x x 2\nENDATA"), "for quadratic objectives", 18),
    "sets": (small().replace("ENDATA", "SOS\n S1 a\nENDATA"), "special ordered sets", 18),
    "row kind": (small().replace(" L a", " K a"), "the kind of a row is N, L, G or E", 4),
    "row twice": (small().replace(" G b", " G a"), "the row 'a' appears twice", 5),
    "unknown row": (small().replace(" x b 1", " x bb 1"), "row 'bb' is not defined", 9),
    "number": (small().replace("y goal 2", "y goal two"), "'two' is not a number", 10),
    "fields": (small().replace("y goal 2", "y goal 2 a"), "one or two pairs", 10),
    "entry twice": (small().replace(" x b 1", " x a 1"), "second entry in row 'a'", 9),
    "apart": (small().replace(" M2", " x M2x 1\n M2").replace("M2x", "b").replace(" x b 1 c 1\n", ""), "continues after another", 12),
    "marker": (small().replace("INTORG", "INTERG"), "a marker is 'INTORG' or 'INTEND'", 11),
    "rhs row": (small(rhs=" RHS q 1\n"), "row 'q' is not defined", 15),
    "rhs twice": (small(rhs=" RHS a 1\n RHS a 2\n"), "second right side", 16),
    "bound kind": (small(" UX B x 4\n"), "the kind of a bound is one of", 19),
    "bound column": (small(" UP B xx 4\n"), "column 'xx' is not defined", 19),
    "bound value": (small(" UP B x\n"), "needs a column and a number|not defined|not a number", 19),
    "infinite": (small().replace("y goal 2", "y goal 1e40"), "is infinite", 10),
    "data first": (" x y 1\n" + small(), "data before the first section", 1),
    "empty": ("", "ends without ENDATA", None),
}  # fmt: skip


@pytest.mark.parametrize("slip", ERRORS)
def test_errors_tell_file_line_and_text(tmp_path: Path, slip: str) -> None:
    text, message, line = ERRORS[slip]
    path = write(tmp_path / "wrong.mps", text)
    with pytest.raises(rk.FormatError, match=message) as caught:
        rk.read(path)
    assert caught.value.path == str(path)
    if line is not None:
        assert caught.value.line == line
        assert text.splitlines()[line - 1].strip() in str(caught.value)


def same(one: Problem, two: Problem) -> None:
    assert (one.matrix() != two.matrix()).nnz == 0
    for part in ("row_lower", "row_upper", "lower", "upper", "costs", "kinds"):
        assert getattr(one, part).tolist() == getattr(two, part).tolist(), part
    assert one.offset == two.offset


@pytest.mark.filterwarnings("ignore:an MPS file holds no quantities")
@pytest.mark.parametrize("name", demos.FIRST)
@pytest.mark.parametrize("ending", [".mps", ".mps.gz"])
def test_demos_survive_writing_and_reading(tmp_path: Path, name: str, ending: str) -> None:
    model = demos.build(name)
    path = tmp_path / f"demo{ending}"
    model.write(path)
    again = rk.read(path)
    same(again.problem(), model.problem())
    assert again.formulation().decision_names == model.formulation().decision_names
    assert again.formulation().constraint_names == model.formulation().constraint_names
    ours, theirs = again.solve(), model.solve()
    assert ours.status == theirs.status
    assert not theirs.found or ours.objective == pytest.approx(theirs.objective)
    if ending.endswith("gz"):
        assert gzip.decompress(path.read_bytes()).startswith(b"NAME")


@pytest.mark.parametrize("seed", range(12))
def test_random_problems_survive_writing_and_reading(tmp_path: Path, seed: int) -> None:
    structure = STRUCTURES[seed % len(STRUCTURES)]
    problem = random_milp(seed) if seed % 3 == 0 else random_lp(structure, seed, 12, 18, "optimal")
    first = tmp_path / "first.mps"
    columns, rows = (rk.Axis(n, [f"{n}{i}" for i in range(k)]) for n, k in (("c", problem.n), ("r", problem.m)))
    rk.Model._from_problem("random", problem, columns, rows, "goal", maximize=bool(seed % 2)).write(first)
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        same(rk.read(first).problem(), problem)


def test_names_with_blanks_are_mapped_and_told(tmp_path: Path) -> None:
    model = rk.Model("Long Meadow")
    x = model.decide("x", rk.Axis("a", ["Long Meadow", "Long_Meadow"]), upper=2)
    model.maximize("gain", x.sum())
    with pytest.warns(rk.RuddockWarning, match=r"'x\[Long Meadow\]' as 'x\[Long_Meadow\]_2'"):
        model.write(tmp_path / "m.mps")
    assert rk.read(tmp_path / "m.mps").solve().objective == 4


def test_nothing_is_half_written(tmp_path: Path) -> None:
    model = demos.build("packing-week")
    with pytest.raises(rk.FormatError, match="cannot be written"):
        model.write(tmp_path / "no" / "such" / "folder.mps")
    with pytest.raises(rk.FormatError, match="not one that can be written"):
        model.write(tmp_path / "model.doc")
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize(("name", "message"), [("none.mps", "file not found"), ("a.txt", "not one that can be read")])
def test_what_cannot_be_read(tmp_path: Path, name: str, message: str) -> None:
    (tmp_path / "a.txt").touch()
    with pytest.raises(rk.FormatError, match=message):
        rk.read(tmp_path / name)
