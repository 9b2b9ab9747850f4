"""Bounds by prices of the linking rows: each block is solved by itself, and what it finds joins the master problem.

For any prices, the sum of what the blocks come to is a bound of the whole (Geoffrion 1974). The master problem says
which prices come next; drawn towards those of the best bound so far, they do not swing (Wentges 1997).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ruddock.engine.outcome import Limits, Outcome, Reason
from ruddock.engine.tree.blocks.master import Master, Solution
from ruddock.engine.tree.blocks.structure import Blocks, Group
from ruddock.engine.tree.domain import Step
from ruddock.problem import Floats

ROUNDING = 1e-13  # of all terms of a bound: what it may be off by
CLOSE = 1e-9  # relative: how near bound and master problem count as the same
DRAWN = 0.5  # how far prices are drawn back to those of the best bound
MOST_ROUNDS = 2000
DISJOINT = 12  # solutions of identical blocks that one round may add, no two with an item in common
MISSED = 1e-8  # of each row, on average: what counts as none
DEAREST = 1e8  # times the largest cost: what a row may be missed by at most costs


@dataclass(eq=False, repr=False)
class Priced:
    """What the blocks come to at some prices.

    Attributes
    ----------
    bound : float
        A proven lower bound of the objective, or of what rows must be missed by.
    noise : float
        What it may be off by, which is left out of it already.
    prices : array, shape (number of linking rows,)
    reduced : array, shape (n,)
        Costs of all columns at these prices.
    solutions : list of Solution
        A best one of each group that may take any.
    values : list of float
        Their values at these prices, for one block.
    """

    bound: float
    noise: float
    prices: Floats
    reduced: Floats
    solutions: list[Solution]
    values: list[float]


@dataclass(eq=False, repr=False)
class Generated:
    """Where generating solutions has ended.

    Attributes
    ----------
    bound : proven for all plans within the bounds given; infinite where there are none
    taken : numbers of solutions and how many times each is taken, or None where the rows cannot all hold yet
    beside : values of the columns of no block
    reason : why it stopped early
    best : the prices with the best bound
    """

    bound: float
    taken: list[tuple[int, float]] | None = None
    beside: Floats | None = None
    reason: Reason | None = None
    best: Priced | None = None


class Generation:
    """Generates solutions of blocks until the master problem is solved.

    Parameters
    ----------
    blocks, master
    step : of the objective of whole plans
    """

    def __init__(self, blocks: Blocks, master: Master, step: Step) -> None:
        self.blocks, self.master, self.step = blocks, master, step
        p = blocks.problem
        self._size = abs(blocks.prices_of)
        self._low, self._high = p.row_lower[blocks.rows], p.row_upper[blocks.rows]
        self._dear = 10.0 * max(1.0, float(np.abs(p.costs).max(initial=0.0)))
        self._count = np.zeros(p.n)
        self._count[blocks.beside] = 1.0
        for group in blocks.groups:
            self._count[group.first.everything] = len(group.blocks)

    def reduced(self, prices: Floats | None) -> Floats | None:
        """Return the costs of all columns at some prices."""
        return None if prices is None else self.blocks.problem.costs - self.blocks.prices_of @ prices

    def priced(self, prices: Floats, lower: Floats, upper: Floats, *, costs: bool = True) -> Priced:
        """Return what the blocks come to at some prices, within bounds of the columns."""
        p = self.blocks.problem
        y = np.where((prices > 0) & np.isfinite(self._low), prices, 0.0)
        y = np.where((prices < 0) & np.isfinite(self._high), prices, y)
        own = p.costs if costs else np.zeros(p.n)
        d = own - self.blocks.prices_of @ y
        ends = np.where(y > 0, self._low, np.where(y < 0, self._high, 0.0)) * y
        j = self.blocks.beside
        with np.errstate(invalid="ignore"):
            beside = np.where(d[j] > 0, d[j] * lower[j], np.where(d[j] < 0, d[j] * upper[j], 0.0))
        size = np.abs(own) + self._size @ np.abs(y)
        reach = np.maximum(np.abs(lower), np.abs(upper))
        with np.errstate(invalid="ignore"):
            terms = np.where(size > 0, size * self._count * np.where(np.isfinite(reach), reach, 1.0), 0.0)
        noise = ROUNDING * float(np.abs(ends).sum() + terms.sum())
        solutions, values = [], []
        total = float(ends.sum() + beside.sum()) + (p.offset if costs else 0.0) - noise
        for number, group in enumerate(self.blocks.groups):
            solution, value = best_of(group, number, d, lower, upper)
            solutions.append(solution)
            values.append(value)
            total += len(group.blocks) * value
        return Priced(total if not np.isnan(total) else -np.inf, noise, y, d, solutions, values)

    def run(
        self,
        lower: Floats,
        upper: Floats,
        threshold: float,
        limits: Limits,
        *,
        rounds: int = MOST_ROUNDS,
        centre: Floats | None = None,
    ) -> Generated:
        """Generate solutions within bounds until the bound is that of the master problem, or beyond a threshold.

        Parameters
        ----------
        centre : prices to draw to, to begin with
        """
        master, costs, drawn, price = self.master, True, DRAWN, self._dear
        best = self.priced(centre, lower, upper) if centre is not None else None
        if best is not None:
            for solution in best.solutions:
                master.offer(solution)
        outcome: Outcome | None = None
        for _ in range(rounds):
            if best is not None and costs and best.bound >= threshold:
                return Generated(best.bound, best=best)
            reason = limits.exceeded(master.counters.iterations)
            if reason is not None:
                return Generated(best.bound if best and costs else -np.inf, reason=reason, best=best)
            outcome = master.solve(limits, price if costs else 1.0, costs=costs)
            if outcome.status != "optimal" or outcome.y is None or outcome.x is None:
                return Generated(
                    best.bound if best and costs else -np.inf, reason=outcome.reason or "numerics", best=best
                )
            y, missed = outcome.y[: master.m], float(outcome.x[master.misses].sum())
            value = outcome.objective + (self.blocks.problem.offset if costs else 0.0)
            if not costs and missed <= MISSED * master.m:
                costs, price, best = True, min(10 * price, self._dear * DEAREST), None
                continue
            centred = best is not None and drawn > 0 and costs
            at = drawn * best.prices + (1 - drawn) * y if centred and best is not None else y
            now = self.priced(at, lower, upper, costs=costs)
            better = best is None or now.bound > best.bound
            if better:
                best = now
            fresh = self._offered(now, y, outcome, lower, upper, costs=costs)
            if not fresh and centred:
                drawn = 0.0 if not better else drawn  # prices that were drawn too far: those of the master themselves
                now = self.priced(y, lower, upper, costs=costs)
                if now.bound > (best.bound if best else -np.inf):
                    best = now
                fresh = self._offered(now, y, outcome, lower, upper, costs=costs)
            elif costs:
                drawn = DRAWN
            assert best is not None
            if not costs and best.bound > 0:
                return Generated(np.inf, best=best)
            close = value - best.bound <= CLOSE * max(1.0, abs(value))
            if costs and self.step.size and self.step.up(best.bound) >= value - CLOSE * max(1.0, abs(value)):
                close = True
            if fresh and not close:
                continue
            if not costs:  # nothing is left to generate, and no proof either: not decided
                return Generated(-np.inf, best=best)
            if missed <= MISSED * master.m:
                return self._reached(best, outcome)
            costs, best = False, None
        if outcome is None or outcome.x is None or best is None or not costs:
            return Generated(-np.inf)
        return self._reached(best, outcome)

    def _reached(self, best: Priced, outcome: Outcome) -> Generated:
        """Return where the master problem stands."""
        assert outcome.x is not None
        if outcome.x[self.master.misses].sum() > MISSED * self.master.m:
            return Generated(best.bound, best=best)
        beside = outcome.x[: len(self.blocks.beside)]
        return Generated(best.bound, self.master.taken(outcome.x), beside, best=best)

    def point(self, found: Generated) -> Floats:
        """Return the point that a point of the master stands for, the total of each group in its first block."""
        assert found.taken is not None
        x = self.master.total(found.taken)
        x[self.blocks.beside] = found.beside
        return x

    def _offered(self, now: Priced, y: Floats, outcome: Outcome, lower: Floats, upper: Floats, *, costs: bool) -> bool:
        """Offer the master solutions that would improve it; say whether any did."""
        assert outcome.y is not None
        p = self.blocks.problem
        d = (p.costs if costs else 0.0) - self.blocks.prices_of @ y
        fresh = False
        for solution in now.solutions:
            group = self.blocks.groups[solution.group]
            paid = float(outcome.y[self.master.m + solution.group])
            paid -= CLOSE * max(1.0, abs(paid))
            columns, values = self.master.values(solution)
            if d[columns] @ values < paid:
                fresh |= self.master.offer(solution)
            fresh |= self.master.call(solution.group, d, paid)
            if len(group.blocks) > 1:
                fresh |= self._disjoint(group, solution, d, lower, upper, paid)
        return fresh

    def _disjoint(self, group: Group, solution: Solution, d: Floats, lower: Floats, upper: Floats, paid: float) -> bool:
        """Offer solutions of one more and one more block of a group, each without the items of those before."""
        fresh, left = False, upper.copy()
        columns = group.first.columns
        for _ in range(min(DISJOINT, len(group.blocks))):
            left[columns] = np.maximum(lower[columns], left[columns] - solution.items)
            solution, value = best_of(group, solution.group, d, lower, left)
            if value >= paid:
                break
            fresh |= self.master.offer(solution)
        return fresh


def best_of(group: Group, number: int, d: Floats, lower: Floats, upper: Floats) -> tuple[Solution, float]:
    """Return a best solution of one block of a group, and its value; infinite where there is none."""
    block = group.first
    low, high = lower[block.columns].astype(np.int32), upper[block.columns].astype(np.int32)
    items = np.zeros(len(low), np.int32)
    value = group.knapsack.best(np.ascontiguousarray(d[block.columns]), low, high, items)
    if block.switch < 0:
        return Solution(number, items, True), value
    value += d[block.switch]
    if upper[block.switch] < 1:
        value = np.inf
    if lower[block.switch] < 1 and not low.any() and value >= 0:
        return Solution(number, np.zeros(len(low), np.int32), False), 0.0
    return Solution(number, items, True), value
