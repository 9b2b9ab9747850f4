"""Relations as they were written: both sides, and the sense between them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np

from ruddock.modelling.alignment import masked
from ruddock.modelling.cells import Cells, Positions
from ruddock.modelling.data import Data
from ruddock.modelling.terms import Terms, unwarned
from ruddock.problem import Floats

Sense = Literal["<=", ">=", "==", "between"]
TURNED: dict[str, Sense] = {"<=": ">=", ">=": "<=", "==": "==", "between": "between"}


@dataclass(frozen=True, eq=False, repr=False)
class Sides:
    """One relation for each cell: ``left sense right``, or ``low <= left <= high``.

    Attributes
    ----------
    left : Terms
    sense : ``<=``, ``>=``, ``==`` or ``between``
    right : Terms on the same cells; of a range None
    low, high : float arrays of a range, one per cell; infinite where there is no such limit; else None
    """

    left: Terms
    sense: Sense
    right: Terms | None = None
    low: Floats | None = None
    high: Floats | None = None

    @property
    def cells(self) -> Cells:
        """The label combinations."""
        return self.left.cells

    @property
    def limit_side(self) -> str | None:
        """Which side is a plain number for each cell, so the limit: ``right`` or ``left``; None where both decide."""
        if self.right is None or self.right.plain:
            return "right"
        return "left" if self.left.plain else None

    @cached_property
    def row(self) -> Terms:
        """The decisions of both sides on one, as a row of a problem; its constants are 0.

        The row is turned so that its limit moves with the limit written, or with the right side where that holds
        decisions: its dual value is the price of one unit more of it.
        """
        if self.right is None or self.right.plain:
            return self.left.without_constants()
        if self.left.plain:
            return self.right.without_constants()
        return self.left.plus(self.right, -1.0).without_constants()

    @cached_property
    @unwarned
    def bounds(self) -> tuple[Floats, Floats]:
        """The least and greatest value of the row; both read-only."""
        if self.right is None:
            assert self.low is not None
            assert self.high is not None
            lower, upper = self.low - self.left.constants, self.high - self.left.constants
        else:
            turned = self.limit_side == "left"
            sense = TURNED[self.sense] if turned else self.sense
            limit = self.right.constants - self.left.constants
            limit = (-limit if turned else limit) + 0.0
            lower = limit if sense in (">=", "==") else np.full(len(limit), -np.inf)
            upper = limit if sense in ("<=", "==") else np.full(len(limit), np.inf)
        for part in (lower, upper):
            part.flags.writeable = False
        return lower, upper

    def take(self, kept: Positions) -> Sides:
        """Return the relation for some of the cells, in the order asked for."""
        right = None if self.right is None else self.right.take(kept)
        low, high = (None if part is None else part[kept] for part in (self.low, self.high))
        left = self.left.take(kept)
        return Sides(left, self.sense, right and replace(right, cells=left.cells), low, high)

    def in_order(self) -> Sides:
        """Return the relation with its members in the order of their labels."""
        cells = self.cells
        if cells.full or not cells.axes:
            return self
        keys = cells.keys()
        if bool((keys[1:] > keys[:-1]).all()):
            return self
        return self.take(np.argsort(keys, kind="stable"))

    def spread(self, cells: Cells) -> Sides:
        """Return the relation for cells that have all of these axes, repeated along the others."""
        if cells is self.cells:
            return self
        place = self.cells.lookup(cells)
        low, high = (part if part is None or place is None else part[place] for part in (self.low, self.high))
        right = None if self.right is None else self.right.spread(cells)
        return Sides(self.left.spread(cells), self.sense, right, low, high)

    def where(self, mask: Data) -> Sides:
        """Return the relation for the cells where a mask is present and not zero."""
        return self.take(masked(self.cells, mask))

    def violation(self, left: Floats, right: Floats | None) -> Floats:
        """Return by how much each cell's relation is violated, given the values of its sides; 0 where it holds."""
        if right is None:
            assert self.low is not None
            assert self.high is not None
            return np.asarray(np.maximum(np.maximum(self.low - left, left - self.high), 0.0))
        difference = left - right
        if self.sense == "==":
            return np.abs(difference)
        return np.asarray(np.maximum(difference if self.sense == "<=" else -difference, 0.0))
