"""Frontiers between two objectives, against enumeration and against solving with the first one held."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from click.testing import CliRunner

import ruddock as rk
from ruddock.cli import main


def chosen_things(seed: int) -> tuple[rk.Model, np.ndarray, np.ndarray]:
    """Return a choice of things with two objectives, and the values of both for every possible plan."""
    rng = np.random.default_rng(seed)
    n = 8
    model = rk.Model("things")
    thing = rk.Axis("thing", range(n))
    take = model.decide("take", thing, kind="binary")
    gain, other, weight = (rng.integers(1, 20, n).astype(float) for _ in range(3))
    model.maximize("gain", (rk.data(gain, thing) * take).sum())
    (model.minimize if seed % 2 else model.maximize)("other", (rk.data(other, thing) * take).sum())
    room = float(weight.sum() // 2)
    model.require("room", (rk.data(weight, thing) * take).sum() <= room)
    model.require("some", take.sum() >= 2)
    plans = np.array(list(product([0.0, 1.0], repeat=n)))
    plans = plans[(plans @ weight <= room) & (plans.sum(axis=1) >= 2)]
    return model, plans @ gain, plans @ other * (1 if seed % 2 else -1)


def unbettered(gain: np.ndarray, other: np.ndarray) -> list[tuple[float, float]]:
    """Return the points of which no plan betters one objective without losing in the other."""
    pairs = set(zip(gain.tolist(), other.tolist(), strict=True))
    return sorted(
        ((g, o) for g, o in pairs if not any(a >= g and b <= o and (a, b) != (g, o) for a, b in pairs)), reverse=True
    )


@pytest.mark.parametrize("seed", range(30))
def test_all_points_of_whole_number_models_against_enumeration(seed: int) -> None:
    model, gain, other = chosen_things(seed)
    expected = unbettered(gain, other)
    sign = 1 if seed % 2 else -1
    everything = model.tradeoff("gain", "other", points="all")
    assert everything.complete
    found = [(g, sign * o) for g, o in everything.by_objective[["gain", "other"]].to_numpy(float).tolist()]
    assert found == [pytest.approx(pair) for pair in expected]
    some = model.tradeoff("gain", "other", points=5)
    points = [(round(g), round(sign * o)) for g, o in some.by_objective[["gain", "other"]].to_numpy(float).tolist()]
    assert set(points) <= set(expected)
    assert (points[0], points[-1]) == (expected[0], expected[-1])
    for plan, (g, o) in zip(some.plans, points, strict=True):
        assert plan.objectives()["value"].tolist() == pytest.approx([g, sign * o])


def mixed_goods(seed: int) -> rk.Model:
    rng = np.random.default_rng(seed)
    model = rk.Model("goods")
    good, limit = rk.Axis("good", range(6)), rk.Axis("limit", range(4))
    make = model.decide("make", good, upper=20)
    for name, maximize in (("margin", True), ("fuel", False)):
        amounts = rk.data(rng.integers(1, 12, 6).astype(float), good)
        (model.maximize if maximize else model.minimize)(name, (amounts * make).sum())
    model.require("limits", (rk.data(rng.uniform(0, 5, (4, 6)).round(2), limit, good) * make).sum(good) <= 60)
    model.require("some", make.sum() >= 5)
    return model


@pytest.mark.parametrize("seed", range(20))
def test_linear_frontiers_are_exact_between_their_corners(seed: int) -> None:
    model = mixed_goods(seed)
    found = model.tradeoff("margin", "fuel", points=9)
    assert found.exact and found.complete
    margin, fuel = found.by_objective["margin"].to_numpy(float), found.by_objective["fuel"].to_numpy(float)
    corners = found.points.join(found.by_objective)[found.points["corner"]]
    assert (np.diff(margin) < 0).all() and (np.diff(fuel) < 0).all()
    slopes = np.diff(corners["fuel"]) / np.diff(corners["margin"])
    assert (np.diff(slopes) < 1e-9).all(), "ever less fuel is saved for the margin given up"
    np.testing.assert_allclose(corners["price"].to_numpy(float)[:-1], -slopes, rtol=1e-6)
    # between the corners, against solving with the margin held
    for held in np.linspace(margin[-1], margin[0], 14)[1:-1].tolist():
        part = mixed_goods(seed)
        objective = part.formulation().objectives[0].parts["margin"]
        part.remove("margin")
        part.require("held", objective_of(part, objective) >= held)
        line = np.interp(held, margin[::-1], fuel[::-1])
        assert part.solve().objective == pytest.approx(line, rel=1e-7)
    for plan, m, f in zip(found.plans, margin, fuel, strict=True):
        assert plan.objectives()["value"].tolist() == pytest.approx([m, f])
        assert plan.constraints()["slack"].min() > -1e-6


def objective_of(model: rk.Model, objective: object) -> rk.Expression:
    """Return the objective of one model as an expression of its twin."""
    coefficients = dict(zip(objective.columns.tolist(), objective.values.tolist(), strict=True))  # type: ignore[attr-defined]
    return rk.total(value * model["make"][k] for k, value in coefficients.items())


def test_later_objectives_take_what_is_given() -> None:
    model = mixed_goods(3)
    strict = model.solve()
    best = model.solve().objective
    for give, least in (({"margin": "10%"}, 0.9 * best), ({"margin": 25}, best - 25), ({"margin": "25"}, best - 25)):
        plan = model.solve(give=give)
        assert plan.objectives()["value"]["margin"] == pytest.approx(least)
        assert plan.objectives()["value"]["fuel"] < strict.objectives()["value"]["fuel"]
        line = model.tradeoff("margin", "fuel", points=2).by_objective
        expected = np.interp(least, line["margin"][::-1], line["fuel"][::-1])
        assert plan.objectives()["value"]["fuel"] == pytest.approx(expected)
        assert "held at least" in str(plan)
    assert strict.objectives()["value"]["margin"] == pytest.approx(best)


@pytest.mark.parametrize(
    ("give", "told"),
    [
        ({"margn": 0.1}, "did you mean 'margin'"),
        ({"fuel": 0.1}, "the last objective"),
        ({"margin": "500%"}, "neither a share"),
        ({"margin": "lots"}, "neither a share"),
    ],
)
def test_what_is_given_is_checked(give: dict[str, float | str], told: str) -> None:
    with pytest.raises(rk.ModelError, match=told):
        mixed_goods(1).solve(give=give)


def test_a_frontier_needs_two_objectives_that_have_an_end() -> None:
    model = mixed_goods(2)
    with pytest.raises(rk.ModelError, match="no objective is called 'fule'; did you mean 'fuel'"):
        model.tradeoff("margin", "fule")
    with pytest.raises(rk.ModelError, match="is named twice"):
        model.tradeoff("margin", "margin")
    with pytest.raises(rk.ModelError, match="points is a number from 2 on"):
        model.tradeoff("margin", "fuel", points=1)
    model.require("never", model["make"].sum() <= 1)
    none = model.tradeoff("margin", "fuel")
    assert not len(none.points)
    assert "no plan exists" in str(none)
    same = rk.Model("same")
    x = same.decide("x", upper=4)
    same.maximize("a", x)
    same.maximize("b", 2 * x)
    one = same.tradeoff("a", "b")
    assert len(one.points) == 1
    assert "nothing to trade" in str(one)


@pytest.mark.parametrize("seed", range(6))
def test_of_three_objectives_no_point_is_beaten(seed: int) -> None:
    model, gain, other = chosen_things(2 * seed + 1)
    third = np.random.default_rng(900 + seed).integers(1, 20, 8).astype(float)
    model.minimize("third", (rk.data(third, rk.Axis("thing", range(8))) * model["take"]).sum())
    plans = np.array(list(product([0.0, 1.0], repeat=8)))
    rng = np.random.default_rng(2 * seed + 1)
    sizes = [rng.integers(1, 20, 8).astype(float) for _ in range(3)]
    plans = plans[(plans @ sizes[2] <= float(sizes[2].sum() // 2)) & (plans.sum(axis=1) >= 2)]
    values = np.stack((-gain, other, plans @ third), axis=1)
    found = model.tradeoff("gain", "other", "third", points=16)
    assert not found.exact and not found.complete
    assert len(found.points) >= 3
    for row in found.by_objective.to_numpy(float) * [-1, 1, 1]:
        better = (values <= row + 1e-6).all(axis=1) & (values < row - 1e-6).any(axis=1)
        assert not better.any()
    for k in range(3):  # every objective at its best is among them
        assert (found.by_objective.to_numpy(float) * [-1, 1, 1])[:, k].min() == pytest.approx(values[:, k].min())


def test_names_of_ours_do_not_stand_in_the_way_and_a_stopped_end_has_no_share() -> None:
    model = rk.Model("names")
    x, y = model.decide("x", upper=9), model.decide("corner", upper=9)
    model.maximize("share", 3 * x + y)
    model.minimize("price", x + 2 * y)
    found = model.tradeoff("share", "price", points=3)
    assert list(found.points.columns) == ["share", "corner", "price"]
    assert list(found.by_objective.columns) == ["share", "price"]
    assert found.points["share"].iloc[[0, -1]].tolist() == [0, 1]
    calls = []
    chosen, _, _ = chosen_things(4)

    def stop(count: int) -> None:
        calls.append(count)
        if count == 4:
            import os
            import signal

            os.kill(os.getpid(), signal.SIGINT)

    part = chosen.tradeoff("gain", "other", points=9, on_point=stop)
    assert part.stopped == "user"
    whole = chosen.tradeoff("gain", "other", points=9)
    assert len(part.points) < len(whole.points)
    assert part.points["share"].tolist() == pytest.approx(whole.points["share"].tolist()[: len(part.points)])


def test_the_command_shows_the_frontier_and_draws_it(tmp_path) -> None:  # type: ignore[no-untyped-def]
    mixed_goods(3).write(tmp_path / "goods.rdk")
    words = ["tradeoff", str(tmp_path / "goods.rdk"), "margin", "fuel", "--figure", str(tmp_path / "frontier.png")]
    result = CliRunner().invoke(main, words, catch_exceptions=False)
    assert result.exit_code == 0
    assert "corner" in result.output
    assert (tmp_path / "frontier.png").read_bytes().startswith(b"\x89PNG")
    wrong = CliRunner().invoke(main, [*words[:-1], str(tmp_path / "frontier.doc")], catch_exceptions=False)
    assert wrong.exit_code == 2
