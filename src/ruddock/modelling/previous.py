"""Looking back along an ordered axis: the value some labels earlier, and what comes before the first one."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.errors import ModelError
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, Positions, project
from ruddock.modelling.terms import MissingCells, Terms

WHY = (
    "previous({axis}, {n}) has no value at {{labels}}, which {covers}: say what comes before the first label (a "
    "number, data, a decision without that axis, or cyclic), or leave these members out with where"
)


def look_back(terms: Terms, axis: Axis, n: int, start: Terms | str | None) -> Terms:
    """Return the value ``n`` labels earlier of every member, each along its own sequence of labels.

    A family over a part of the combinations has a sequence for each combination of the other axes: its first label
    is the first that is there. No row is made for a member that does not exist.

    Parameters
    ----------
    start : Terms without the axis, ``"cyclic"`` or None
        None leaves it without a value at the first labels.
    """
    if not n:
        return terms
    cells = terms.cells
    others = [name for name in cells.names if name != axis.name]
    run = _Sequences(cells, axis, others)
    target = run.place - n
    inside = (target >= 0) & (target < run.length)
    if isinstance(start, str):
        return terms.gather(cells, run.cell_at(np.mod(target, run.length)))
    source = np.where(inside, run.cell_at(np.where(inside, target, run.place)), -1)
    if start is None:
        kept = np.flatnonzero(inside)
        shifted = terms.gather(cells.take(kept), source[kept])
        absent = MissingCells(
            cells.take(np.flatnonzero(~inside)), WHY.format(axis=axis.name, n=n, covers="the other side covers")
        )
        beyond = _beyond(cells, axis, others, n)
        missing = (*terms.missing, absent)
        if beyond is not None:
            missing = (*missing, MissingCells(beyond, absent.why))
        return replace(shifted, missing=missing)
    if axis.name in start.cells.names:
        raise ModelError(f"start= is the value before the first {axis.name}: pick one, without the axis {axis.name}")
    extra = [name for name in start.cells.names if name not in cells.names]
    if extra:
        raise ModelError(f"start= has the axis {', '.join(extra)}, which the expression lacks")
    outside = np.flatnonzero(~inside)
    opening_cells = cells.take(outside)
    opening = start.gather(opening_cells, start.cells.lookup(opening_cells))
    later = terms.gather(cells, source)
    rows = np.concatenate((later.rows, outside[opening.rows]))
    constants = later.constants.copy()
    constants[outside] += opening.constants
    beyond = _beyond(cells, axis, others, n)
    missing = terms.missing if beyond is None else (*terms.missing, MissingCells(beyond, _outside(axis, n)))
    return replace(
        terms,
        cells=cells,
        rows=rows,
        columns=np.concatenate((later.columns, opening.columns)),
        values=np.concatenate((later.values, opening.values)),
        constants=constants,
        units=terms.units | start.units,
        missing=missing,
        aligned=False,
    )


def _outside(axis: Axis, n: int) -> str:
    return (
        f"previous({axis.name}, {n}) has no value at {{labels}}: the family has no member there, though the other side "
        "has; keep the rest with .where(), or declare the members"
    )


class _Sequences:
    """The cells as sequences along an axis, one for each combination of the other axes.

    Attributes
    ----------
    place, length : for each cell, which it is in its own sequence, and how long that is
    """

    def __init__(self, cells: Cells, axis: Axis, others: list[str]) -> None:
        along = cells.codes[cells.position(axis.name)]
        group = project(cells, others)[1] if others else np.zeros(cells.size, np.intp)
        self._order = np.lexsort((along, group))
        sizes = np.bincount(group)
        begins = np.cumsum(sizes) - sizes
        rank = np.empty(cells.size, np.intp)
        rank[self._order] = np.arange(cells.size)
        self._begin = begins[group]
        self.place, self.length = rank - self._begin, sizes[group]

    def cell_at(self, place: Positions) -> Positions:
        """Return the cell at a place of the own sequence of each cell."""
        return np.asarray(self._order[self._begin + place])


def _beyond(cells: Cells, axis: Axis, others: list[str], n: int) -> Cells | None:
    """Return labels without a member whose label ``n`` earlier has one: there the other side would lose its value."""
    if cells.full:
        return None
    at = cells.position(axis.name)
    moved = cells.codes[at].astype(np.int64) + n
    kept = np.flatnonzero((moved >= 0) & (moved < len(axis)))
    codes = [part[kept] for part in cells.codes]
    codes[at] = moved[kept].astype(np.int32)
    later = Cells(cells.axes, codes)
    found = cells.lookup(later)
    outside = np.flatnonzero(found < 0) if found is not None else np.zeros(0, np.intp)
    return later.take(outside) if len(outside) else None
