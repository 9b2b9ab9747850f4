"""Small models of every feature, each from a seed: numbers and flags, so that a changed number is a model built anew."""

from __future__ import annotations

import copy
import json
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

import ruddock as rk

PLAIN = ("Fell", "Mere", "Gorse", "jars", "early", "late")
NASTY = ("a,b", '[x"y]', "or then <= 2", "sum", "£ 1:2", "=1+1")  # the same places, names that could be read as more


AMOUNTS = {
    "stock",
    "need",
    "rent",
    "cap",
    "extra_lower",
    "extra_upper",
    "least",
    "side",
    "before",
    "step",
    "room_low",
    "room_high",
}


@dataclass
class Case:
    """A week of haulage: stocks by apiary, needs by day, and whatever the seed adds.

    Attributes
    ----------
    numbers : by name, a number or an array over the apiaries, the days or both
    flags : what the model has
    labels : three apiaries, a title for the extra decision, two days
    scale : how large the unit of all amounts is: those of the model are so many times the numbers
    """

    numbers: dict[str, np.ndarray]
    flags: dict[str, bool]
    labels: tuple[str, ...] = PLAIN
    kinds: dict[str, str] = field(default_factory=dict)
    scale: float = 1.0

    def changed(self, name: str, at: tuple[int, ...], value: float, *, factor: bool = False) -> Case:
        """Return the case with a number in another place, or all of an array by one factor."""
        numbers = copy.deepcopy(self.numbers)
        if factor:
            numbers[name] = numbers[name] * value
        elif numbers[name].ndim and not at:
            numbers[name] = np.full_like(numbers[name], value)
        else:
            numbers[name][at] = value
        return Case(numbers, self.flags, self.labels, self.kinds, self.scale)

    def build(self) -> rk.Model:
        """Return the model."""
        has, s = self.flags, self.scale
        n = {name: value * (s if name in AMOUNTS else 1.0) for name, value in self.numbers.items()}
        site = rk.Axis("site", list(self.labels[:3]))
        day = rk.Axis("day", list(self.labels[4:]))
        model = rk.Model(f"Haulage of {self.labels[0]}")
        lanes = rk.data(n["lanes"], site, day)
        kind = self.kinds.get("ship", "integer" if has["whole"] else "continuous")
        ship = model.decide("ship", site, day, upper=float(n["cap"]), kind=kind, only=lanes, unit="crate")  # type: ignore[arg-type]
        extra = model.decide("extra", lower=float(n["extra_lower"]), upper=float(n["extra_upper"]))
        stock, need = rk.data(n["stock"], site), rk.data(n["need"], day)
        haul = rk.data(n["haul"], site, day)
        parts = {"haulage": (haul * ship).sum(), "extra_cost": float(n["extra_cost"]) * extra}
        used = None
        if has["used"]:
            used = model.decide("used", site, kind="binary")
            parts["rent"] = (rk.data(n["rent"], site) * used).sum()
            # the smaller side is written first: as written it stays ``>=``
            model.require("open", stock * used >= ship.sum(day))
            model.require("least", rk.when(used, ship.sum(day) >= float(n["least"])))
        model.require("supply", ship.sum(day) <= stock)
        demand = ship.sum(site) + 0.5 * extra.repeat(day)
        model.require("demand", need <= demand if has["turned"] else demand >= need)
        if has["either"]:
            model.require("side", rk.either(ship.sum(site).at(day=self.labels[4]) >= float(n["side"]), extra >= 3 * s))
        if has["previous"]:
            total = ship.sum(site)
            model.require("steady", total <= total.previous(day, start=float(n["before"])) + float(n["step"]))
        if has["range"]:
            model.require("room", ship.sum().between(float(n["room_low"]), float(n["room_high"])))
        if has["curve"]:
            corners = [(0, 0), (4 * s, float(n["fare"]) * s), (4 * s, (float(n["fare"]) / 2 + 3) * s), (40 * s, 60 * s)]
            parts["fares"] = model.curve("fares", ship.sum(day), corners).sum()
        model.quantity("sent", ship.sum(day), unit="crate")
        if has["maximize"]:
            income = (float(n["price"]) * ship).sum()
            model.maximize("margin", income - sum(parts.values()), unit="£")
        else:
            model.minimize("margin", parts=parts, unit="£")
        if has["several"]:
            model.minimize("handled", ship.sum() + extra)
        return model


