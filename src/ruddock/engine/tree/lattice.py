"""Whole solutions of equations: whether there is any, and one of them.

A system of equations in whole numbers is brought to triangular form by whole steps on its columns (Hermite's normal
form; Schrijver 1986, chapter 4). That shows at once what branching on columns without bounds would never find out: that
``2x - 2y = 1`` has no whole solution, or where one of ``6x + 10y + 15z = 1`` lies.
"""

from __future__ import annotations

import numpy as np

from ruddock.problem import Floats, Problem

MOST_ENTRIES, MOST_ROWS = 3000, 100  # of the equations, beyond which they are left to the search
MOST_WORK = 300_000  # entries touched
LARGEST = 2**200  # of numbers on the way
PASSES = 20  # of making a solution smaller

Column = dict[int, int]  # a row number, or -1 - j for the share of the problem's column j, to its entry


class _TooMuchError(Exception):
    """The reduction takes too long, or its numbers grow too large."""


def whole_solution(problem: Problem) -> tuple[bool, Floats | None]:
    """Look at the equations of whole numbers alone.

    Returns
    -------
    possible : bool
        False if they have no solution in whole numbers.
    point : float array, shape (n,), or None
        A solution of them, near to the bounds of columns if possible; zero for columns that are in none.
    """
    rows = np.flatnonzero(problem.whole_rows & (problem.row_lower == problem.row_upper))
    if not len(rows) or len(rows) > MOST_ROWS:
        return True, None
    place = np.full(problem.m, -1)
    place[rows] = np.arange(len(rows))
    owner = np.repeat(np.arange(problem.n), np.diff(problem.starts))
    entries = np.flatnonzero(place[problem.indices] >= 0)
    if len(entries) > MOST_ENTRIES or np.abs(problem.values[entries]).max(initial=0.0) > 2.0**50:
        return True, None
    columns: dict[int, Column] = {}
    for e in entries.tolist():
        j = int(owner[e])
        columns.setdefault(j, {-1 - j: 1})[int(place[problem.indices[e]])] = int(problem.values[e])
    try:
        solved = _Triangle(list(columns.values())).solve([int(limit) for limit in problem.row_lower[rows]])
    except _TooMuchError:
        return True, None
    if solved is None:
        return False, None
    point, free = solved
    return True, _nearer(problem, point, free)


class _Triangle:
    """Columns brought to triangular form, row by row."""

    def __init__(self, columns: list[Column]) -> None:
        self._left = columns
        self._work = 0

    def solve(self, limits: list[int]) -> tuple[Column, list[Column]] | None:
        """Return the shares of a solution of the first columns, and the columns left; None if there is none."""
        point: Column = {}
        for i, limit in enumerate(limits):
            pivot = self._pivot(i)
            rest = limit - point.get(i, 0)
            if pivot is None:
                if rest:
                    return None
                continue
            times, remainder = divmod(rest, pivot[i])
            if remainder:
                return None
            self._add(point, pivot, times)
        return point, self._left

    def _pivot(self, i: int) -> Column | None:
        """Leave one column with an entry in row ``i`` by steps of Euclid's algorithm, and take it out."""
        while True:
            holding = [column for column in self._left if column.get(i)]
            if not holding:
                return None
            least = min(holding, key=lambda column: (abs(column[i]), len(column)))
            if len(holding) == 1:
                self._left = [column for column in self._left if column is not least]
                return least
            for column in holding:
                if column is not least:
                    self._add(column, least, -_nearest(column[i], least[i]))

    def _add(self, column: Column, other: Column, times: int) -> None:
        """Add a multiple of one column to another."""
        self._work += len(other)
        if self._work > MOST_WORK:
            raise _TooMuchError
        if not times:
            return
        for i, value in other.items():
            total = column.get(i, 0) + times * value
            if abs(total) > LARGEST:
                raise _TooMuchError
            if total:
                column[i] = total
            else:
                column.pop(i, None)


def _nearest(a: int, b: int) -> int:
    """Return the whole number nearest to ``a / b``."""
    return (2 * a + abs(b)) // (2 * b) if b > 0 else -_nearest(a, -b)


def _nearer(problem: Problem, point: Column, free: list[Column]) -> Floats | None:
    """Move a solution along the whole directions that keep the equations, towards where bounds allow values."""
    lower, upper = problem.lower, problem.upper
    goal = np.clip(0.0, np.where(np.isfinite(lower), lower, -np.inf), np.where(np.isfinite(upper), upper, np.inf))
    used = sorted({-1 - k for column in (point, *free) for k in column if k < 0})
    x = {j: point.get(-1 - j, 0) - int(goal[j]) for j in used}
    directions = [[(-1 - k, value) for k, value in column.items() if k < 0] for column in free]
    for _ in range(PASSES):
        moved = False
        for direction in directions:
            length = sum(d * d for _, d in direction)
            times = _nearest(sum(x[j] * d for j, d in direction), length) if length else 0
            if times:
                moved = True
                for j, d in direction:
                    x[j] -= times * d
        if not moved:
            break
    result = np.zeros(problem.n)
    for j, value in x.items():
        if abs(value) > 2**52:
            return None
        result[j] = value + int(goal[j])
    return result
