"""How combinations of labels are picked, matched and shown: shared by data and expressions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.errors import DataError, ModelError, listed
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, Positions
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.data import Data


def axis_names(cells: Cells, axes: Iterable[Axis | str]) -> set[str]:
    """Return the names of axes to sum over: those given, which must be there, or all."""
    names = [axis.name if isinstance(axis, Axis) else axis for axis in axes]
    for name in names:
        cells.position(name)
    return set(names) or set(cells.names)


def pick(cells: Cells, labels: Mapping[str, Any]) -> tuple[Cells, Positions]:
    """Return the cells at one label of each named axis, without those axes, and where they were.

    A list or slice of labels keeps its axis, and those labels of it.
    """
    keep = np.ones(cells.size, dtype=bool)
    single = set()
    for name, label in labels.items():
        at = cells.position(name)
        if isinstance(label, (list, slice, pd.Index, pd.Series, np.ndarray)):
            keep &= np.isin(cells.codes[at], cells.axes[at].some_codes(label))
        else:
            keep &= cells.codes[at] == cells.axes[at].code(label)
            single.add(name)
    where = np.flatnonzero(keep)
    rest = [i for i, axis in enumerate(cells.axes) if axis.name not in single]
    axes = [cells.axes[i] for i in rest]
    if not axes or (cells.full and len(single) == len(labels)):
        return Cells(axes), where
    return Cells(axes, [cells.codes[i][where] for i in rest]), where


def masked(cells: Cells, mask: Data) -> Positions:
    """Return where ``mask`` is present and not zero; its axes must be among those of the cells."""
    for name in mask.cells.names:
        cells.position(name)
    found = mask.cells.lookup(cells)
    if found is None:
        return np.flatnonzero(mask.values != 0)
    fill = mask.fill or 0.0
    held = mask.values[np.maximum(found, 0)] if len(mask.values) else np.zeros(len(found))
    return np.flatnonzero(np.where(found >= 0, held, fill) != 0)


def renamed(cells: Cells, axes: Mapping[str, Axis]) -> Cells:
    """Return the cells with some axes replaced by others that hold all of their labels."""
    new, codes = list(cells.axes), list(cells.codes)
    same = True
    for name, axis in axes.items():
        if not isinstance(axis, Axis):
            raise ModelError(f"rename({name}=...) takes the new Axis, not {axis!r}")
        at = cells.position(name)
        mapped = axis.codes(cells.axes[at].labels, f"rename({name}={axis.name})")
        same = same and bool((mapped == np.arange(len(axis))).all()) if len(mapped) == len(axis) else False
        codes[at] = mapped[codes[at]]
        new[at] = axis
    if len({axis.name for axis in new}) < len(new):
        raise ModelError(f"rename would give the axis {', '.join(axes)} twice: {', '.join(a.name for a in new)}")
    return Cells(new) if cells.full and same else Cells(new, codes)


def labelled(cells: Cells, values: Floats) -> pd.Series[Any]:
    """Return values as a Series with the cells' labels as its index."""
    if not cells.axes:
        return pd.Series(values)
    if len(cells.axes) == 1:
        axis = cells.axes[0]
        index: pd.Index[Any] = axis.labels if cells.full else axis.labels.take(cells.codes[0])
    else:
        levels: list[Any] = [axis.labels for axis in cells.axes]
        index = pd.MultiIndex(levels=levels, codes=[c.tolist() for c in cells.codes], names=list(cells.names))
    return pd.Series(values, index=index)


def missing_error(cells: Cells, absent: Positions, what: str, origin: str = "") -> DataError:
    """Return the error that lists combinations without a value; ``origin`` is the table that the data came from."""
    texts = [cells.text(int(i)) for i in absent[:20]]
    count = len(absent)
    more = f" and {count - 8:,} more" if count > 8 else ""
    if origin:
        return DataError(
            f"{origin} has no number for {listed(texts[:8])}{more}, which is needed here: add the line there, or if "
            "absent means a number, write else and that number after the file"
        )
    return DataError(
        f"{what} {'is' if count == 1 else 'are'} needed and not given: {listed(texts[:8])}{more}. "
        "Give the number; if absent means a value, say data(..., fill=that value), in a text file: else"
    )


def values_for(source: Data, cells: Cells, what: str = "data for") -> Floats:
    """Return the value of ``source`` for each cell, whose axes hold all of its axes."""
    found = source.cells.lookup(cells)
    if found is None:
        return source.values
    if (found >= 0).all():
        return source.values[found]
    if source.fill is None:
        raise missing_error(
            Cells(source.axes, [cells.codes[cells.position(n)] for n in source.cells.names]),
            _first_of_each(source, cells, found),
            f"{what} {' x '.join(source.cells.names)}",
            source.origin,
        )
    held = source.values[np.maximum(found, 0)] if len(source.values) else np.zeros(len(found))
    return np.where(found >= 0, held, source.fill)


def _first_of_each(source: Data, cells: Cells, found: Positions) -> Positions:
    """Return the first place of each combination that is missing, so that it is listed once."""
    absent = np.flatnonzero(found < 0)
    _, first = np.unique(cells.keys(source.cells.names)[absent], return_index=True)
    return absent[np.sort(first)]
