"""Plans by jumps, before the first relaxation, around it and near the best plan; see `Jump`, `Mending`, `Exchange`."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.engine.tree.exchange import Exchange
from ruddock.engine.tree.heuristics.point import Point
from ruddock.engine.tree.heuristics.rounding import round_by_locks
from ruddock.engine.tree.heuristics.ways import Way, Ways
from ruddock.engine.tree.part import Part
from ruddock.engine.tree.state import SearchState
from ruddock.problem import INTEGER, Floats, Problem

LEAST, EACH, MOST = 20_000, 2000, 100_000_000  # entries touched: at least, for each of the problem's, and at most
MOST_MIXED = 10_000_000  # where there is a plan, and some columns are continuous
PASSES, PORTIONS = 40, 20  # times that all are touched even so, and parts after which it goes another way
AT_ROOT = 4  # times all that around the root's relaxation, at least
RELAXED = 8  # entries that relaxations have touched, for one that may be touched around that of the root
MORE = 6  # times that, as long as plans get so much better
GOOD_PART = 0.01  # of the gap
SHARE = 0.1  # of the entries that relaxations touch, that jumps at nodes may
PATIENCE = 10  # of them in vain after which that is halved
LOOK = 400_000  # entries touched between two looks at the limits
IDLE = 0.5  # of the work without a better plan after the first one, after which it ends
STAY = 0.95  # of the columns, which stay where a relaxation has them, at most
FARTHEST = 1e6  # how far a column without a bound may jump
FIRST, LESS, LEAST_BETTER = 0.02, 0.05, 1e-3  # of its objective, by which the next plan is to be better: at first,
# times as much after a while in vain, and at least


def jump(state: SearchState) -> None:
    """Look for plans, and for better ones, for some counted work, from where the objective is best."""
    p = state.problem
    if p.m and p.n and not len(state.domain.semis):
        lower, upper = finite(state.bounds.lower, state.bounds.upper)
        start = np.where(p.costs > 0, lower, np.where(p.costs < 0, upper, np.clip(0.0, lower, upper)))
        _improve(state, Part.whole(replace(p, lower=lower, upper=upper)), start, at_root=False)


def jump_around(state: SearchState, point: Point) -> None:
    """Look for plans near the point of a relaxation, then for better ones near the best plan.

    Columns that stand at a bound in both and cost most to move stay there.
    """
    if not _possible(state, point):
        return
    start = np.clip(round_by_locks(state, point.x), state.bounds.lower, state.bounds.upper)
    _jump_near(state, point, start, at_root=True)
    if state.incumbent.best is not None and not state.incumbent.settled(state.frontier.bound):
        _jump_near(state, point, state.incumbent.best, at_root=True)


def jump_on(state: SearchState, point: Point) -> None:
    """Look for plans better than the best one near the point of a node's relaxation, where that is within its share."""
    effort = state.effort
    share = SHARE / effort.tired("jumps", PATIENCE)
    if (
        not _possible(state, point)
        or state.incumbent.best is None
        or effort.jump_entries > share * effort.counters.entries
    ):
        return
    before = state.incumbent.value
    _jump_near(state, point, state.incumbent.best, at_root=False)
    effort.judge("jumps", better=state.incumbent.value < before)


def _possible(state: SearchState, point: Point) -> bool:
    return point.reduced is not None and state.problem.m > 0 and not len(state.domain.semis)


def _jump_near(state: SearchState, point: Point, start: Floats, *, at_root: bool) -> None:
    """Look for plans from a start, with the columns kept that cost most to move; at the root, as long as that pays."""
    x, reduced = point
    assert reduced is not None
    lower, upper = finite(state.bounds.lower, state.bounds.upper)
    # bounds that leave one of many plans that are alike may leave out this one
    lower, upper = np.minimum(lower, start), np.maximum(upper, start)
    stays = (np.abs(reduced) > 0.0) & ((x <= lower) & (start <= lower) | (x >= upper) & (start >= upper))
    most = int(STAY * len(x))
    if int(stays.sum()) > most:
        stays &= np.abs(reduced) >= np.partition(np.abs(reduced), len(x) - most)[len(x) - most]
    lower[stays] = upper[stays] = start[stays]
    part = Part.of(replace(state.problem, lower=lower, upper=upper))
    if part is not None and part.problem.n:
        _improve(state, part, start, at_root=at_root)
    elif part is not None:
        state.try_plan(part.plan(part.problem.lower))


