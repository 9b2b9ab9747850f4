"""Regions of two decisions: corners against exact intersections, integer points against enumeration."""

from __future__ import annotations

from fractions import Fraction
from itertools import combinations
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

import ruddock as rk
from ruddock.cli import main


def random_region(seed: int, kind: str = "continuous") -> tuple[rk.Model, list[tuple[int, int, int]]]:
    """Return a model of two decisions, and its limits as ``a x + b y <= c``."""
    rng = np.random.default_rng(seed)
    model = rk.Model("two")
    x, y = model.decide("x", upper=30, kind=kind), model.decide("y", upper=25, kind=kind)  # type: ignore[call-overload]
    limits = [(1, 0, 30), (0, 1, 25), (-1, 0, 0), (0, -1, 0)]
    for k in range(int(rng.integers(2, 6))):
        a, b = (int(v) for v in rng.integers(-3, 7, 2))
        if not a and not b:
            continue
        c = int(rng.integers(5, 90))
        limits.append((a, b, c))
        model.require(f"limit{k}", a * x + b * y <= c)
    model.maximize("worth", int(rng.integers(1, 9)) * x + int(rng.integers(1, 9)) * y)
    return model, limits


def exact_corners(limits: list[tuple[int, int, int]]) -> set[tuple[Fraction, Fraction]]:
    found = set()
    for (a, b, c), (d, e, f) in combinations(limits, 2):
        cross = a * e - b * d
        if cross:
            x, y = Fraction(c * e - b * f, cross), Fraction(a * f - c * d, cross)
            if all(p * x + q * y <= r for p, q, r in limits):
                found.add((x, y))
    return found


@pytest.mark.parametrize("seed", range(40))
def test_corners_are_the_exact_ones_and_the_best_plan_is_among_them(seed: int) -> None:
    model, limits = random_region(seed)
    found = model.region()
    expected = sorted((float(x), float(y)) for x, y in exact_corners(limits))
    corners = sorted(map(tuple, found.corners[["x", "y"]].to_numpy(float).tolist()))
    assert corners == [pytest.approx(pair, abs=1e-9) for pair in expected]
    assert found.corners["objective"].max() == pytest.approx(found.plan.objective)
    assert "optimal" in str(found)
    assert (found.corners["where"] != "").all()
    middle = found.corners[["x", "y"]].to_numpy(float).mean(axis=0)
    turns = [np.arctan2(*(corner - middle)[::-1]) for corner in found.corners[["x", "y"]].to_numpy(float)]
    assert turns == sorted(turns)


@pytest.mark.parametrize("seed", range(10))
def test_whole_number_points_are_all_plans(seed: int) -> None:
    model, limits = random_region(seed, "integer")
    found = model.region()
    expected = [(x, y) for x in range(31) for y in range(26) if all(a * x + b * y <= c for a, b, c in limits)]
    assert sorted(map(tuple, found.points.tolist())) == expected


def test_regions_without_end_and_empty_ones_are_told(tmp_path: Path) -> None:
    model = rk.Model("open")
    x, y = model.decide("x"), model.decide("y")
    model.require("least", x + 2 * y >= 4)
    model.minimize("cost", x + y)
    found = model.region()
    assert found.unlimited
    assert "is unbounded: it" in str(found)
    assert sorted(map(tuple, found.corners[["x", "y"]].to_numpy(float).tolist())) == [(0, 2), (4, 0)]  # no frame's
    assert "It is at x 0 and y 2." in " ".join(str(found).split())
    drawn = found.draw()
    edges = {
        tuple(sorted(map(tuple, line.get_xydata().tolist()))) for line in drawn.lines if len(line.get_xydata()) == 2
    }
    _, high_x, _, high_y = found.frame
    assert not any({p[0] for p in edge} == {high_x} or {p[1] for p in edge} == {high_y} for edge in edges)  # open there
    model.require("never", x + y <= 1)
    none = model.region()
    assert not len(none.corners)
    with pytest.raises(rk.ModelError, match="nothing to draw"):
        none.draw()
    model.decide("z")
    with pytest.raises(rk.ModelError, match="this model has 3"):
        model.region()


def test_the_first_objective_leads_and_names_of_ours_are_kept_apart() -> None:
    model = rk.Model("two goals")
    x, y = model.decide("objective", upper=10), model.decide("where", upper=10)
    model.require("room", x + y <= 12)
    model.maximize("margin", 5 * x + 4 * y, unit="£")
    model.minimize("waste", 2 * x + 3 * y, unit="kg")
    found = model.region()
    assert found.plan.objective == 58
    assert list(found.corners.columns) == ["objective (decision)", "where (decision)", "objective", "where"]
    best = found.corners.loc[found.corners["objective"].idxmax()]
    assert (best["objective"], best["where"]) == (58, "room, objective <= 10")
    assert "optimal" in str(found)
    model.require("only", rk.when(model.decide("u", kind="binary"), x <= 3))
    with pytest.raises(rk.ModelError, match="this model has 3"):
        model.region()


def test_the_command_lists_the_corners_and_draws(tmp_path: Path) -> None:
    random_region(3)[0].write(tmp_path / "two.rdk")
    words = ["region", str(tmp_path / "two.rdk"), "--figure", str(tmp_path / "two.svg"), "--json", str(tmp_path / "r")]
    result = CliRunner().invoke(main, words, catch_exceptions=False)
    assert result.exit_code == 0
    assert "Corners" in result.output
    assert "<svg" in (tmp_path / "two.svg").read_text()
    assert '"ruddock-region/1"' in (tmp_path / "r").read_text()
