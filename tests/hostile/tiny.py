"""Tiny models of every kind of column and row, with exact answers by enumeration, asked through every form and method.

A problem is small enough to be solved by trying all: every combination of what its discrete columns may be, and for the
rest every vertex, in rational numbers. Nothing of the engine is used for that.
"""

from __future__ import annotations

import math
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations, product
from pathlib import Path
from typing import Any

import numpy as np

import ruddock as rk

FORMS = ("", "rdk", "json", "mps", "mps.gz", "csv", "xlsx", "ods")
METHODS = ("auto", "dual", "primal", "interior")
FAR = Fraction(10**12)  # a box so large that no vertex of the problem is near it
Row = tuple[list[Fraction], Fraction | None, Fraction | None]


@dataclass
class Tiny:
    """``min costs x`` over rows and columns with limits, None for none; kinds are words of the model."""

    costs: list[Fraction]
    rows: list[Row]
    lower: list[Fraction | None]
    upper: list[Fraction | None]
    kinds: list[str]
    maximize: bool


def tiny(seed: int) -> Tiny:
    """Return a problem of one to four columns and none to three rows, of numbers between 1e-3 and 1e7."""
    rng = np.random.default_rng([seed, 2026])

    def number(low: int, high: int) -> Fraction:
        return Fraction(int(rng.integers(low, high + 1))) / int(rng.choice([1, 1, 1, 2, 4]))

    n, m = int(rng.integers(1, 5)), int(rng.integers(0, 4))
    wide = rng.random() < 0.3
    scale = [Fraction(10) ** int(rng.integers(-1, 4)) if wide else Fraction(1) for _ in range(n)]
    lower: list[Fraction | None] = []
    upper: list[Fraction | None] = []
    kinds = []
    for _ in range(n):
        kind = str(rng.choice(["continuous", "continuous", "integer", "binary", "semicontinuous"]))
        low, span = number(-3, 3), number(0, 4)
        if kind == "binary":
            low, high = Fraction(0), Fraction(1)
        elif kind == "semicontinuous":
            low = abs(low) or Fraction(1, 4)
            high = low + span + Fraction(1, 2)
        else:
            high = low + span
        ends: list[Fraction | None] = [low, high]
        if kind == "continuous":
            ends = [None if rng.random() < 0.15 else low, None if rng.random() < 0.25 else high]
        lower.append(ends[0])
        upper.append(ends[1])
        kinds.append(kind)
    rows: list[Row] = []
    for _ in range(m):
        factor = Fraction(10) ** int(rng.integers(-2, 5)) if wide else Fraction(1)
        line = [number(-4, 6) * scale[j] if rng.random() < 0.75 else Fraction(0) for j in range(n)]
        limit, kind = number(-6, 12) * scale[int(rng.integers(0, n))], rng.random()
        low = None if kind < 0.4 else limit
        high = limit if kind < 0.4 or kind > 0.85 else limit + number(1, 6) if kind > 0.7 else None
        rows.append(([a * factor for a in line], *(None if end is None else end * factor for end in (low, high))))
    costs = [number(-5, 7) * (scale[j] if rng.random() < 0.7 else 1) for j in range(n)]
    return Tiny(costs, rows, lower, upper, kinds, bool(rng.random() < 0.5))


def enumerated(one: Tiny) -> tuple[str, Fraction]:
    """Return the status, and the best objective of an optimal one."""
    best: Fraction | None = None
    for choice in product(*(list(_choices(one, j)) for j in range(len(one.costs)))):
        status, value = _rest(one, list(choice))
        if status == "unbounded":
            return "unbounded", Fraction(0)
        if status == "optimal" and (best is None or value < best):
            best = value
    return ("infeasible", Fraction(0)) if best is None else ("optimal", -best if one.maximize else best)


def _choices(one: Tiny, j: int) -> Iterator[tuple[Fraction | None, Fraction | None]]:
    """Yield the limits between which a column is continuous, one pair for each of its discrete values."""
    low, high = one.lower[j], one.upper[j]
    if one.kinds[j] in ("integer", "binary"):
        assert low is not None and high is not None
        yield from ((Fraction(v), Fraction(v)) for v in range(math.ceil(low), math.floor(high) + 1))
        return
    yield low, high
    if one.kinds[j] == "semicontinuous":
        yield Fraction(0), Fraction(0)


