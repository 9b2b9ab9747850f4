"""Presolve for whole numbers: the same columns, with tighter bounds, smaller coefficients and fewer rows.

Every reduction keeps an optimal whole plan, so that a plan of the tightened problem is one of the problem
as it is, with nothing to bring back (Savelsbergh 1994; Achterberg et al. 2020).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine.measure import near
from ruddock.engine.presolve.rows import RedundantRows
from ruddock.engine.presolve.stage import Stage
from ruddock.engine.tree.cliques import Cliques
from ruddock.engine.tree.domain import ULPS, Domain
from ruddock.engine.tree.groups import Groups
from ruddock.engine.tree.integral import implied_integers
from ruddock.engine.tree.propagate import Propagator, tighten_coefficients
from ruddock.problem import INTEGER, SEMICONTINUOUS, Bytes, Floats, Problem

Implied = tuple[np.ndarray, Floats, Floats]  # columns, and the bounds that they then have

ROUNDS = 8
RELAX = 1e-7  # implied bounds of continuous columns are left this much room, beside their size
MOST_PROBED = 2000  # binary columns that are tried both ways
PROBING_WORK = 20_000_000  # entries that probing looks at, at most
PATIENCE = 2_000_000  # entries that it looks at without learning anything
PROPAGATION_WORK, PORTIONS = 20_000_000, 4  # entries that propagation looks at, at most, and in how many portions
MOST_BOUNDS = 100_000  # taken from rows
SAME = 1e-9


class VariableBound(NamedTuple):
    """A bound of a column that depends on a binary column: ``x <= at_zero + (at_one - at_zero) y``, or ``>=``."""

    column: int
    binary: int
    at_zero: float
    at_one: float
    upper: bool


def propagator(problem: Problem) -> Propagator:
    """Return the rows of a problem ready for propagation; its row limits are copied."""
    rows, *groups = Groups.of_problem(problem)
    columns = csc_matrix(rows)
    return Propagator(
        problem.m,
        problem.n,
        (rows.indptr.astype(np.int32), rows.indices.astype(np.int32), rows.data.astype(float)),
        (columns.indptr.astype(np.int32), columns.indices.astype(np.int32), columns.data),
        problem.row_lower.copy(),
        problem.row_upper.copy(),
        whole_columns(problem),
        groups,
    )


def whole_columns(problem: Problem) -> Bytes:
    """Return an int8 mask of the integer columns."""
    return ((problem.kinds & INTEGER) != 0).astype(np.int8)


def implied_bounds(problem: Problem) -> tuple[Floats, Floats] | None:
    """Return the bounds of columns that rows imply; None where they contradict each other, so that there is no plan."""
    domain = Domain(problem)
    lower, upper = domain.lower.copy(), domain.upper.copy()
    if propagator(problem).run(lower, upper, None, PROPAGATION_WORK) < 0:
        return None
    return lower, upper


class Tightening:
    """The tightened problem and what was learnt on the way.

    Parameters
    ----------
    complete : bool
        Whether these are all rows; if others may follow, no column is fixed for want of a row against it.
    probes : bool
        Whether binary columns are tried both ways.

    Attributes
    ----------
    problem : Problem
        With the same columns.
    lower, upper : float arrays, shape (n,)
        Bounds of the relaxation.
    infeasible : bool
    cliques : Cliques
        Yes/no values of which at most one can hold.
    variable_bounds : list of VariableBound
    """

    def __init__(
        self,
        problem: Problem,
        domain: Domain,
        stopped: Callable[[], bool] = lambda: False,
        *,
        complete: bool = True,
        probes: bool = True,
    ) -> None:
        implied = implied_integers(problem, complete=complete)
        self.problem = replace(problem, kinds=np.where(implied, problem.kinds | INTEGER, problem.kinds))
        self.stopped, self.complete = stopped, complete
        self.lower, self.upper = domain.lower.copy(), domain.upper.copy()
        self.lower[implied] = np.ceil(self.lower[implied] - near(self.lower[implied], ULPS))
        self.upper[implied] = np.floor(self.upper[implied] + near(self.upper[implied], ULPS))
        self.semi = (problem.kinds & SEMICONTINUOUS) != 0
        self.whole = whole_columns(self.problem)
        self.infeasible = False
        self.cliques = Cliques(problem.n)
        self.variable_bounds: list[VariableBound] = []
        self.counts = {"coefficients": 0, "rows": 0, "fixed": 0, "probed": 0, "implied integers": int(implied.sum())}
        fixed = int((self.lower == self.upper).sum())
        for _ in range(ROUNDS):
            if stopped() or not self._round():
                break
        if probes and not self.infeasible:
            self._probe()
        if not self.infeasible and not stopped():
            self._round()
        if not self.infeasible and not stopped():
            self.cliques.add_rows(self.problem, self.lower, self.upper, stopped)
            self._find_variable_bounds()
        self.counts["fixed"] = int((self.lower == self.upper).sum()) - fixed

    def _round(self) -> bool:
        """Propagate, fix, shrink, and drop rows once; return whether another round may pay."""
        before = self.lower.copy(), self.upper.copy()
        self._propagate()
        if self.infeasible or self.stopped():
            return False
        if self.complete:
            self._fix_by_costs()
        changed = self._shrink()
        self._drop_rows()
        moved = (before[0] != self.lower) | (before[1] != self.upper)
        return bool(changed or (moved & (self.whole != 0)).any())

    def _propagate(self) -> None:
        lower, upper = self.lower.copy(), self.upper.copy()
        rows = propagator(self.problem)
        # in portions, so that a limit is kept; one that was not enough is taken up by the next from what has moved
        columns, portion = None, PROPAGATION_WORK // PORTIONS
        for _ in range(PORTIONS):
            before = rows.work
            moved = rows.run(lower, upper, columns, portion)
            if moved < 0:
                self.infeasible = True
                return
            if rows.work - before < portion or self.stopped():
                break
            columns = np.asarray(rows.moved)[:moved].copy()
            rows.forget()
        self._take(slice(None), lower, upper)

    def _take(self, columns: np.ndarray | slice, lower: Floats, upper: Floats) -> None:
        """Take better bounds of some columns: continuous ones with a little room, semicontinuous ones not at all."""
        loose, semi = self.whole[columns] == 0, self.semi[columns]
        lower = np.where(loose, lower - RELAX * np.maximum(1.0, np.abs(lower)), lower)
        upper = np.where(loose, upper + RELAX * np.maximum(1.0, np.abs(upper)), upper)
        self.lower[columns] = np.where(semi, self.lower[columns], np.maximum(self.lower[columns], lower))
        self.upper[columns] = np.where(semi, self.upper[columns], np.minimum(self.upper[columns], upper))
        self.infeasible |= bool((self.lower[columns] > self.upper[columns]).any())

    def _fix_by_costs(self) -> None:
        """Fix columns at a bound that costs prefer and no row speaks against."""
        p = self.problem
        down, up = p.locks()
        low = (p.costs >= 0) & (down == 0) & np.isfinite(self.lower) & ~self.semi & (self.lower < self.upper)
        high = (p.costs <= 0) & (up == 0) & np.isfinite(self.upper) & ~self.semi & (self.lower < self.upper) & ~low
        self.upper[low] = self.lower[low]
        self.lower[high] = self.upper[high]

    def _shrink(self) -> int:
        """Shrink coefficients of integer columns."""
        p = self.problem
        matrix = csr_matrix(p.matrix())
        rows = (matrix.indptr.astype(np.int32), matrix.indices.astype(np.int32), matrix.data.astype(float))
        low, high = p.row_lower.copy(), p.row_upper.copy()
        plain = np.where(self.semi, 0, self.whole).astype(np.int8)
        changed = tighten_coefficients(rows, low, high, self.lower, self.upper, plain)
        if changed:
            tighter = csr_matrix((rows[2], rows[1], rows[0]), shape=matrix.shape)
            tighter.eliminate_zeros()
            self.problem = Problem.build(tighter, low, high, p.lower, p.upper, p.costs, p.kinds, p.offset)
            self.counts["coefficients"] += changed
        return int(changed)

    def _drop_rows(self) -> None:
        """Drop rows that the bounds keep anyway."""
        p = self.problem
        found = RedundantRows.find(Stage(replace(p, lower=self.lower, upper=self.upper)))
        if found is not None:
            step, left = found
            self.counts["rows"] += step.rows_gone
            self.problem = replace(left, lower=p.lower, upper=p.upper)

    # ------------------------------------------------------------------ probing

    def _probe(self) -> None:
        """Try binary columns both ways: what contradicts is fixed, what follows either way holds."""
        binaries = np.flatnonzero((self.whole != 0) & (self.lower == 0) & (self.upper == 1) & ~self.semi)
        weights = np.diff(self.problem.starts)[binaries]
        order = binaries[np.argsort(-weights, kind="stable")][:MOST_PROBED]
        rows = propagator(self.problem)
        known = Cliques(self.problem.n)
        known.add_rows(self.problem, self.lower, self.upper, self.stopped)
        learnt = 0
        for j in order.tolist():
            if rows.work > min(PROBING_WORK, learnt + PATIENCE) or self.stopped():
                return
            if self.lower[j] == self.upper[j]:
                continue
            self.counts["probed"] += 1
            off, on = (self._tried(rows, j, value) for value in (0.0, 1.0))
            if off is None and on is None:
                self.infeasible = True
                return
            sure = on if off is None else off if on is None else None
            if sure is not None:
                self._take(*sure)
                if self.infeasible:
                    return
            if sure is not None or (off is not None and on is not None and self._learn(j, off, on, known)):
                learnt = rows.work

    def _tried(self, rows: Propagator, column: int, value: float) -> Implied | None:
        """Return what follows for other columns from a value of one, and that value; None if it cannot be."""
        rows.forget()
        rows.fix(self.lower, self.upper, column, value, value)
        count = rows.run(self.lower, self.upper, np.array([column], np.int32), PROPAGATION_WORK // 100)
        moved = np.asarray(rows.moved)[: max(count, 0)]
        moved = np.append(moved[moved != column], column)
        found = moved, self.lower[moved], self.upper[moved]
        rows.undo(self.lower, self.upper, 0)
        return None if count < 0 else found

    def _learn(self, j: int, off: Implied, on: Implied, known: Cliques) -> bool:
        """Keep what either value of column ``j`` implies; say whether that is more than was ``known``."""
        bounds, news = len(self.variable_bounds), 0
        for value, (columns, lower, upper) in ((0, off), (1, on)):
            before, after = self.lower[columns], self.upper[columns]
            free = (columns != j) & (before < after)
            if not free.any():
                continue
            binary = (self.whole[columns] != 0) & (before == 0) & (after == 1)
            fixed = free & binary & (lower == upper)
            if fixed.any():
                literal = 2 * j + (value == 0)
                excluded = np.setdiff1d(2 * columns[fixed] + (lower[fixed] != 0), known.excluded(literal))
                self.cliques.add_pairs(literal, excluded)
                news += len(excluded)
            for t in np.flatnonzero(free & ~binary & ~self.semi[columns]).tolist():
                self._bound_by(int(columns[t]), j, value, float(lower[t]), float(upper[t]))
        if len(off[0]) > 1 and len(on[0]) > 1:
            news += self._take_either(j, off, on)
        return bool(news or len(self.variable_bounds) > bounds)

    def _take_either(self, j: int, off: Implied, on: Implied) -> bool:
        """Take what both values imply; a column that only one moves keeps its bounds. Say whether any moved."""
        both, of_off, of_on = np.intersect1d(off[0], on[0], assume_unique=True, return_indices=True)
        other = both != j
        columns = both[other]
        before, after = self.lower[columns], self.upper[columns]
        self._take(
            columns,
            np.minimum(off[1][of_off], on[1][of_on])[other],
            np.maximum(off[2][of_off], on[2][of_on])[other],
        )
        return bool(((before < self.lower[columns]) | (self.upper[columns] < after)).any())

    def _bound_by(self, k: int, j: int, value: int, low: float, high: float) -> None:
        """Keep bounds of column ``k`` that a value of the binary column ``j`` implies."""
        if high < self.upper[k] - SAME and np.isfinite(self.upper[k]):
            ends = (high, self.upper[k]) if value == 0 else (self.upper[k], high)
            self.variable_bounds.append(VariableBound(k, j, float(ends[0]), float(ends[1]), upper=True))
        if low > self.lower[k] + SAME and np.isfinite(self.lower[k]):
            ends = (low, self.lower[k]) if value == 0 else (self.lower[k], low)
            self.variable_bounds.append(VariableBound(k, j, float(ends[0]), float(ends[1]), upper=False))

    def _find_variable_bounds(self) -> None:
        """Take from rows such as ``sum x <= 600 y`` the bound that they are for each of their columns."""
        p = self.problem
        matrix = csr_matrix(p.matrix())
        row = np.repeat(np.arange(p.m), np.diff(matrix.indptr))
        columns = matrix.indices
        binary = (self.whole != 0) & (self.lower == 0) & (self.upper == 1)
        plain = (self.whole == 0) & ~self.semi & (self.lower == 0) & np.isfinite(self.upper)
        one = np.bincount(row, binary[columns], p.m) == 1
        known = {(bound.column, bound.binary) for bound in self.variable_bounds}
        for sign, limit in ((1.0, p.row_upper), (-1.0, -p.row_lower)):
            a = sign * matrix.data
            rest = plain[columns] & (a > 0)
            fits = one & np.isfinite(limit) & (np.bincount(row, rest, p.m) + 1 == np.diff(matrix.indptr))
            switch = fits[row] & binary[columns] & (a < 0)
            by, size = np.full(p.m, -1), np.zeros(p.m)
            by[row[switch]], size[row[switch]] = columns[switch], -a[switch]
            for k in np.flatnonzero(rest & (by[row] >= 0))[:MOST_BOUNDS].tolist():
                i, j = row[k], int(columns[k])
                off, on = limit[i] / a[k], (limit[i] + size[i]) / a[k]
                if off < self.upper[j] - SAME and (j, int(by[i])) not in known:
                    ends = float(max(off, 0.0)), float(min(on, self.upper[j]))
                    self.variable_bounds.append(VariableBound(j, int(by[i]), *ends, upper=True))

    def tightened(self) -> Problem:
        """Return the tightened problem; semicontinuous columns keep their bounds."""
        lower = np.where(self.semi, self.problem.lower, self.lower)
        upper = np.where(self.semi, self.problem.upper, self.upper)
        return replace(self.problem, lower=lower, upper=upper)
