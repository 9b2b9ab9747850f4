"""Whatever the model, every question about it is answered in text and HTML, or refused with an error of ours."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import matplotlib.pyplot as plt
import numpy as np
import pandas as pd
import pytest

import ruddock as rk

LABELS = ["Fell", "<i>Mere</i>", "Gorse, low"]


def any_model(seed: int) -> rk.Model:
    """Return a small model of random families, kinds, bounds, objectives and limits; many have no plan, or no best one."""
    rng = np.random.default_rng(seed)
    place = rk.Axis("place", LABELS[: rng.integers(1, 4)])
    week = rk.Axis("week", range(1, int(rng.integers(2, 9))) if rng.random() < 0.5 else ["Jan", "Feb", "Mar", "Apr"])
    model, sums = rk.Model("Any"), []
    for j in range(rng.integers(1, 4)):
        kind = str(rng.choice(["continuous", "continuous", "integer", "binary", "semicontinuous"]))
        upper = None if rng.random() < 0.2 and kind != "semicontinuous" else float(rng.integers(3, 9))
        bounds: dict[str, Any] = {} if kind == "binary" else {"lower": float(kind == "semicontinuous"), "upper": upper}
        if kind == "continuous" and rng.random() < 0.1:
            bounds["lower"] = None
        axes = [place, week][int(rng.integers(0, 2)) : int(rng.integers(0, 3))]
        family = model.decide(f"x{j}", *axes, kind=kind, unit=str(rng.choice(["£", "kg"])), **bounds)  # type: ignore[arg-type]
        sums.append(family.sum() if axes else family + 0)

    def mixed(low: int, high: int) -> rk.Expression:
        return sum(
            (float(rng.integers(low, high)) * part for part in sums[1:]), float(rng.integers(low, high)) * sums[0]
        )

    for i in range(rng.integers(1, 4)):
        left, limit = mixed(-1, 4), float(rng.integers(-2, 20))
        model.require(f"c{i}", left <= limit if rng.random() < 0.7 else left >= limit)
    if rng.random() < 0.3:
        model.quantity("all", sum(sums[1:], sums[0]), unit="kg")
    for o in range(rng.integers(0, 3)):
        (model.maximize if rng.random() < 0.6 else model.minimize)(f"goal{o}", mixed(-3, 5), unit="£")
    return model


def told(result: Any) -> None:
    assert str(result).strip()
    assert "<i>" not in result._repr_html_()


def drawn(result: Any) -> None:
    told(result)
    assert result.draw().get_figure() is not None


def questions(model: rk.Model, folder: Path) -> dict[str, Callable[[], None]]:
    """Return what may be asked of a model."""
    goals = [objective.name for objective in model.formulation().objectives]
    several = len(goals) > 1
    changes = pd.DataFrame({"c0": ["+1", "-5", 3]})
    return {
        "plan": lambda: told(model.solve()),
        "check": lambda: told(model.check()),
        "describe": lambda: told(model.describe()),
        "page": lambda: model.solve().report(folder / "plan.html"),
        "workbook": lambda: model.solve().report(folder / "plan.xlsx"),
        "bars": lambda: model.solve().draw_bars("x0"),
        "schedule": lambda: model.solve().draw_schedule("x0"),
        "history": lambda: model.solve().draw_history(),
        "region": lambda: drawn(model.region()),
        "frontier": lambda: drawn(model.tradeoff(*goals, points=3)) if several else None,
        "scenarios": lambda: drawn(model.scenarios(changes)),
        "what if": lambda: told(model.what_if({"c0": "+1"})),
        "before and after": lambda: model.what_if({"c0": "+1"}).draw_bars("x0"),
        "moves": lambda: drawn(model.what_if({"c0": "+1"})),
        "sensitivity": lambda: told(model.solve().sensitivity()),
        "ranges": lambda: drawn(model.solve().sensitivity()),
        "others": lambda: told(model.solve().alternatives(2)),
        "sweep": lambda: drawn(model.sweep("c0", -2, 9)),
        "reach": lambda: told(model.reach("c0", objective=5.0)),
        "appraise": lambda: told(model.appraise(dict.fromkeys(model.formulation().decision_names, 1.0))),
        "diagnose": lambda: told(model.diagnose(time_limit=5)),
        "clash": lambda: drawn(model.diagnose(time_limit=5)),
    }


@pytest.mark.parametrize("seed", range(16))
def test_every_question_is_answered_or_refused_in_words(seed: int, tmp_path: Path) -> None:
    model = any_model(seed)
    answered, refused = set(), {}
    for name, ask in questions(model, tmp_path).items():
        try:
            ask()
            answered.add(name)
        except rk.RuddockError as error:
            refused[name] = str(error)
        plt.close("all")
    assert all(len(words) > 15 for words in refused.values()), refused
    assert {"plan", "check", "describe", "page", "workbook", "diagnose", "appraise"} <= answered
    if model.solve().found:
        assert {"what if", "sensitivity", "others"} <= answered, refused
