"""Bounds by prices of the linking rows: each block is solved by itself, and what it finds joins the master problem.

For any prices, the sum of what the blocks come to is a bound of the whole (Geoffrion 1974). The master problem says
which prices come next; drawn towards those of the best bound so far, they do not swing (Wentges 1997).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ruddock.engine.outcome import Limits, Outcome, Reason
from ruddock.engine.tree.blocks.master import Master
from ruddock.engine.tree.blocks.pool import Solution
from ruddock.engine.tree.blocks.structure import Blocks, Group
from ruddock.engine.tree.domain import Step
from ruddock.problem import Floats

ROUNDING = 1e-13  # of all terms of a bound: what it may be off by
CLOSE = 1e-9  # relative: how near bound and master problem count as the same
DRAWN, FREER = 0.8, 0.1  # how far prices are drawn back to those of the best bound, and by how much that changes
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

    def within(
        self,
        lower: Floats,
        upper: Floats,
        threshold: float,
        limits: Limits,
        centre: Floats | None,
        rounds: int = MOST_ROUNDS,
    ) -> Generated:
        """Generate solutions within bounds that are narrower than before, from prices that are known."""
        lower, upper = np.maximum(lower, self.blocks.lower), np.minimum(upper, self.blocks.upper)
        if (lower > upper).any():
            return Generated(np.inf)
        self.master.narrow(lower, upper, self.reduced(centre), {})
        return self.run(lower, upper, threshold, limits, rounds=rounds, centre=centre)

    def run(
        self,
        lower: Floats,
        upper: Floats,
        threshold: float,
        limits: Limits,
        *,
        rounds: int = MOST_ROUNDS,
        centre: Floats | None = None,
        told: Callable[[float], None] | None = None,
    ) -> Generated:
        """Generate solutions within bounds until the bound is that of the master problem, or beyond a threshold.

        Parameters
        ----------
        centre : prices to draw to, to begin with
        told : of every bound on the way
        """
        price = self._dear
        while True:
            found, missed = self._least(lower, upper, threshold, limits, rounds, centre, price, told)
            if not missed or found.reason is not None or price >= self._dear * DEAREST:
                return found
            possible = self._possible(lower, upper, limits, rounds)
            if possible is not True:
                return Generated(np.inf) if possible is False else found
            price *= 100

    def _least(
        self,
        lower: Floats,
        upper: Floats,
        threshold: float,
        limits: Limits,
        rounds: int,
        centre: Floats | None,
        price: float,
        told: Callable[[float], None] | None,
    ) -> tuple[Generated, bool]:
        """Solve the master problem, and say whether its rows are missed at a price."""
        master, drawn = self.master, DRAWN
        best = self.priced(centre, lower, upper) if centre is not None else None
        if best is not None:
            for solution in best.solutions:
                master.offer(solution)
        outcome: Outcome | None = None
        for _ in range(rounds):
            known = -np.inf if best is None else best.bound
            if told is not None:
                told(known)
            reason = limits.exceeded(master.counters.iterations)
            if reason is not None or known >= threshold:
                return Generated(known, reason=reason, best=best), False
            outcome = master.solve(limits, price)
            if outcome.status != "optimal" or outcome.y is None:
                return Generated(known, reason=outcome.reason or "numerics", best=best), False
            y, value = outcome.y[: master.m], outcome.objective + self.blocks.problem.offset
            between = y if best is None else drawn * best.prices + (1 - drawn) * y
            now = self.priced(between, lower, upper)
            if best is not None:  # rises the bound towards the master's prices from here, or towards the best ones?
                rising = self._slope(now, lower, upper) @ (y - best.prices) > 0
                drawn = max(0.0, drawn - FREER) if rising else drawn + FREER * (1.0 - drawn)
            fresh = self._offered(now, outcome, lower, upper)
            best = now if best is None or now.bound > best.bound else best
            if not fresh and between is not y:
                now = self.priced(y, lower, upper)
                fresh = self._offered(now, outcome, lower, upper)
                best = now if now.bound > best.bound else best
            near = CLOSE * max(1.0, abs(value))
            if not fresh or max(best.bound, self.step.up(best.bound)) >= value - near:
                break
        if outcome is None or best is None:
            return Generated(-np.inf), False
        return self._reached(best, outcome)

    def _reached(self, best: Priced, outcome: Outcome) -> tuple[Generated, bool]:
        """Return where the master problem stands, and whether its rows are missed."""
        assert outcome.x is not None
        if outcome.x[self.master.misses].sum() > MISSED * self.master.m:
            return Generated(best.bound, best=best), True
        beside = outcome.x[: len(self.blocks.beside)]
        return Generated(best.bound, self.master.taken(outcome.x), beside, best=best), False

    def _possible(self, lower: Floats, upper: Floats, limits: Limits, rounds: int) -> bool | None:
        """Say whether the rows of the master can hold, whatever it costs; None where that is not decided."""
        for _ in range(rounds):
            outcome = self.master.solve(limits, 1.0, costs=False)
            if outcome.status != "optimal" or outcome.y is None or outcome.x is None:
                return None
            if outcome.x[self.master.misses].sum() <= MISSED * self.master.m:
                return True
            now = self.priced(outcome.y[: self.master.m], lower, upper, costs=False)
            if now.bound > 0:
                return False
            if not self._offered(now, outcome, lower, upper, costs=False):
                return None
            if limits.exceeded(self.master.counters.iterations) is not None:
                return None
        return None

    def _slope(self, now: Priced, lower: Floats, upper: Floats) -> Floats:
        """Return by how much the bound rises at some prices with each of them."""
        x = np.zeros(self.blocks.problem.n)
        for solution, group in zip(now.solutions, self.blocks.groups, strict=True):
            columns, values = self.master.pool.values(solution)
            x[columns] = len(group.blocks) * values
        j = self.blocks.beside
        ends = np.where(now.reduced[j] > 0, lower[j], upper[j])
        x[j] = np.where(np.isfinite(ends), ends, 0.0)
        activity = self.blocks.links @ x
        # a price of zero may go either way
        limit = np.where(
            now.prices > 0, self._low, np.where(now.prices < 0, self._high, np.clip(activity, self._low, self._high))
        )
        return np.asarray(limit - activity)

    def point(self, found: Generated) -> Floats:
        """Return the point that a point of the master stands for, the total of each group in its first block."""
        assert found.taken is not None
        x = self.master.pool.total(found.taken)
        x[self.blocks.beside] = found.beside
        return x

    def _offered(self, now: Priced, outcome: Outcome, lower: Floats, upper: Floats, *, costs: bool = True) -> bool:
        """Offer the master solutions that would improve it; say whether any did."""
        assert outcome.y is not None
        p = self.blocks.problem
        d = (p.costs if costs else 0.0) - self.blocks.prices_of @ outcome.y[: self.master.m]
        fresh = False
        for solution in now.solutions:
            group = self.blocks.groups[solution.group]
            paid = float(outcome.y[self.master.m + solution.group])
            paid -= CLOSE * max(1.0, abs(paid))
            columns, values = self.master.pool.values(solution)
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
