"""Ways to write the same problem differently: each keeps the optimum, or changes it in a way that is known."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from scipy import sparse

from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.problem import SEMICONTINUOUS, Floats, Problem
from tests.generators import STRUCTURES, inf, random_lp
from tests.integer_problems import STRUCTURES as WHOLE
from tests.integer_problems import enumerated, integer_problem

Back = Callable[[float], float]  # an objective value of the other problem to that of the first
Way = Callable[[Problem, np.random.Generator], tuple[Problem, Back]]


def _same(value: float) -> float:
    return value


def _power(rng: np.random.Generator, size: int | None = None) -> Floats:
    """Return powers of ten from 1e-12 to 1e12, half of them 1."""
    return 10.0 ** (rng.integers(-12, 13, size) * (rng.random(size) < 0.5))


def _with(p: Problem, matrix: object, **changes: object) -> Problem:
    parts = {
        name: getattr(p, name) for name in ("row_lower", "row_upper", "lower", "upper", "costs", "kinds", "offset")
    }
    return Problem.build(matrix, **{**parts, **changes})  # type: ignore[arg-type]


def permuted(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    rows, columns = rng.permutation(p.m), rng.permutation(p.n)
    matrix = p.matrix()[rows][:, columns]
    return _with(
        p, matrix, row_lower=p.row_lower[rows], row_upper=p.row_upper[rows], lower=p.lower[columns],
        upper=p.upper[columns], costs=p.costs[columns], kinds=p.kinds[columns],
    ), _same  # fmt: skip


def rows_scaled(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    size = _power(rng, p.m)
    return _with(p, sparse.diags(size) @ p.matrix(), row_lower=p.row_lower * size, row_upper=p.row_upper * size), _same


def columns_scaled(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    """Give continuous columns other units, up to a thousandth or a thousand."""
    size = np.where(p.kinds == 0, 10.0 ** rng.integers(-3, 4, p.n), 1.0)
    return _with(
        p, p.matrix() @ sparse.diags(size), lower=p.lower / size, upper=p.upper / size, costs=p.costs * size
    ), _same  # fmt: skip


def objective_scaled(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    size = float(_power(rng))
    return replace(p, costs=p.costs * size, offset=p.offset * size), lambda value: value / size


def offset(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    """Add a constant so large that little is seen beside it; plans are compared, so that nothing is lost."""
    constant = float(rng.choice([-1.0, 1.0])) * 10.0 ** int(rng.integers(0, 16))
    return replace(p, offset=p.offset + constant), lambda value: value - constant


def turned(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    """Write some columns and rows with the other sign."""
    sign, row_sign = rng.choice([-1.0, 1.0], p.n), rng.choice([-1.0, 1.0], p.m)
    ends = np.array([p.lower * sign, p.upper * sign])
    limits = np.array([p.row_lower * row_sign, p.row_upper * row_sign])
    return _with(
        p, sparse.diags(row_sign) @ p.matrix() @ sparse.diags(sign), lower=ends.min(0), upper=ends.max(0),
        row_lower=limits.min(0), row_upper=limits.max(0), costs=p.costs * sign,
    ), _same  # fmt: skip


def split(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    """Write a column as the sum of two, each within half of what bounds leave."""
    usable = np.flatnonzero(((p.kinds & SEMICONTINUOUS) == 0) & np.isfinite(p.lower))
    if not len(usable):
        return p, _same
    j = int(rng.choice(usable))
    half = np.floor(p.lower[j] / 2), p.lower[j] - np.floor(p.lower[j] / 2)
    room = p.upper[j] - p.lower[j]
    more = np.floor(room / 2) if np.isfinite(room) else inf
    return _with(
        p, sparse.hstack([p.matrix(), p.matrix()[:, [j]]]),
        lower=np.append(_put(p.lower, j, half[0]), half[1]),
        upper=np.append(_put(p.upper, j, half[0] + more), half[1] + (room - more if np.isfinite(room) else inf)),
        costs=np.append(p.costs, p.costs[j]), kinds=np.append(p.kinds, p.kinds[j]),
    ), _same  # fmt: skip


def _put(values: Floats, j: int, value: float) -> Floats:
    values = values.copy()
    values[j] = value
    return values


def rows_twice(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    rows = np.flatnonzero(rng.random(p.m) < 0.5)
    again = np.concatenate((np.arange(p.m), rows))
    return _with(p, p.matrix()[again], row_lower=p.row_lower[again], row_upper=p.row_upper[again]), _same


def far_bounds(p: Problem, rng: np.random.Generator) -> tuple[Problem, Back]:
    """Write bounds of up to 1e30 where there are none."""
    size = 10.0 ** rng.integers(8, 31, p.n)
    free = rng.random(p.n) < 0.7
    return replace(
        _with(p, p.matrix(), upper=np.where(np.isinf(p.upper) & free, size, p.upper)), offset=p.offset
    ), _same  # fmt: skip


WAYS: dict[str, Way] = {
    way.__name__: way
    for way in (
        permuted, rows_scaled, columns_scaled, objective_scaled, offset, turned, split, rows_twice, far_bounds,
    )
}  # fmt: skip


def otherwise(problem: Problem, seed: int, without: Sequence[str] = ()) -> tuple[Problem, Back, list[str]]:
    """Return a problem written differently in up to four ways, and what they were."""
    rng = np.random.default_rng(seed)
    usable = [name for name in WAYS if name not in without]
    names = [str(name) for name in rng.choice(usable, int(rng.integers(1, 5)), replace=False)]
    backs: list[Back] = []
    for name in names:
        problem, back = WAYS[name](problem, rng)
        backs.append(back)

    def back(value: float) -> float:
        for one in reversed(backs):
            value = one(value)
        return value

    return problem, back, names


def agree(value: float, outcome_value: float, back: Back, share: float = 1e-7) -> bool:
    """Say whether two objective values are the same, as far as a large constant lets the second one be known."""
    found = back(outcome_value)
    lost = abs(back(outcome_value + 4 * float(np.spacing(abs(outcome_value)))) - found)
    return abs(found - value) <= share * max(1.0, abs(value)) + lost


def linear_case(seed: int) -> tuple[Problem, Options]:
    """Return a linear problem, and how to solve it once it is written otherwise."""
    wish = ("optimal", "optimal", "infeasible", "unbounded")[seed // 10 % 4]
    size = ((5, 8), (12, 18), (25, 40))[seed % 3]
    ways = [Options(method="auto"), Options(method="primal"), Options(method="dual"), Options(method="interior")]
    return random_lp(STRUCTURES[seed % len(STRUCTURES)], seed, *size, wish), [*ways, Options(exact=True)][seed % 5]


def linear_invariance(seed: int) -> str:
    """Solve a linear problem as it is and otherwise; return what is wrong, or nothing."""
    problem, way = linear_case(seed)
    plain = solve(problem, Limits(seconds=60))
    # with far bounds in place of none, what was unbounded is not the same problem
    other, back, names = otherwise(problem, seed, without=("far_bounds",) if plain.status == "unbounded" else ())
    found = solve(other, Limits(seconds=60), way)
    if found.status != plain.status:
        return f"{seed} {names} by {way.method}: {found.status} {found.reason}, not {plain.status}"
    if plain.status == "optimal" and not agree(plain.objective, found.objective, back):
        return f"{seed} {names} by {way.method}: {back(found.objective)}, not {plain.objective}"
    return ""


def integer_invariance(seed: int) -> str:
    """Solve an integer problem otherwise, and compare with enumeration; return what is wrong, or nothing."""
    problem = integer_problem(WHOLE[seed % len(WHOLE)], seed)
    best = enumerated(problem)
    other, back, names = otherwise(problem, seed)
    found = solve(other, Limits(seconds=60), Options(cores=1))
    expected = "infeasible" if best == inf else "optimal"
    if found.status != expected:
        return f"{seed} {names}: {found.status} {found.reason}, not {expected}"
    if best < inf and not agree(best, found.objective, back, 1e-6):
        return f"{seed} {names}: {back(found.objective)}, not {best}"
    return ""
