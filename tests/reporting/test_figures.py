"""Figures show what the results hold; all take axes of the caller's."""

from __future__ import annotations

import matplotlib as mpl
import numpy as np
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.document.plotting import paper

mpl.use("agg")
TARIFF = demos.text("tariff")


def words(ax: object) -> str:
    return " ".join(text.get_text() for text in ax.figure.findobj(mpl.text.Text))  # type: ignore[attr-defined]


def test_a_sweep_goes_through_its_points() -> None:
    found = demos.build("packing-week").without_integers().sweep("extraction", 100, 1200)
    ax = paper()
    assert found.draw(ax) is ax
    x, y = ax.lines[0].get_data()
    np.testing.assert_allclose(x, found.points.index)
    np.testing.assert_allclose(y, found.points["objective"])


def test_bars_add_up_to_the_plan_before_and_after() -> None:
    found = rk.read(TARIFF).what_if({"price": 0.25})
    ax = found.draw_bars("work", "hour", paper())
    heights = sum(patch.get_height() for patch in ax.patches)
    works = [plan.table("work").to_numpy(float).sum() for plan in (found.base, found.changed)]
    assert heights == pytest.approx(sum(works))
    assert "extractor" in words(ax)
    with pytest.raises(rk.ModelError, match="did you mean 'hour'"):
        found.draw_bars("work", "hours")
    with pytest.raises(rk.ModelError, match="did you mean 'work'"):
        found.base.draw_bars("wrok")


def test_a_schedule_has_a_block_for_every_run() -> None:
    plan = rk.read(TARIFF).solve()
    ax = plan.draw_schedule("work", "hour", paper())
    on = plan.table("work").to_numpy(float) > 0.5
    runs = sum(int((np.diff(np.concatenate(([0], row.astype(int)))) == 1).sum()) for row in on)
    assert sum(len(blocks.get_paths()) for blocks in ax.collections) == runs
    assert all(text in words(ax) for text in ("extractor", "melter", "06", "21"))


def test_a_clash_shows_its_limits_and_what_they_pull_at() -> None:
    found = demos.build("storm-week").diagnose()
    told = words(found.draw(paper()))
    assert all(reason.name in told for reason in found.clashes[0].reasons)
    with pytest.raises(rk.ModelError, match="nothing to draw"):
        demos.build("blending").diagnose().draw()


def test_ranges_and_scenarios_are_drawn_with_their_names() -> None:
    model = demos.build("packing-week").without_integers()
    assert "extraction: 640 hours" in words(model.solve().sensitivity().draw(paper()))
    import pandas as pd

    table = pd.DataFrame({"extraction": [700.0, 3.0]}, index=["long", "cannot be"])
    told = words(model.scenarios(table).draw(paper()))
    assert "no plan" in told
    assert "long" in told
    many = pd.DataFrame({"extraction": np.linspace(100, 700, 60)})
    assert "from smallest to largest" in words(model.scenarios(many).draw(paper()))


def test_what_rules_need_shows_nowhere() -> None:
    plan = rk.read(TARIFF).solve()
    text = str(plan)
    assert "rules made" not in text
    assert len(plan.decisions()) == len(plan.formulation.decision_names) == 64
    line = "together[extractor] : run(work[extractor,06] to work[extractor,21], hour) >= 2"
    assert line in rk.read(TARIFF).algebra()


def test_a_history_shows_how_plan_and_bound_come_together_not_how_far_off_they_began() -> None:
    rng = np.random.default_rng(1)
    lot, van = rk.Axis("lot", range(1, 41)), rk.Axis("van", ["red", "blue", "green"])
    weight = rk.data(rng.integers(10, 60, 40).astype(float), lot)
    model = rk.Model("Loading")
    load = model.decide("load", lot, van, kind="binary")
    model.maximize("worth", ((weight + rk.data(rng.integers(0, 30, 40).astype(float), lot)) * load).sum())
    model.require("once", load.sum(van) <= 1)
    model.require("carries", (weight * load).sum(lot) <= 200)
    plan = model.solve(node_limit=20, cores=1)
    ax = plan.draw_history()
    history, (low, high) = plan.history, ax.get_ylim()
    assert low < history["best"].iloc[-1] <= history["bound"].iloc[-1] < high
    assert history["bound"].iloc[0] > 2 * high
    assert "not shown" in words(ax)
