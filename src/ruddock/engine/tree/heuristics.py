"""Early plans: the caller's start, rounding, diving, the feasibility pump, and searches near good plans.

Each has a budget, so that none holds the search up; what they find is judged on the problem as it is.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine.simplex.solver import LinearSolver
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.engine.outcome import Outcome
    from ruddock.engine.tree.node import Node
    from ruddock.engine.tree.search import TreeSearch

MOST_DIVES = 300  # relaxations solved in one dive
DIVE_EVERY = 100  # nodes between two dives while searching, until there is a plan
LATER_EVERY = 200  # and after
DIVE_SHARE = 0.2  # of all iterations that dives may take, beside a start
AT_ONCE, MANY = 0.2, 8  # share of the columns that a dive fixes together, if these are so many
PUMPS = 30  # rounds of the feasibility pump
NEAR_NODES = 200  # of one search near a plan
NEAR_EVERY = 50  # nodes between two of them
NEAR_SHARE = 0.3  # of all iterations that they may take, beside a start
NEAR_START = 5000
PATIENCE = 4  # such searches in vain after which their share is halved
FIXED_LEAST = 0.3  # of the integer columns that such a search must have fixed
FEW_CHANGES = 12  # of yes/no columns, within which another such search looks
POLISHED = 2000  # integer columns beyond which plans are not polished
DENSE = 1_000_000  # entries of rows and yes/no columns up to which pairs are exchanged


# ---------------------------------------------------------------------- when


def try_start(search: TreeSearch) -> None:
    """Take the caller's start plan; where it is not complete, or no plan, search for one near it."""
    start = search.options.start
    if start is None:
        return
    given = np.isfinite(start)
    domain = search.domain
    value = np.where(given, start, 0.0)
    if given[domain.integers].all() and given[domain.semis].all() and search.try_plan(value):
        return
    if not search.options.repair:
        return
    whole = domain.integers[given[domain.integers]]
    fixed = np.clip(np.round(start[whole]), domain.lower[whole], domain.upper[whole])
    if not _search_within(search, domain.lower, domain.upper, whole, fixed):
        _repair(search, whole, fixed)


def look_for_plans(search: TreeSearch, node: Node, outcome: Outcome, lower: Floats, upper: Floats) -> None:
    """Look for plans where it pays: at the root, and now and then."""
    if search.options.heuristics and outcome.x is not None:
        with search.part("early plans"):
            _look(search, node, outcome, lower, upper)