def _rest(one: Tiny, ends: list[tuple[Fraction | None, Fraction | None]]) -> tuple[str, Fraction]:
    """Solve what is continuous by its vertices."""
    costs = [-c for c in one.costs] if one.maximize else one.costs
    free = [j for j, (low, high) in enumerate(ends) if low is None or low != high]
    held = {j: low for j, (low, _) in enumerate(ends) if j not in free}
    base = sum((costs[j] * (v or Fraction(0)) for j, v in held.items()), Fraction(0))
    walls: list[tuple[list[Fraction], Fraction]] = []  # a x <= b over the free columns
    cone: list[tuple[list[Fraction], Fraction]] = []
    for line, low, high in one.rows:
        moved = sum((line[j] * (v or Fraction(0)) for j, v in held.items()), Fraction(0))
        own = [line[j] for j in free]
        for end, sign in ((high, 1), (low, -1)):
            if end is not None:
                walls.append(([sign * a for a in own], sign * (end - moved)))
    for at, j in enumerate(free):
        unit = [Fraction(int(k == at)) for k in range(len(free))]
        low, high = ends[j]
        if high is not None:
            walls.append((unit, high))
        if low is not None:
            walls.append(([-u for u in unit], -low))
    cone = [(line, Fraction(0)) for line, _ in walls]
    objective = [costs[j] for j in free]
    value = _least(walls, objective, FAR)
    if value is None:
        return "infeasible", Fraction(0)
    downhill = _least(cone, objective, Fraction(1))
    if downhill is not None and downhill < 0:
        return "unbounded", Fraction(0)
    return "optimal", base + value


def _least(walls: list[tuple[list[Fraction], Fraction]], costs: list[Fraction], box: Fraction) -> Fraction | None:
    """Return the least value within walls and a box; None if nothing is within."""
    size = len(costs)
    if not size:
        return Fraction(0) if all(limit >= 0 for _, limit in walls) else None
    inside = list(walls)
    for k in range(size):
        unit = [Fraction(int(j == k)) for j in range(size)]
        inside += [(unit, box), ([-u for u in unit], box)]
    best: Fraction | None = None
    for chosen in combinations(inside, size):
        x = _meet(chosen)
        if x is None or any(
            sum((a * v for a, v in zip(line, x, strict=True)), Fraction(0)) > limit for line, limit in inside
        ):
            continue
        value = sum((c * v for c, v in zip(costs, x, strict=True)), Fraction(0))
        best = value if best is None or value < best else best
    return best


def _meet(walls: tuple[tuple[list[Fraction], Fraction], ...]) -> list[Fraction] | None:
    """Return where walls meet in one point, by elimination; None if they do not."""
    rows = [[*line, limit] for line, limit in walls]
    size = len(rows)
    for k in range(size):
        pivot = next((i for i in range(k, size) if rows[i][k]), None)
        if pivot is None:
            return None
        rows[k], rows[pivot] = rows[pivot], rows[k]
        rows[k] = [value / rows[k][k] for value in rows[k]]
        for i in range(size):
            if i != k and rows[i][k]:
                rows[i] = [a - rows[i][k] * b for a, b in zip(rows[i], rows[k], strict=True)]
    return [row[-1] for row in rows]


def built(one: Tiny) -> rk.Model:
    """Return the problem as a model, a decision and a constraint at a time."""
    model = rk.Model("Tiny")
    columns: list[Any] = []
    for j, kind in enumerate(one.kinds):
        low, high = (None if end is None else float(end) for end in (one.lower[j], one.upper[j]))
        bounds = {} if kind == "binary" else {"lower": low, "upper": high}
        columns.append(model.decide(f"x{j}", kind=kind, **bounds))  # type: ignore[arg-type]
    for i, (line, low, high) in enumerate(one.rows):
        left = sum((float(a) * x for a, x in zip(line, columns, strict=True) if a), 0 * columns[0])
        if low is not None and high is not None and low != high:
            model.require(f"r{i}", left.between(float(low), float(high)))
        elif low is not None:
            model.require(f"r{i}", left == float(low) if low == high else left >= float(low))
        else:
            assert high is not None
            model.require(f"r{i}", left <= float(high))
    goal = sum((float(c) * x for c, x in zip(one.costs, columns, strict=True)), 0 * columns[0])
    (model.maximize if one.maximize else model.minimize)("goal", goal)
    return model


def judged(seed: int, folder: Path) -> tuple[str, str]:
    """Solve one problem through a form and by a method of its seed; return what came, and what is wrong with it."""
    one = tiny(seed)
    status, best = enumerated(one)
    model = built(one)
    form = FORMS[seed % len(FORMS)]
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        warnings.simplefilter("ignore", rk.RuddockWarning)
        if form:
            path = folder / f"tiny.{form}"
            model.write(path)
            model = rk.read(path)
        how: dict[str, Any] = {"method": METHODS[seed // 8 % 4], "presolve": bool(seed // 32 % 2), "cores": 1}
        plan = model.solve(**how, time_limit=20)
    told = f"tiny {status}"
    if plan.status != status:
        return (
            told,
            f"{status}, and the answer is {plan.status} ({plan.reason}): seed {seed}, {form or 'Python'}, {how}",
        )
    size = max(Fraction(1), abs(best), *(abs(c) for c in one.costs))
    if status == "optimal" and abs(Fraction(plan.objective) - best) > size / 10**6:
        return told, f"{float(best)!r}, and the answer is {plan.objective!r}: seed {seed}, {form or 'Python'}, {how}"
    return told, ""
