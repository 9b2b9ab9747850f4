"""Every slip has its own message: what was written, what is known, what to do."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pandas as pd
import pytest

import ruddock as rk

apiary = rk.Axis("apiary", ["Fell", "Mere", "Gorse"])
market = rk.Axis("market", ["Quay", "Abbey"])


class Setting:
    """A model with two families and a table of costs."""

    def __init__(self) -> None:
        self.model = rk.Model("slips")
        self.ship = self.model.decide("ship", apiary, market)
        self.used = self.model.decide("used", apiary, kind="binary")
        self.haul = rk.data(np.ones((3, 2)), apiary, market)


MODEL_SLIPS: dict[str, tuple[Callable[[Setting], object], str]] = {
    "silent repeat": (lambda s: s.haul * s.ship + s.used, r"no market axis; summed over market it would count 2 times"),
    "repeat by a scalar": (lambda s: s.ship + s.used.sum(), r"sum the other side first, or say .repeat"),
    "product": (lambda s: s.ship * s.used, "an expression times an expression is not linear"),
    "quotient": (lambda s: 3 / s.ship, "division by an expression is not linear"),
    "power": (lambda s: s.ship**2, "not linear"),
    "truth": (lambda s: bool(s.ship <= 3), r"neither true nor false: give it to model.require"),
    "chain": (lambda s: 3 <= s.ship <= 5, r"write expr.between\(low, high\)"),
    "if expression": (lambda s: bool(s.ship), "neither true nor false"),
    "strict": (lambda s: s.ship < 3, "write <="),
    "not equal": (lambda s: s.ship != 3, "is not a linear relation"),
    "twice": (lambda s: s.model.decide("ship"), r"name 'ship' is taken by decisions .* model.remove\('ship'\)"),
    "bad name": (lambda s: s.model.decide("2x"), "a name is a letter, then letters"),
    "kind": (lambda s: s.model.decide("z", kind="interger"), r"'interger' is not a kind of decision; did you mean 'integer'"),
    "binary bounds": (lambda s: s.model.decide("z", kind="binary", upper=3), "a binary decision is 0 or 1"),
    "semicontinuous at 0": (lambda s: s.model.decide("z", kind="semicontinuous", upper=3), "0 or at least its lower"),
    "no axis": (lambda s: s.ship.sum("aipary"), r"'aipary' is not an axis here; the axes are apiary, market"),
    "unknown part": (lambda s: s.model["shp"], "did you mean 'ship'"),
    "too few labels": (lambda s: s.ship["Fell"], r"2 axes \(apiary, market\) and 1 labels are given"),
    "not summed": (lambda s: s.model.minimize("z", s.ship), "still runs over apiary, market; add .sum"),
    "empty objective": (lambda s: s.model.minimize("z"), "is empty"),
    "no expression": (lambda s: s.model.require("z", s.haul <= 3), "holds no decision"),
    "plain truth": (lambda s: s.model.require("z", 2 <= 3), "was a decision left out"),
    "forgotten relation": (lambda s: s.model.require("z", s.ship), "a relation such as"),
    "array": (lambda s: np.ones(3) * s.ship, r"an array has no labels: hold it against axes first"),
    "other axis": (lambda s: pd.Series([1.0], pd.Index(["Fell"], name="aipary")) * s.ship, "not an axis used here; did you mean"),
    "no index name": (lambda s: pd.Series([1.0], ["Fell"]) * s.ship, "have no name: name them like an axis"),
    "other model": (lambda s: s.ship + Setting().ship, "another model that is called 'slips' too"),
    "two axes of one name": (lambda s: s.ship * rk.data(1, rk.Axis("market", ["Quay"])), "two different axes are called"),
    "bound with more axes": (lambda s: s.model.decide("z", apiary, upper=s.haul), "the bound has the axis market"),
    "loop over it": (lambda s: list(s.ship), "cannot be looped over"),
    "total of families": (lambda s: rk.total([s.ship]), r"total\(\) adds scalars"),
    "rename onto itself": (lambda s: s.ship.rename(market=apiary), "is not a label|are not labels|twice"),
    "wrong start": (lambda s: s.ship.previous(market, start="warp"), "'cyclic', not 'warp'"),
    "time limit": (lambda s: s.model.solve(time_limit=-1), "time_limit must be 0 or more"),
    "time limit as text": (lambda s: s.model.solve(time_limit="20"), "time_limit is a number, not '20'; write time_limit=20"),
    "gap": (lambda s: s.model.solve(gap=5), "a share from 0 to 1"),
    "option": (lambda s: s.model.solve(time_limt=5), "'time_limt' is not an option; did you mean 'time_limit'"),
    "absolute value": (lambda s: abs(s.ship - 3), "require d >= e and d >= -e"),
    "smaller than": (lambda s: max(s.used["Fell"], s.used["Mere"]), "min, max and sorted compare like this too"),
    "one relation": (lambda s: rk.either(s.ship <= 3), "two relations or more"),
    "what_if of nothing": (lambda s: s.model.what_if({"ship[Fell,Quay]": 3}), "is a decision, which the model chooses"),
    "axis of a frame": (lambda s: rk.Axis("site", pd.DataFrame({"site": [1]})), "not a whole table"),
    "bound as text": (lambda s: s.model.decide("z", apiary, upper="3"), "upper= is a number or data, not str"),
    "bound missing": (lambda s: s.model.decide("z", apiary, upper={"Fell": 3}), r"fill=float\('inf'\)\) if there is no upper"),
    "three objectives": (lambda s: s.model.tradeoff("a", "b", "c"), "needs a model with two objectives"),
    "declared later": (lambda s: s.model.solve()[s.model.decide("late")], "declared after this model was solved"),
    "plan of a family": (lambda s: s.model.solve()[3], "asked for decisions"),
    "rule as a quantity": (lambda s: s.model.quantity("q", s.ship <= 3), "an expression of decisions, not Relation"),
    "foreign quantity": (lambda s: s.model.quantity("q", Setting().ship), "another model of the same name"),
    "foreign plan": (lambda s: s.model.solve()[Setting().ship], "another model"),
    "foreign objective": (lambda s: s.model.maximize("q", Setting().ship.sum()), "another model"),
    "part name": (lambda s: s.model.minimize("q", parts={"two words": s.ship.sum()}), "a name is a letter"),
    "overflow": (lambda s: (s.model.require("c", s.ship * 1e200 * 1e200 <= 1), s.model.problem()), r"c\[Fell,Quay\]: the coefficient of ship\[Fell,Quay\] is inf; numbers from"),
    "infinite constant": (lambda s: s.model.minimize("q", s.ship.sum() + float("inf")), "must be finite"),
}  # fmt: skip

HUGE = rk.data(dict.fromkeys(apiary, 1e301), apiary)
ENDLESS = rk.data(dict.fromkeys(apiary, float("inf")), apiary)
DATA_SLIPS: dict[str, tuple[Callable[[Setting], object], str]] = {
    "unknown label": (lambda s: rk.data({"Fel": 3}, apiary), "'Fel' is not a label of axis apiary; did you mean 'Fell'"),
    "missing label": (lambda s: s.ship * rk.data({"Fell": 3}, apiary), "needed and not given: Mere, Gorse.*fill="),
    "missing limit": (lambda s: s.used <= rk.data({"Fell": 3}, apiary), "needed and not given: Mere, Gorse"),
    "duplicate": (lambda s: rk.data(pd.Series([1, 2], ["Fell", "Fell"]), apiary), "more than once: Fell"),
    "not a number": (lambda s: rk.data({"Fell": 1, "Mere": np.nan, "Gorse": 2}, apiary), "Mere is NaN"),
    "text": (lambda s: rk.data({"Fell": 1, "Mere": "two"}, apiary), "it is text"),
    "shape": (lambda s: rk.data(np.ones((2, 3)), apiary, market), r"shape \(2, 3\), the axes have \(3, 2\)"),
    "key length": (lambda s: rk.data({("Fell", "Quay"): 1}, apiary), "2 labels for 1 axes"),
    "crossed bounds": (lambda s: s.model.decide("z", apiary, lower=5, upper=3), r"z\[Fell\]: the lower bound 5 is above"),
    "twice in an axis": (lambda s: rk.Axis("z", ["a", "b", "a"]), "more than once: a"),
    "one text": (lambda s: rk.Axis("z", "abc"), "a list of labels"),
    "missing axis label": (lambda s: rk.Axis("z", ["a", None]), "label number 2 is missing"),
    "label": (lambda s: s.ship["Fell", "Abby"], "no label 'Abby'; did you mean 'Abbey'"),
    "division by zero": (lambda s: s.ship / rk.data({"Fell": 1, "Mere": 0, "Gorse": 1}, apiary), "holds a zero"),
    "long table": (
        lambda s: rk.data(pd.DataFrame({"apiary": ["Fell"], "x": [1], "y": [2]}), apiary), "one column of values"
    ),
    "infinite factor": (lambda s: s.ship * float("inf"), "a coefficient must be finite"),
    "a bound beyond all": (lambda s: s.model.decide("far", lower=1e21), "far: numbers of 1e20 and beyond count as"),
    "a limit beyond all": (lambda s: s.model.require("far", s.ship.sum() >= 1e21), "far: numbers of 1e20 and beyond"),
    "a constant beyond all": (lambda s: s.model.require("far", (s.ship + 1e308).sum() >= 1), "far: numbers of 1e20 and beyond"),
    "overflow of data": (lambda s: (HUGE * HUGE.at(apiary="Fell")), "the result for Fell is too large for a number"),
    "overflow of a sum": (lambda s: (HUGE * 1e7).sum(), "the result is too large for a number"),
    "unlimited less unlimited": (lambda s: round(ENDLESS - ENDLESS), "the result for Fell has no value"),
    "unlimited constant": (lambda s: s.ship.sum() + ENDLESS, "what is added to an expression must be finite"),
    "NaN factor": (lambda s: s.ship * float("nan"), "NaN"),
    "text for a number": (lambda s: rk.data({"3": 1}, rk.Axis("n", [1, 2, 3])), "there the label is a number, 3, and you gave text"),
    "dates": (lambda s: rk.data({"Fell": pd.Timestamp("2026-01-01")}, apiary), "is not a number; turn it into one"),
    "durations": (lambda s: rk.data(pd.Series(pd.to_timedelta([1, 2, 3], unit="h"), list(apiary)), apiary), "is not a number"),
    "complex": (lambda s: rk.data({"Fell": 1 + 2j}, apiary), "imaginary part would be lost"),
    "same text": (lambda s: rk.Axis("z", [1, "1"]), "labels 1 and '1' read the same"),
    "partial date": (
        lambda s: rk.Axis("hour", pd.date_range("2026-01-01", periods=30, freq="h")).code("2026-01-01"), "covers 24 labels",
    ),
    "half named": (
        lambda s: rk.data(pd.DataFrame(np.ones((3, 3)), pd.Index(list(apiary), name="z"), list(apiary)),
                          *(rk.Axis(n, apiary) for n in ("a", "b"))).at(a="Fell").at(b="no"), "no label 'no'",
    ),
}  # fmt: skip


@pytest.mark.parametrize("slip", MODEL_SLIPS)
def test_slips_in_the_formulation(slip: str) -> None:
    write, message = MODEL_SLIPS[slip]
    with pytest.raises((rk.ModelError, rk.DataError), match=message):
        write(Setting())


@pytest.mark.parametrize("slip", DATA_SLIPS)
def test_slips_in_the_data(slip: str) -> None:
    write, message = DATA_SLIPS[slip]
    with pytest.raises(rk.DataError, match=message):
        write(Setting())


def test_a_dropped_decision_is_missed_by_name() -> None:
    s = Setting()
    s.model.require("cap", s.ship.sum() <= 3)
    s.model.remove("ship")
    with pytest.raises(rk.ModelError, match="the constraint 'cap' uses decisions that are not in the model"):
        s.model.solve()
    s.model.remove("cap")
    s.model.minimize("open", s.used.sum())
    assert s.model.solve().objective == 0
    again = s.model.decide("ship", apiary)
    s.model.require("cap", again >= 2)
    assert s.model.solve()[again].tolist() == [2, 2, 2]
    with pytest.raises(rk.ModelError, match="not in the model"):
        s.model.solve().value(s.ship)
