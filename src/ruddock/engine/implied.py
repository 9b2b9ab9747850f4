"""Bounds that rows imply, each with the row it comes from, and the chain of them that ends in a contradiction.

Rounds of bound propagation over all rows at once; each bound remembers its row and its round, so that a
contradiction can be traced back to the few limits, bounds and marks that lead to it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import csr_matrix

from ruddock.engine.outcome import FEASIBILITY
from ruddock.problem import INTEGER, Floats, Problem, reaching_zero

ROUNDS = 12  # longer chains convince nobody
GAIN = 1e-3  # a bound is implied anew where it moves by this much, beside its size
NEAR = 1e-6  # whole numbers are rounded with this much room
MOST_TRACED = 20  # contradictions of one round, of which the shortest is told


@dataclass(frozen=True)
class Step:
    """One row side with bounds known so far: it implies a bound of a column, or contradicts them.

    Attributes
    ----------
    row : number of the row; -1 where the two bounds of the column contradict each other
    upper : whether its upper limit is used
    column : whose bound follows; -1 where the row cannot be met
    raises : whether it is the lower bound
    value : the bound; of a row that cannot be met the nearest that it can come to its limit
    whole : whether the bound was rounded to a whole number
    """

    row: int
    upper: bool
    column: int
    raises: bool
    value: float
    whole: bool = False


@dataclass(frozen=True)
class Chain:
    """Steps that end in a contradiction, and what of the problem they use.

    Attributes
    ----------
    steps : in their order, the contradiction last
    rows : (row, upper side) used
    bounds : (column, upper) of the problem's own bounds used
    marks : columns whose whole-number mark is used
    """

    steps: tuple[Step, ...]
    rows: frozenset[tuple[int, bool]]
    bounds: frozenset[tuple[int, bool]]
    marks: frozenset[int]


def contradiction_chain(problem: Problem) -> Chain | None:
    """Return a short chain of implied bounds that ends in a contradiction, or None if there is none to see."""
    return _Rounds(problem).run()


class _Rounds:
    """Bounds as they are implied round by round.

    Rows are held as ``a'x <= b``, lower limits with their signs turned; entries row by row.
    """

    def __init__(self, problem: Problem) -> None:
        matrix = csr_matrix(problem.matrix())
        high, low = np.flatnonzero(np.isfinite(problem.row_upper)), np.flatnonzero(np.isfinite(problem.row_lower))
        turned = csr_matrix(-matrix[low])
        self.row = np.concatenate((high, low))
        self.side_upper = np.arange(len(self.row)) < len(high)
        self.limit = np.concatenate((problem.row_upper[high], -problem.row_lower[low]))
        self.values = np.concatenate((matrix[high].data, turned.data))
        self.columns = np.concatenate((matrix[high].indices, turned.indices)).astype(np.intp)
        counts = np.concatenate((np.diff(matrix[high].indptr), np.diff(turned.indptr)))
        self.starts = np.concatenate(([0], np.cumsum(counts))).astype(np.intp)
        self.line = np.repeat(np.arange(len(self.row)), counts)
        self.whole = (problem.kinds & INTEGER) != 0
        self.lower, self.upper = reaching_zero(problem.lower, problem.upper, problem.kinds)
        # by bound: the rounds in which it was implied, with the entry it comes from and its value
        self.made: dict[tuple[int, bool], list[tuple[int, int, float, bool]]] = {}

    def run(self) -> Chain | None:
        crossed = np.flatnonzero(self.lower > self.upper + FEASIBILITY * _size(self.lower))
        if len(crossed):
            return self._traced([(-1, int(crossed[0]))], 0)
        for number in range(ROUNDS):
            least, unknown = self._least()
            reach = np.where(unknown > 0, -np.inf, least)
            broken = np.flatnonzero(reach > self.limit + FEASIBILITY * np.maximum(_size(self.limit), self._scale()))
            if len(broken):
                return self._traced([(int(line), -1) for line in broken[:MOST_TRACED]], number)
            if not self._imply(number, least, unknown):
                return None
            crossed = np.flatnonzero(self.lower > self.upper + FEASIBILITY * _size(self.lower))
            if len(crossed):
                return self._traced([(-1, int(column)) for column in crossed[:MOST_TRACED]], number + 1)
        return None

    def _taken(self) -> Floats:
        """Return for every entry the bound at which its line is least."""
        return np.where(self.values > 0, self.lower[self.columns], self.upper[self.columns])

    def _least(self) -> tuple[Floats, npt.NDArray[Any]]:
        """Return of every line the least it can be, infinite bounds left out, and how many of these there are."""
        part = self.values * self._taken()
        infinite = np.isinf(part)
        size = len(self.row)
        known = np.bincount(self.line, np.where(infinite, 0.0, part), size)
        return known.astype(float), np.bincount(self.line, infinite, size)

    def _scale(self) -> Floats:
        part = np.abs(self.values * self._taken())
        return np.bincount(self.line, np.where(np.isinf(part), 0.0, part), len(self.row)).astype(float)

    def _imply(self, number: int, least: Floats, unknown: npt.NDArray[Any]) -> bool:
        """Imply bounds from all lines; return whether any moved."""
        part = self.values * self._taken()
        infinite = np.isinf(part)
        others = unknown[self.line] - infinite
        rest = least[self.line] - np.where(infinite, 0.0, part)
        with np.errstate(all="ignore"):
            bound = np.where(others == 0, (self.limit[self.line] - rest) / self.values, np.nan)
        whole = self.whole[self.columns]
        falls = self.values > 0
        with np.errstate(all="ignore"):
            rounded = np.where(falls, np.floor(bound + NEAR), np.ceil(bound - NEAR))
        rounds = whole & (np.abs(rounded - bound) > NEAR)
        bound = np.where(whole, rounded, bound)
        moved = False
        for upper in (True, False):
            now = self.upper if upper else self.lower
            better = (falls == upper) & np.isfinite(bound)
            gain = (now[self.columns] - bound) if upper else (bound - now[self.columns])
            better &= gain > GAIN * np.maximum(1.0, np.abs(bound))
            entries = np.flatnonzero(better)
            if not len(entries):
                continue
            moved = True
            # of each column the best one
            order = np.lexsort((bound[entries] if upper else -bound[entries], self.columns[entries]))
            entries = entries[order]
            columns = self.columns[entries]
            first = np.concatenate(([True], columns[1:] != columns[:-1]))
            for entry in entries[first].tolist():
                column = int(self.columns[entry])
                self.made.setdefault((column, upper), []).append(
                    (number, entry, float(bound[entry]), bool(rounds[entry]))
                )
            now[columns[first]] = bound[entries[first]]
        return moved

    # ------------------------------------------------------------------ tracing

    def _traced(self, ends: list[tuple[int, int]], number: int) -> Chain:
        """Return the chain with the fewest steps to one of the contradictions found in a round."""
        chains = [self._chain(line, column, number) for line, column in ends]
        return min(chains, key=lambda chain: (len(chain.steps), len(chain.rows) + len(chain.bounds)))

    def _chain(self, line: int, column: int, number: int) -> Chain:
        steps: list[Step] = []
        rows: set[tuple[int, bool]] = set()
        bounds: set[tuple[int, bool]] = set()
        marks: set[int] = set()
        done: set[tuple[int, bool, int]] = set()
        # a depth-first walk in which a step is written when what it rests on is
        work: list[tuple[str, int, bool, int]] = []

        def rest_on(of_line: int, but: int, before: int) -> None:
            """Ask for the bounds that a line takes, but for one column's."""
            for k in range(self.starts[of_line], self.starts[of_line + 1]):
                j = int(self.columns[k])
                if j != but:
                    work.append(("bound", j, bool(self.values[k] < 0), before))

        if line >= 0:
            rows.add((int(self.row[line]), bool(self.side_upper[line])))
            rest_on(line, -1, number)
        else:
            work += [("bound", column, False, number), ("bound", column, True, number)]
        while work:
            what, j, upper, before = work.pop()
            made = [entry for entry in self.made.get((j, upper), []) if entry[0] < before]
            if not made:
                bounds.add((j, upper))
                continue
            when, entry, value, rounded = made[-1]
            of_line = int(self.line[entry])
            side = bool(self.side_upper[of_line])
            if what == "write":
                steps.append(Step(int(self.row[of_line]), side, j, not upper, value, rounded))
            elif (j, upper, when) not in done:
                done.add((j, upper, when))
                rows.add((int(self.row[of_line]), side))
                if rounded:
                    marks.add(j)
                work.append(("write", j, upper, before))
                rest_on(of_line, j, when)
        steps.append(self._end(line, column))
        return Chain(tuple(steps), frozenset(rows), frozenset(bounds), frozenset(marks))

    def _end(self, line: int, column: int) -> Step:
        if line < 0:
            return Step(-1, False, column, True, float(self.lower[column]))
        least = self._least_of(line)
        upper = bool(self.side_upper[line])
        return Step(int(self.row[line]), upper, -1, False, least if upper else -least)

    def _least_of(self, line: int) -> float:
        part = slice(self.starts[line], self.starts[line + 1])
        columns, values = self.columns[part], self.values[part]
        return float(values @ np.where(values > 0, self.lower[columns], self.upper[columns]))


def _size(limits: Floats) -> Floats:
    return np.maximum(1.0, np.where(np.isfinite(limits), np.abs(limits), 1.0))