def _look(search: TreeSearch, node: Node, outcome: Outcome, lower: Floats, upper: Floats) -> None:
    assert outcome.x is not None
    x, root = outcome.x, node.depth == 0
    every = DIVE_EVERY if search.best is None else LATER_EVERY
    basis = search.solver.basis
    found = search.best_value
    begun = search.iterations
    if root or (search.own_nodes % every == 0 and search.dive_iterations < NEAR_START + DIVE_SHARE * begun):
        search.try_plan(round_by_locks(search, x))
        if not search.settled(outcome.objective):
            fix_and_propagate(search, x)
        kinds = ("fraction", "locks") if root else (("fraction", "locks", "guided")[search.own_nodes // every % 3],)
        for kind in kinds:
            if search.settled(outcome.objective):
                break
            if basis is not None:
                search.install(basis)
            dive(search, x, lower, upper, kind)
        if search.best is None and root:
            pump(search, x)
        search.dive_iterations += search.iterations - begun
    better = search.best_value < found or root or search.own_nodes % NEAR_EVERY == 0
    if search.best is not None and better and not search.settled(outcome.objective):
        polish(search)
        if not search.options.inner:
            near_plan(search, x)
    if basis is not None:
        search.install(basis)


# ---------------------------------------------------------------------- rounding and diving


def round_by_locks(search: TreeSearch, x: Floats) -> Floats:
    """Round each integer column to the side where fewer rows can break."""
    down, up = search.locks
    integers = search.domain.integers
    rounded = x.copy()
    value = x[integers]
    nearest = np.round(value)
    exact = np.abs(value - nearest) < 1e-9
    preferred = np.where(down[integers] < up[integers], np.floor(value), np.ceil(value))
    preferred = np.where(down[integers] == up[integers], nearest, preferred)
    rounded[integers] = np.where(exact, nearest, preferred)
    return np.clip(rounded, search.lower, search.upper)


def dive(search: TreeSearch, x: Floats, lower: Floats, upper: Floats, kind: str) -> None:
    """Fix one column after another, propagating and solving each time, until a plan is found or not.

    ``fraction`` takes what is nearest to whole, ``locks`` what few rows keep from being rounded, ``guided`` what is
    nearest to the best plan. Bounds are left changed in the solver; the search sets its own before the next node.
    """
    lower, upper = lower.copy(), upper.copy()
    share = AT_ONCE
    for _ in range(MOST_DIVES):
        columns = search.domain.violated(x)
        if not len(columns):
            search.try_plan(x)
            return
        if search.limit() is not None:
            return
        batch = _fixed_together(search, x, (lower, upper), columns, share, kind)
        if batch is not None:
            outcome = search.relax(*batch)
            if outcome.status == "optimal" and outcome.x is not None:
                x, (lower, upper) = outcome.x, batch
            else:
                share *= 0.25
            continue
        column, up = _next(search, x, columns, kind)
        branch = search.domain.branch(column, float(x[column]), lower, upper)
        if branch is None:
            return
        halves = [branch.up, branch.down] if up else [branch.down, branch.up]
        for low, high in halves:
            own_lower, own_upper = lower.copy(), upper.copy()
            own_lower[column], own_upper[column] = max(low, lower[column]), min(high, upper[column])
            if not search.propagate(own_lower, own_upper, np.array([column], np.int32)):
                continue
            outcome = search.relax(own_lower, own_upper)
            if outcome.status == "optimal" and outcome.x is not None:
                x, lower, upper = outcome.x, own_lower, own_upper
                break
        else:
            return


def _fixed_together(
    search: TreeSearch, x: Floats, bounds: tuple[Floats, Floats], columns: np.ndarray, share: float, kind: str
) -> tuple[Floats, Floats] | None:
    """Fix a share of the columns at once, those nearest to where they go; None where these are few, or cannot be."""
    columns = columns[search.whole[columns]]
    goal = np.round(x[columns])
    if kind == "locks":
        down, up = search.locks
        goal = np.where(up[columns] < down[columns], np.ceil(x[columns]), np.floor(x[columns]))
    elif kind == "guided" and search.best is not None:
        goal = search.best[columns]
    distance = np.abs(x[columns] - goal)
    count = int(share * len(columns))
    if count < MANY:
        return None
    order = np.argsort(distance, kind="stable")[:count]
    near = columns[order]
    lower, upper = bounds[0].copy(), bounds[1].copy()
    lower[near] = upper[near] = np.clip(goal[order], lower[near], upper[near])
    return (lower, upper) if search.propagate(lower, upper, near.astype(np.int32)) else None


def fix_and_propagate(search: TreeSearch, x: Floats) -> None:
    """Round one integer column after another, each within what the ones before leave it; then solve the rest once.

    Those nearest to whole come first; a value that leaves nothing is exchanged for the one on the other side.
    """
    lower, upper = search.lower.copy(), search.upper.copy()
    integers = search.domain.integers
    if len(search.domain.semis) or not search.options.presolve:
        return
    order = integers[np.argsort(np.abs(x[integers] - np.round(x[integers])), kind="stable")]
    for j in order.tolist():
        if lower[j] == upper[j]:
            continue
        nearest = float(np.clip(np.round(x[j]), lower[j], upper[j]))
        other = nearest + (1.0 if x[j] > nearest or nearest <= lower[j] else -1.0)
        for value in (nearest, float(np.clip(other, lower[j], upper[j]))):
            own_lower, own_upper = lower.copy(), upper.copy()
            own_lower[j] = own_upper[j] = value
            if search.propagate(own_lower, own_upper, np.array([j], np.int32)):
                lower, upper = own_lower, own_upper
                break
        else:
            return
    point = x.copy()
    point[integers] = lower[integers]
    search.try_plan(point)


def _next(search: TreeSearch, x: Floats, columns: np.ndarray, kind: str) -> tuple[int, bool]:
    """Return the column to fix next, and whether upwards."""
    fraction = x[columns] - np.floor(x[columns])
    down, up = search.locks
    if kind == "guided" and search.best is not None:
        goal = search.best[columns]
        k = int(np.argmin(np.abs(x[columns] - goal)))
        return int(columns[k]), bool(goal[k] > x[columns[k]])
    if kind == "locks":
        fewer = np.minimum(down[columns], up[columns])
        upward = up[columns] < down[columns]
        k = int(np.lexsort((np.where(upward, 1.0 - fraction, fraction), fewer))[0])
        return int(columns[k]), bool(upward[k])
    k = int(np.argmin(search.domain.distance(x)[columns]))
    return int(columns[k]), bool(fraction[k] >= 0.5)


# ---------------------------------------------------------------------- feasibility pump


def pump(search: TreeSearch, x: Floats) -> None:
    """Go to and fro between whole points and the nearest points of the relaxation (Fischetti, Glover and Lodi 2005)."""
    integers = search.domain.integers
    if not len(integers) or len(search.domain.semis):
        return
    lower, upper = search.lower, search.upper
    solver = LinearSolver(replace(search.relaxed, costs=np.zeros(search.relaxed.n)))
    solver.change_bounds(slice(None), lower, upper)
    solver.counters = search.counters
    rng = np.random.default_rng(7)
    before: set[bytes] = set()
    for _ in range(PUMPS):
        if search.limit() is not None:
            return
        goal = np.clip(
            np.round(x[integers] + 0.2 * (rng.random(len(integers)) - 0.5) * bool(before)),
            lower[integers],
            upper[integers],
        )
        key = goal.tobytes()
        if key in before:  # a circle: turn over what stands farthest from the goal
            far = np.abs(x[integers] - goal)
            flipped = np.argsort(-(far + 0.3 * rng.random(len(far))))[: max(5, len(far) // 20)]
            goal[flipped] = np.clip(
                goal[flipped] + np.where(x[integers][flipped] > goal[flipped], 1.0, -1.0),
                lower[integers][flipped],
                upper[integers][flipped],
            )
        before.add(key)
        # the distance is linear at the bounds, where yes/no columns always are
        costs = np.zeros(search.relaxed.n)
        costs[integers] = np.where(goal <= lower[integers], 1.0, np.where(goal >= upper[integers], -1.0, 0.0))
        solver.change_costs(slice(None), costs)
        outcome = solver.solve(search.quiet)
        if outcome.status != "optimal" or outcome.x is None:
            return
        x = outcome.x
        if np.abs(x[integers] - goal)[costs[integers] != 0].sum() < 1e-6 or not len(search.domain.violated(x)):
            whole = x.copy()
            whole[integers] = np.round(x[integers])
            if search.try_plan(whole):
                return


# ---------------------------------------------------------------------- near a plan


def near_plan(search: TreeSearch, x: Floats) -> None:
    """Search near the best plan: where it agrees with the relaxation, or with another plan, or within few changes.

    The three in turn (Danna, Rothberg and Le Pape 2005; Rothberg 2007; Fischetti and Lodi 2003).
    """
    integers = search.domain.integers
    assert search.best is not None
    # what keeps failing gets less and less
    budget = (NEAR_START + NEAR_SHARE * search.iterations) / (1.0 + search.near_failures / PATIENCE)
    if search.near_iterations > budget or len(integers) < 10:
        return
    before = search.best_value
    search.near_turn += 1
    _near_in_turn(search, x, integers)
    search.near_failures = 0 if search.best_value < before else search.near_failures + 1


def _near_in_turn(search: TreeSearch, x: Floats, integers: np.ndarray) -> None:
    assert search.best is not None
    if search.near_turn % 3 == 0:
        _within_few_changes(search)
        return
    other = x
    if search.near_turn % 3 == 2 and len(search.earlier) > 1:
        other = search.earlier[-2]
    agree = integers[np.abs(search.best[integers] - other[integers]) < 1e-6]
    free = search.lower[integers] < search.upper[integers]
    if len(agree) < FIXED_LEAST * max(1, int(free.sum())) or len(agree) == len(integers):
        return
    _search_within(search, search.lower, search.upper, agree, search.best[agree])


def _within_few_changes(search: TreeSearch) -> None:
    """Search among plans that differ from the best one in few yes/no columns."""
    p, best = search.problem, search.best
    assert best is not None
    integers = search.domain.integers
    binary = integers[(p.lower[integers] == 0) & (p.upper[integers] == 1)]
    if len(binary) < 20:
        return
    row = np.zeros(p.n)
    row[binary] = np.where(best[binary] > 0.5, -1.0, 1.0)
    most = FEW_CHANGES - float((best[binary] > 0.5).sum())
    found = search.inner(p.with_rows(row[None, :], -np.inf, most), NEAR_NODES, cutoff=True)
    if found is not None:
        search.try_plan(found)


def _search_within(search: TreeSearch, lower: Floats, upper: Floats, fixed: np.ndarray, values: Floats) -> bool:
    """Search with some columns fixed, for a while; say whether a better plan came of it."""
    lower, upper = lower.copy(), upper.copy()
    lower[fixed] = upper[fixed] = values
    semis = search.domain.semis
    lower[semis], upper[semis] = search.problem.lower[semis], search.problem.upper[semis]
    before = search.best_value
    found = search.inner(replace(search.problem, lower=lower, upper=upper), NEAR_NODES, cutoff=True)
    if found is not None:
        search.try_plan(found)
    return search.best_value < before


def _repair(search: TreeSearch, columns: np.ndarray, values: Floats) -> None:
    """Search for the plan that keeps most of a start that is none."""
    p = search.problem
    costs = np.zeros(p.n)
    low, high = search.domain.lower[columns], search.domain.upper[columns]
    costs[columns] = np.where(values <= low, 1.0, np.where(values >= high, -1.0, 0.0))
    nearest = replace(p, costs=costs, offset=0.0)
    found = search.inner(nearest, NEAR_NODES)
    if found is not None:
        search.try_plan(found)


# ---------------------------------------------------------------------- polishing


def polish(search: TreeSearch) -> None:
    """Move single integer columns of the best plan as far as rows allow, and exchange pairs, while that pays."""
    domain = search.domain
    if search.best is None or not len(domain.integers) or len(domain.integers) > POLISHED or len(domain.semis):
        return
    x = search.best.copy()
    moved = _move_one(search, x)
    while _move_two(search, x):
        _move_one(search, x)
        moved = True
    if moved:
        search.try_plan(x)


def _move_one(search: TreeSearch, x: Floats) -> bool:
    """Move one column after another the way its cost prefers; say whether any moved."""
    p, domain = search.problem, search.domain
    activity = p.activity(x)
    moved, improved = False, True
    while improved:
        improved = False
        for j in domain.integers[np.argsort(-np.abs(p.costs[domain.integers]), kind="stable")].tolist():
            cost = p.costs[j]
            if cost == 0:
                continue
            part = slice(p.starts[j], p.starts[j + 1])
            rows, values = p.indices[part], p.values[part]
            way = -1.0 if cost > 0 else 1.0
            step = domain.upper[j] - x[j] if way > 0 else x[j] - domain.lower[j]
            change = way * values
            limit = np.where(change > 0, p.row_upper[rows], p.row_lower[rows])
            room = float(((limit - activity[rows]) / change).min(initial=np.inf))
            step = min(step, float(np.floor(room + 1e-9)) if np.isfinite(room) else np.inf)
            if 1.0 <= step < np.inf:
                x[j] += way * step
                activity[rows] += change * step
                improved = moved = True
    return moved


def _move_two(search: TreeSearch, x: Floats) -> bool:
    """Move two yes/no columns at once where that keeps all rows and pays the most; say whether it did."""
    p, domain = search.problem, search.domain
    binary = domain.integers[(domain.lower[domain.integers] == 0) & (domain.upper[domain.integers] == 1)]
    if len(binary) < 2 or p.m * len(binary) > DENSE:
        return False
    # turning each column over changes the rows by these, and the objective by those
    turn = np.where(x[binary] > 0.5, -1.0, 1.0)
    change = np.asarray(p.matrix()[:, binary].todense()) * turn
    gain = p.costs[binary] * turn
    activity = p.activity(x)
    slack = 1e-9 * np.maximum(1.0, np.abs(activity))
    above, below = p.row_upper - activity + slack, p.row_lower - activity - slack
    best, pair = -1e-7, (-1, -1)
    order = np.argsort(gain, kind="stable")
    for k in order[gain[order] < 0].tolist():
        both = gain[k] + gain
        others = np.flatnonzero(both < best)
        if not len(others):
            continue
        moved = change[:, [k]] + change[:, others]
        keeps = (moved <= above[:, None]).all(axis=0) & (moved >= below[:, None]).all(axis=0) & (others != k)
        if keeps.any():
            at = others[keeps][np.argmin(both[others[keeps]])]
            best, pair = float(both[at]), (k, int(at))
    if pair[0] < 0:
        return False
    for k in pair:
        x[binary[k]] += turn[k]
    return True
