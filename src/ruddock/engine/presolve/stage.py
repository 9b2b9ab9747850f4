"""What all reductions share: the problem at one stage, a point of it, and the interface of a reduction."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine.measure import near
from ruddock.engine.outcome import AT_LOWER, BASIC, Codes
from ruddock.problem import INTEGER, Floats, Ints, Problem

Mask = np.ndarray[Any, np.dtype[np.bool_]]
Places = np.ndarray[Any, np.dtype[np.intp]]

LOSS = 4 * 2.0**-52  # of all terms of a sum: what adding them up may lose
NEGLIGIBLE = 1e-11  # of a sum: what is far within every tolerance
SAFE_PIVOT = 1e-3  # of the largest entry beside it: what a substitution may divide by


@dataclass(eq=False, repr=False)
class Point:
    """A solution of a stage, or a proof or a ray.

    Attributes
    ----------
    x : values of columns, or a direction; None for a proof
    y, d : dual values of rows and reduced costs of columns; None for a ray
    columns, rows : basis codes; None where there is no basis
    direction : whether ``x`` is a ray, for which every constant is zero
    proof : whether ``y`` proves infeasibility, for which every cost is zero
    """

    x: Floats | None = None
    y: Floats | None = None
    d: Floats | None = None
    columns: Codes | None = None
    rows: Codes | None = None
    direction: bool = False
    proof: bool = False

    def spread(self, kept_columns: Ints | None, n: int, kept_rows: Ints | None, m: int) -> Point:
        """Return the same in a larger space: new columns at zero and out of the basis, new rows' logicals in it."""
        return replace(
            self,
            x=_spread(self.x, kept_columns, n, 0.0),
            d=_spread(self.d, kept_columns, n, 0.0),
            columns=_spread(self.columns, kept_columns, n, AT_LOWER),
            y=_spread(self.y, kept_rows, m, 0.0),
            rows=_spread(self.rows, kept_rows, m, BASIC),
        )

    def constant(self, values: Floats) -> Floats:
        """Return constants of ``x`` as they count here: zero for a ray."""
        return np.zeros_like(values) if self.direction else values

    def cost(self, values: Floats) -> Floats:
        """Return costs as they count here: zero for a proof."""
        return np.zeros_like(values) if self.proof else values


def _spread(values: Any, kept: Ints | None, size: int, fill: float) -> Any:
    if values is None or kept is None:
        return None if values is None else values.copy()
    result = np.full(size, fill, values.dtype)
    result[kept] = values
    return result


