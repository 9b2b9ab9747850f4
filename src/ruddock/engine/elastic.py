"""The least changes of row limits that leave a plan: in total, the largest one, or in number."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, diags_array, hstack, vstack

from ruddock.engine.clash import find_clash
from ruddock.engine.outcome import Limits, Outcome
from ruddock.engine.solve import solve
from ruddock.problem import INTEGER, Floats, Problem

MOST_CLASHES = 200  # that a search for the fewest rows collects
TRACE = 1e-6  # of the total beside the largest change


@dataclass(frozen=True)
class Room:
    """Which row limits may move to make a plan possible: arrays, shape (m,).

    Attributes
    ----------
    fall_price, rise_price : what a unit costs by which the lower limit falls, or the upper one rises; infinite where
        it may not
    fall_most, rise_most : how far it may
    """

    fall_price: Floats
    rise_price: Floats
    fall_most: Floats
    rise_most: Floats

    @classmethod
    def anywhere(cls, fall_price: Floats, rise_price: Floats) -> Room:
        """Return room without end at the given prices."""
        far = np.full(len(fall_price), np.inf)
        return cls(fall_price, rise_price, far, far)

    def only(self, rows: np.ndarray | list[int]) -> Room:
        """Return the room of some rows alone."""
        fall, rise = np.full((2, len(self.fall_price)), np.inf)
        fall[rows], rise[rows] = self.fall_price[rows], self.rise_price[rows]
        return replace(self, fall_price=fall, rise_price=rise)

    def moved(self, problem: Problem, rows: list[int]) -> Problem:
        """Return the problem with the limits of some rows moved as far as they may."""
        low, high = problem.row_lower.copy(), problem.row_upper.copy()
        for limits, price, most in (
            (low, self.fall_price, -self.fall_most),
            (high, self.rise_price, self.rise_most),
        ):
            free = np.zeros(len(low), bool)
            free[rows] = np.isfinite(price[rows])
            limits[free] += most[free]
        return replace(problem, row_lower=low, row_upper=high)


def fewest_rows(problem: Problem, room: Room, preferred: set[int], limits: Limits | None = None) -> list[int] | None:
    """Return the fewest rows whose limits, moved as far as they may, leave a plan; None if all together do not.

    Of equally few those with the most ``preferred`` ones, then those that come first.

    Every choice must hit every clash: clashes found so far give a smallest choice that hits them, and
    where that leaves another clash, it joins them (Chinneck 2008, chapter 7). A clash that is left with the limits of
    the rows chosen moved needs another row of its own.
    """
    clashes: list[list[int]] = []
    chosen: list[int] = []
    while len(clashes) < MOST_CLASHES:
        moved = room.moved(problem, chosen)
        clash = find_clash(moved, limits)
        if clash is None:
            relaxed = solve(replace(moved, costs=np.zeros(problem.n)), limits)
            return sorted(chosen) if relaxed.status in ("optimal", "unbounded") else None
        prices = {"row lower": room.fall_price, "row upper": room.rise_price}
        helping = {m.index for m in clash.members if m.kind in prices and np.isfinite(prices[m.kind][m.index])}
        rows = sorted(helping - set(chosen))
        if not rows:
            return None
        clashes.append(rows)
        chosen = _smallest_cover(clashes, preferred, limits)
        if not chosen:
            return None
    return None


def _smallest_cover(sets: list[list[int]], preferred: set[int], limits: Limits | None) -> list[int]:
    """Return the fewest numbers that hit every set; none if the search ends too early."""
    known = np.unique(np.concatenate(sets))
    hits = np.array([np.isin(known, numbers) for numbers in sets], float)
    ones, size = np.ones(len(known)), len(sets)
    whole = np.full(len(known), INTEGER)
    other = np.array([number not in preferred for number in known.tolist()])
    # what is not preferred comes to less than one number more, and the order to less than one that is not
    costs = ones + 0.5 * other / len(known) + 0.25 * np.arange(len(known)) / len(known) ** 3
    smallest = Problem.build(hits, np.ones(size), np.full(size, np.inf), 0 * ones, ones, costs, whole)
    cover = solve(smallest, limits)
    return [] if cover.x is None else list(known[cover.x > 0.5].tolist())


def least_changes(
    problem: Problem, room: Room, limits: Limits | None = None, *, worst: bool = False
) -> tuple[Floats, Floats, Outcome]:
    """Return the changes of row limits of least weighted total, or with the least largest one, that leave a plan.

    Parameters
    ----------
    room : Room
        Which limits may move, how far and at what price.
    worst : bool
        Whether the largest weighted change counts instead of the total.

    Returns
    -------
    fall, rise : arrays, shape (m,)
    outcome : of the least-change problem; ``infeasible`` where no change allowed leaves a plan
    """
    low = np.flatnonzero(np.isfinite(room.fall_price) & np.isfinite(problem.row_lower))
    high = np.flatnonzero(np.isfinite(room.rise_price) & np.isfinite(problem.row_upper))
    extra = len(low) + len(high)
    entries = csr_matrix(
        (np.concatenate((np.ones(len(low)), -np.ones(len(high)))), (np.concatenate((low, high)), np.arange(extra))),
        shape=(problem.m, extra),
    )
    weights = np.concatenate((room.fall_price[low], room.rise_price[high]))
    most = np.concatenate((room.fall_most[low], room.rise_most[high]))
    matrix, row_lower, row_upper = hstack([problem.matrix(), entries]), problem.row_lower, problem.row_upper
    costs = np.concatenate((np.zeros(problem.n), weights))
    if worst:  # one more column, above every weighted change; a trace of the total keeps the others small
        above = hstack([csr_matrix((extra, problem.n)), diags_array(weights), csr_matrix(-np.ones((extra, 1)))])
        matrix = vstack([hstack([matrix, csr_matrix((problem.m, 1))]), above])
        row_lower = np.concatenate((row_lower, np.full(extra, -np.inf)))
        row_upper = np.concatenate((row_upper, np.zeros(extra)))
        costs, most = np.append(TRACE * costs, 1.0), np.append(most, np.inf)
    elastic = Problem.build(
        csc_matrix(matrix),
        row_lower,
        row_upper,
        np.concatenate((problem.lower, np.zeros(len(most)))),
        np.concatenate((problem.upper, most)),
        costs,
        np.concatenate((problem.kinds, np.zeros(len(most), np.uint8))),
    )
    outcome = solve(elastic, limits)
    fall, rise = np.zeros(problem.m), np.zeros(problem.m)
    if outcome.x is not None and outcome.status in ("optimal", "stopped"):
        fall[low] = outcome.x[problem.n : problem.n + len(low)]
        rise[high] = outcome.x[problem.n + len(low) : problem.n + extra]
    return fall, rise, outcome