def case(seed: int, scale: float = 1.0, **flags: bool) -> Case:
    """Return a case; flags given are set, the others are by chance."""
    rng = np.random.default_rng([seed, 77])
    names = ("whole", "used", "turned", "either", "previous", "range", "curve", "maximize", "several")
    chance = (0.4, 0.5, 0.5, 0.25, 0.3, 0.4, 0.3, 0.4, 0.3)
    has = {name: bool(rng.random() < share) for name, share in zip(names, chance, strict=True)}
    has["whole"] &= scale == 1.0  # a search through millions of integers is another matter
    lanes = (rng.random((3, 2)) < 0.8).astype(float)
    lanes[0] = 1.0
    numbers = {
        "lanes": lanes,
        "stock": rng.integers(3, 14, 3).astype(float),
        "need": rng.integers(2, 9, 2).astype(float),
        "haul": rng.integers(1, 9, (3, 2)).astype(float),
        "rent": rng.integers(1, 12, 3).astype(float),
    }
    single = {"cap": (4, 12), "extra_lower": (0, 2), "extra_upper": (3, 9), "extra_cost": (1, 12), "least": (1, 5),
              "side": (1, 9), "before": (2, 9), "step": (0, 4), "room_low": (2, 8), "room_high": (9, 20), "fare": (4, 9),
              "price": (2, 12)}  # fmt: skip
    numbers |= {name: np.array(float(rng.integers(low, high))) for name, (low, high) in single.items()}
    return Case(numbers, has | flags, scale=scale)


@dataclass(frozen=True)
class Twist:
    """A change in words of the model, and the same change of the case."""

    words: str
    what: str  # what a sweep moves
    case: Callable[[Case, float], Case]
    value: float


def twists(one: Case, seed: int) -> list[Twist]:
    """Return changes that suit a case."""
    rng = np.random.default_rng([seed, 78])
    i = int(rng.integers(0, 3))
    site, day = (
        json.dumps(one.labels[k], ensure_ascii=False) if one.labels is NASTY else one.labels[k] for k in (i, 4)
    )

    def number_of(name: str, at: tuple[int, ...] = (), factor: bool = False) -> Callable[[Case, float], Case]:
        unit = one.scale if name in AMOUNTS and not factor else 1.0
        return lambda old, value: old.changed(name, at, value / unit, factor=factor)

    def twist(what: str, case: Callable[[Case, float], Case], low: int, high: int) -> Twist:
        value = float(rng.integers(low, high)) * (1.0 if what.startswith("extra_cost") else one.scale)
        return Twist(f"{what}={value:.15g}", what, case, value)

    factor = float(rng.choice([0.5, 0.75, 1.25, 1.5]))
    found = [
        twist(f"supply[{site}]", number_of("stock", (i,)), 0, 20),
        twist(f"demand[{day}]", number_of("need", (0,)), 0, 14),
        twist("ship.upper", number_of("cap"), 2, 20),
        twist("extra.upper", number_of("extra_upper"), 2, 12),
        Twist(f"demand*={factor:g}", "demand*", number_of("need", factor=True), factor),
    ]
    if not one.flags["maximize"]:
        found.append(twist("extra_cost.extra", number_of("extra_cost"), 0, 14))
    if one.flags["range"]:
        found.append(twist("room.upper", number_of("room_high"), 8, 30))
    if one.flags["used"]:
        # stock stands in two constraints, so its limit alone is not the data
        found = [t for t in found if not t.what.startswith("supply")]
    return found