def _improve(state: SearchState, part: Part, start: Floats, *, at_root: bool) -> None:
    """Jump in the columns that are left, as long as that finds better plans."""
    p = part.problem
    kernel = kernel_of(p, np.clip(start[part.columns], p.lower, p.upper), state.effort.begin_jumps())
    quick = bool(state.problem.integers.all())
    budget = _budget(state, p, quick=quick, at_root=at_root)
    most = MORE * budget if at_root else budget
    taken = 0  # when a plan was taken last, which costs little where it is whole
    value, bound = state.incumbent.value - part.offset, state.frontier.bound - part.offset
    since, share, ways = 0, FIRST, Ways("exchange", "mend", "jump")
    paid = value, 0  # the value, and the work, when a good part of the gap was closed last
    if value < np.inf:
        kernel.better_than(_aim(state, value, share))
    kernel.hold()
    last: Way = "jump"
    while kernel.touched < most and not state.effort.stopped():
        success = since if kernel.touched < budget else paid[1]
        if kernel.touched - success > (IDLE * max(budget, kernel.touched) if value < np.inf else budget):
            break
        way, begun, before = ways.choose() if kernel.holds else "jump", kernel.touched, value
        if kernel.holds and not way == last == "exchange":  # which goes on from where it is
            kernel.back()
        last = way
        found = _spent_well(state, kernel, budget // PORTIONS, way)
        state.effort.count_jumps(kernel.touched - begun)
        if found:
            value, since = min(value, float(p.costs @ np.asarray(kernel.kept))), kernel.touched
            if not value > paid[0] - GOOD_PART * (paid[0] - bound):
                paid = value, since
        ways.learn(way, before - value if before < np.inf else 0.0, kernel.touched - begun)
        if since <= begun:
            if value < np.inf:
                share = max(LEAST_BETTER, LESS * share)
                kernel.better_than(_aim(state, value, share))
            continue
        if not taken or (quick and since - taken > budget // PORTIONS):
            if not state.try_plan(part.plan(np.asarray(kernel.kept))):
                return  # where rounding or a caller's check says no, nothing is sure
            taken = since
        if state.incumbent.settled(state.frontier.bound):
            return
        kernel.better_than(_aim(state, value, share))
    if taken:
        state.try_plan(part.plan(np.asarray(kernel.kept)))


def _budget(state: SearchState, p: Problem, *, quick: bool, at_root: bool) -> int:
    """Return how many entries may be touched, or so many after each that pays.

    Parameters
    ----------
    quick : whether all columns are integer
    """
    budget = max(min(LEAST + EACH * p.nonzeros, MOST), PASSES * p.nonzeros)
    if not quick and state.incumbent.best is not None:  # jumps seldom make better what continuous columns balance
        return min(budget, MOST_MIXED)
    return max(AT_ROOT * budget, state.effort.counters.entries // RELAXED) if at_root else budget


def _spent_well(state: SearchState, kernel: Exchange, portion: int, way: Way) -> bool:
    """Spend a portion of work, with looks at the limits meanwhile; say whether there is a better plan."""
    go, end = {"exchange": kernel.exchange, "mend": kernel.improve, "jump": kernel.run}[way], kernel.touched + portion
    found = False
    while not found and kernel.touched < end and not state.effort.stopped():
        found = go(min(LOOK, end - kernel.touched))
    return found


def _aim(state: SearchState, value: float, share: float) -> float:
    """Return what the next plan is to be worth."""
    better = value - max(share * abs(value), state.options.goal.noise(value))
    return float(min(better, np.nextafter(value, -np.inf)))


def finite(lower: Floats, upper: Floats) -> tuple[Floats, Floats]:
    """Return bounds with finite ones in place of missing ones."""
    low = np.where(np.isfinite(lower), lower, np.minimum(np.where(np.isfinite(upper), upper, 0.0), 0.0) - FARTHEST)
    return low, np.where(np.isfinite(upper), upper, np.maximum(low, 0.0) + FARTHEST)


def kernel_of(p: Problem, start: Floats, seed: int) -> Exchange:
    """Return the search in a problem with finite bounds, on rows of one size."""
    size = np.zeros(p.m)
    np.maximum.at(size, p.indices, np.abs(p.values))
    size[size == 0.0] = 1.0
    values = p.values / size[p.indices]
    return Exchange(
        (np.array(p.starts), np.array(p.indices), values),
        p.row_lower / size, p.row_upper / size, np.array(p.lower), np.array(p.upper),
        ((p.kinds & INTEGER) != 0).astype(np.int8), np.array(p.costs), start, seed,
    )  # fmt: skip
