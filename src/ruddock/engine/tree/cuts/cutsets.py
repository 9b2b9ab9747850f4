"""Cut-sets: what some nodes of a network need together comes in over arcs from outside, which had to be opened.

Rows between which columns flow are the nodes. Of a set of nodes, what flows from one to another cancels; what is left
flows in, and counts for what it is or, where it needs a binary column, for the whole need times that column (Rardin and
Wolsey 1993). Where an arc takes less than the need, rounding the same sum of rows says more. Sets are grown from each
node by those that most comes from.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, diags

from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.cuts.growth import Growth
from ruddock.engine.tree.cuts.needs import Needs, Pairs, Ties
from ruddock.engine.tree.cuts.rounding import rounded
from ruddock.problem import Floats, Problem

LARGEST = 40  # nodes of a set
STARTS = 400  # nodes from which sets are grown in one round
MISSES = 3  # rounds without a cut after which a node begins no more sets
WORK = 20_000_000  # entries that are looked at in one round
MOST_ARCS = 200_000  # columns between two rows, beyond which no networks are looked for
SPREAD = 1e4  # factors of rows are less than this, and more than one by this
VIOLATED = 1e-4  # distance of the point from a cut, below which none is built
TURNS = 1.0, -1.0  # rows as they are scaled, and with all signs turned


class Cutsets:
    """The networks of a problem whose arcs must be opened."""

    def __init__(self, problem: Problem, ties: Ties, asked: Needs) -> None:
        self._ties = ties
        self._rows, self._scale = rows, scale = _nodes(problem, ties, asked)
        if not len(rows):
            return
        self._matrix = matrix = csr_matrix(diags(scale) @ problem.by_rows()[rows])
        across = csc_matrix(matrix)
        self._growth = Growth(
            *((held.indptr.astype(np.int32), held.indices.astype(np.int32), held.data) for held in (matrix, across))
        )
        least = matrix @ np.where(np.diff(across.indptr) > 0, ties.lower, 0.0)
        low, high = problem.row_lower[rows], problem.row_upper[rows]
        self._limits = tuple(np.where(turn * scale > 0, low, high) * turn * scale for turn in TURNS)
        self._needs = tuple(
            np.where(np.isfinite(limit), limit - turn * least, -np.inf)
            for limit, turn in zip(self._limits, TURNS, strict=True)
        )
        self._misses = np.zeros((len(TURNS), len(rows)), np.int64)

    def cuts(self, frame: Frame) -> list[Cut]:
        """Return cuts of sets of nodes that the point breaks."""
        found: list[Cut] = []
        if not len(self._rows):
            return found
        above, ready = self._ties.at(frame.x)
        before = self._growth.work
        for side, turn in enumerate(TURNS):
            needs = self._needs[side]
            starts = np.flatnonzero((needs > 0) & (self._misses[side] < MISSES))
            starts = starts[np.argsort(-needs[starts], kind="stable")][:STARTS]
            self._misses[side, starts] += 1
            seen: set[tuple[int, ...]] = set()
            for start in starts.tolist():
                if frame.stopped() or self._growth.work - before > WORK:
                    return found
                distance = self._growth.grow(start, turn, LARGEST, needs, above, ready)
                if distance <= VIOLATED:
                    continue
                self._misses[side, start] = 0
                members = np.sort(self._growth.members[: self._growth.kept])
                if tuple(members.tolist()) not in seen:
                    seen.add(tuple(members.tolist()))
                    found += [cut for cut in self._cuts(frame, side, members) if cut is not None]
        return found

    def _cuts(self, frame: Frame, side: int, members: np.ndarray) -> list[Cut | None]:
        """Return the cuts of a set: with the whole need for what is paid for, and rounded."""
        turn = TURNS[side]
        part = self._matrix[members]
        columns, places = np.unique(part.indices, return_inverse=True)
        sums = turn * np.bincount(places, part.data, len(columns)).astype(float)
        limits = self._limits[side][members]
        shift = sums * self._ties.lower[columns]
        total = float(limits.sum() - shift.sum())
        inflow = sums > 0
        size = (1 + len(members)) * float(np.abs(limits).sum() + np.abs(shift).sum())
        need = np.full(int(inflow.sum()), total)
        return [
            self._ties.cut(frame, columns[inflow], sums[inflow], need, total, "cut-set", size),
            rounded(frame, self._rows[members], -turn * self._scale[members], "cut-set"),
        ]


def _nodes(problem: Problem, ties: Ties, asked: Needs) -> tuple[np.ndarray, Floats]:
    """Return the rows of networks in which tied columns flow, and factors by which what flows between two cancels."""
    m, column = problem.m, np.repeat(np.arange(problem.n), np.diff(problem.starts))
    row, value = problem.indices, problem.values
    pays = np.zeros(problem.n, bool)
    pays[ties.binary[ties.tied]] = True
    into, out_of = (np.bincount(row, ties.tied[column] & (sign * value > 0), m) > 0 for sign in TURNS)
    own = (problem.row_lower == problem.row_upper) | asked.usable | (into & out_of)
    own &= np.bincount(row, ~np.isfinite(ties.lower[column]) | pays[column], m) == 0
    held = own[row]
    pairs = Pairs.of(row[held], column[held], value[held])
    scale = _factors(m, pairs, ties.tied[pairs.column]) if len(pairs.column) <= MOST_ARCS else np.zeros(m)
    rows = np.flatnonzero((np.abs(scale) < SPREAD) & (np.abs(scale) > 1.0 / SPREAD))
    return rows, scale[rows]


def _factors(m: int, pairs: Pairs, between: np.ndarray) -> Floats:
    """Return factors of rows that follow from one another along pairs; 0 for rows that no marked pair leads to."""
    one, other = pairs.rows
    ratio = -pairs.values[0] / pairs.values[1]
    ends, others, ratios = np.append(one, other), np.append(other, one), np.append(ratio, 1.0 / ratio)
    order = np.argsort(ends, kind="stable")
    starts = np.searchsorted(ends[order], np.arange(m + 1)).tolist()
    reached, times = others[order].tolist(), ratios[order].tolist()
    factor = [0.0] * m
    for root in one[between].tolist():
        if factor[root]:
            continue
        factor[root] = 1.0
        queue = [root]
        for row in queue:
            for k in range(starts[row], starts[row + 1]):
                if not factor[reached[k]]:
                    factor[reached[k]] = factor[row] * times[k]
                    queue.append(reached[k])
    return np.array(factor)