class Stage:
    """A problem between two reductions, with what several of them look at."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem

    @cached_property
    def whole(self) -> Mask:
        """The columns that are to be whole, whose bounds are."""
        return (self.problem.kinds & INTEGER) != 0

    @cached_property
    def tied(self) -> Mask:
        """The columns that share a row with whole ones, which may switch them or bound them."""
        p = self.problem
        switching = np.bincount(p.indices, self.whole[self.owner], p.m) > 0
        return np.asarray(np.bincount(self.owner, switching[p.indices], p.n) > 0)

    def within(self, columns: Places, low: Floats, high: Floats) -> tuple[Floats, Floats]:
        """Return bounds for some columns, those of whole ones rounded to what these can reach."""
        whole = self.whole[columns]
        with np.errstate(invalid="ignore"):
            return np.where(whole, np.ceil(low - near(low)), low), np.where(whole, np.floor(high + near(high)), high)

    @cached_property
    def owner(self) -> Places:
        """The column of each entry."""
        return np.repeat(np.arange(self.problem.n), self.column_counts)

    @cached_property
    def column_counts(self) -> Places:
        """Numbers of entries by column."""
        return np.diff(self.problem.starts).astype(np.intp)

    @cached_property
    def row_counts(self) -> Places:
        """Numbers of entries by row."""
        return np.bincount(self.problem.indices, minlength=self.problem.m)

    @cached_property
    def by_rows(self) -> csr_matrix:
        """The matrix by rows."""
        return self.problem.matrix().tocsr()

    @cached_property
    def ends(self) -> tuple[Floats, Floats]:
        """Each entry's least and greatest contribution to its row."""
        p = self.problem
        low, high = p.values * p.lower[self.owner], p.values * p.upper[self.owner]
        return np.minimum(low, high), np.maximum(low, high)

    @cached_property
    def activity(self) -> tuple[Floats, Floats, Places, Places]:
        """Least and greatest activity of each row without infinite contributions, and how many those are."""
        p = self.problem
        sums, opens = [], []
        for ends in self.ends:
            infinite = np.isinf(ends)
            sums.append(np.bincount(p.indices, np.where(infinite, 0.0, ends), p.m).astype(float))
            opens.append(np.bincount(p.indices, infinite, p.m).astype(np.intp))
        return sums[0], sums[1], opens[0], opens[1]

    @cached_property
    def range(self) -> tuple[Floats, Floats]:
        """Least and greatest activity of each row."""
        least, most, least_open, most_open = self.activity
        return np.where(least_open > 0, -np.inf, least), np.where(most_open > 0, np.inf, most)

    @cached_property
    def lost(self) -> tuple[Floats, Floats]:
        """What adding up the least and the greatest activity of each row may have lost."""
        p = self.problem
        least, most = (
            LOSS * np.bincount(p.indices, np.where(np.isinf(ends), 0.0, np.abs(ends)), p.m) for ends in self.ends
        )
        return np.asarray(least, float), np.asarray(most, float)

    def range_without(self, entries: Places) -> tuple[Floats, Floats]:
        """Return the range of the rows of some entries, each without its entry, and no narrower than it is for sure."""
        least, most, least_open, most_open = self.activity
        rows = self.problem.indices[entries]
        results = []
        for sums, opens, ends, lost, none in (
            (least, least_open, self.ends[0], self.lost[0], -np.inf),
            (most, most_open, self.ends[1], self.lost[1], np.inf),
        ):
            own = ends[entries]
            infinite = np.isinf(own)
            rest = sums[rows] - np.where(infinite, 0.0, own)
            off = lost[rows]
            rest += np.where(off > NEGLIGIBLE * np.maximum(1.0, np.abs(rest)), np.copysign(off, none), 0.0)
            results.append(np.where(opens[rows] - infinite > 0, none, rest))
        return results[0], results[1]

    def without(self, rows: Mask | None = None, columns: Mask | None = None, **changes: Any) -> Problem:
        """Return the problem without the marked rows and columns; ``changes`` are in the old numbers."""
        p = replace(self.problem, **changes)
        gone_rows = np.zeros(p.m, bool) if rows is None else rows
        gone = np.zeros(p.n, bool) if columns is None else columns
        place = np.cumsum(~gone_rows) - 1
        owner = np.repeat(np.arange(p.n), np.diff(p.starts)) if "starts" in changes else self.owner
        kept = ~(gone_rows[p.indices] | gone[owner])
        counts = np.bincount(owner[kept], minlength=p.n)[~gone]
        return Problem(
            np.concatenate(([0], np.cumsum(counts))).astype(np.int32),
            place[p.indices[kept]].astype(np.int32),
            p.values[kept],
            p.row_lower[~gone_rows],
            p.row_upper[~gone_rows],
            p.lower[~gone],
            p.upper[~gone],
            p.costs[~gone],
            p.kinds[~gone],
            p.offset,
        )

    def columns(self, numbers: Places) -> csc_matrix:
        """Return some columns of the matrix."""
        return self.problem.matrix()[:, numbers]


class Reduction(ABC):
    """One step of presolve: found on a stage, and undone on points of what it left."""

    title: ClassVar[str]
    fixes_columns: ClassVar[bool] = False
    rows_gone = 0
    columns_gone = 0

    @property
    def columns_left(self) -> Ints | None:
        """The columns that it leaves, in their order; None for all of them."""
        kept: Ints | None = getattr(self, "kept_columns", None)
        return kept

    @classmethod
    @abstractmethod
    def find(cls, stage: Stage) -> tuple[Self, Problem] | None:
        """Return the step with the problem that it leaves, or None if there is nothing to do."""

    @abstractmethod
    def restore(self, point: Point) -> Point:
        """Return the point of the larger problem that belongs to one of the smaller."""


def limit_size(limits: Floats) -> Floats:
    """Return what tolerances of limits are relative to: their size, at least 1."""
    return np.maximum(1.0, np.where(np.isfinite(limits), np.abs(limits), 1.0))


def left(gone: Mask) -> Ints:
    """Return the numbers of what is not gone; every step keeps them until the way back."""
    return np.flatnonzero(~gone).astype(np.int32)


def first_of(groups: Any) -> Mask:
    """Mark the first of each run of entries in the same group, wherever they stand."""
    marked = np.zeros(len(groups), bool)
    marked[np.unique(groups, return_index=True)[1]] = True
    return marked
