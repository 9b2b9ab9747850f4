"""Numbers from whatever holds them, by label: dicts, arrays, pandas Series and DataFrames, wide or long."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from datetime import date, timedelta
from decimal import Decimal
from numbers import Real
from typing import Any

import numpy as np
import pandas as pd

from ruddock.errors import DataError, listed
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.problem import Floats

Held = tuple[Cells, Floats]  # combinations of labels, and a number for each


FROM_ARROW = getattr(pd.DataFrame, "from_arrow", None)  # of pandas 3


def is_foreign(source: Any) -> bool:
    """Return whether this is a table of another package: of Arrow, or of the dataframe interchange protocol."""
    if isinstance(source, (pd.DataFrame, pd.Series, type)):
        return False
    return hasattr(source, "__dataframe__") or (FROM_ARROW is not None and hasattr(source, "__arrow_c_stream__"))


def as_pandas(source: Any) -> Any:
    """Return a table of another package as a frame, anything else as it is."""
    if not is_foreign(source):
        return source
    if FROM_ARROW is not None and hasattr(source, "__arrow_c_stream__"):
        return FROM_ARROW(source)
    return pd.api.interchange.from_dataframe(source)


def from_array(source: object, axes: tuple[Axis, ...], where: str) -> Held:
    """Return what an array, or nested lists, of the shape of the axes holds."""
    try:
        array = np.asarray(source)
    except (TypeError, ValueError):
        raise DataError(f"{where}: {type(source).__name__} is not numbers: {str(source)[:60]}") from None
    cells = Cells(axes)
    if array.shape != cells.shape:
        if not array.shape:
            raise DataError(f"{where}: {type(source).__name__} is not numbers: {str(source)[:60]}")
        raise DataError(f"{where}: the array has shape {array.shape}, the axes have {cells.shape}")
    return cells, numbers(array.ravel(), where, cells.text)


def from_series(source: pd.Series[Any], axes: tuple[Axis, ...], where: str) -> Held:
    """Return what a Series indexed by labels holds."""
    levels = source.index.nlevels
    if levels != len(axes):
        raise DataError(f"{where}: the Series has {levels} index levels for {len(axes)} axes")
    levels_ = [source.index.get_level_values(k) for k in range(levels)]
    order = _level_order(list(source.index.names), axes, levels_, where)
    columns = [levels_[k] for k in order]
    return long(columns, source.to_numpy(), axes, where)


def from_frame(source: pd.DataFrame, axes: tuple[Axis, ...], where: str) -> Held:
    """Return what a DataFrame holds: wide, or long with a column for each axis and one of values."""
    names = [axis.name for axis in axes]
    if all(name in source.columns for name in names):
        rest = [column for column in source.columns if column not in names]
        if len(rest) != 1:
            raise DataError(
                f"{where}: a long table has one column of values next to the labels; here "
                f"{listed(map(repr, rest)) if rest else 'there is none'}. "
                f"Choose it: frame[[{', '.join(map(repr, names))}, 'the column']]"
            )
        return long([source[name] for name in names], source[rest[0]].to_numpy(), axes, where)
    if source.index.nlevels + source.columns.nlevels != len(axes):
        if source.shape[1] == 1:
            return from_series(source.iloc[:, 0], axes, where)
        raise DataError(
            f"{where}: neither wide (index x columns) nor long (columns {', '.join(names)} and one of values); "
            f"the columns are {listed(map(repr, source.columns))}"
        )
    both = [part.get_level_values(k) for part in (source.index, source.columns) for k in range(part.nlevels)]
    order = _level_order([*source.index.names, *source.columns.names], axes, both, where)
    if len(axes) == 2:
        # the usual wide table: no need to write out every combination
        frame = source if order == [0, 1] else source.T
        rows, columns = axes[0].codes(frame.index, where), axes[1].codes(frame.columns, where)
        for axis, codes in zip(axes, (rows, columns), strict=True):
            _once(axis, codes, where)
        values = frame.to_numpy()
        whole = len(rows) == len(axes[0]) and len(columns) == len(axes[1])
        if whole and values.dtype.kind in "fiub" and not np.isnan(values).any():
            if _in_place(rows) and _in_place(columns):
                return Cells(axes), np.array(values, np.float64, order="C").ravel()
            array = np.empty(values.shape)
            array[np.ix_(rows, columns)] = values
            return Cells(axes), array.ravel()
    stacked = source.stack(list(range(source.columns.nlevels)), future_stack=True)
    assert isinstance(stacked, pd.Series)
    stacked = stacked[stacked.notna()]  # an empty cell of a grid is a combination that is not there
    columns_ = [stacked.index.get_level_values(level) for level in order]
    return long(columns_, stacked.to_numpy(), axes, where)


def _level_order(levels: list[Any], axes: tuple[Axis, ...], labels: Sequence[pd.Index[Any]], where: str) -> list[int]:
    """Return which index level holds each axis: by name where names are there, by labels where that is clear.

    Raises
    ------
    DataError
        If some levels have the name of an axis and the labels of the others do not say which axis they are, or no
        level has a name and the labels would fit another order as well.
    """
    names = [axis.name for axis in axes]
    order: list[int | None] = [levels.index(name) if levels.count(name) == 1 else None for name in names]
    taken = {level for level in order if level is not None}
    if len(taken) == len(axes):
        return [level for level in order if level is not None]
    left_levels = [k for k in range(len(levels)) if k not in taken]
    left_axes = [k for k, level in enumerate(order) if level is None]
    if not taken:
        # without names the order is that of the axes
        return list(range(len(axes)))
    if len(left_axes) > 1:
        fits = {k: [level for level in left_levels if labels[level].isin(axes[k].labels).all()] for k in left_axes}
        if any(len(found) != 1 for found in fits.values()) or len({found[0] for found in fits.values()}) < len(fits):
            shown = ", ".join(repr(level) for level in levels)
            raise DataError(
                f"{where}: only some of the index and columns are named like an axis ({shown}), and the labels do not "
                "say which of the others is which; name them all, such as frame.rename_axis(index=..., columns=...)"
            )
        left_levels = [fits[k][0] for k in left_axes]
    for k, level in zip(left_axes, left_levels, strict=True):
        order[k] = level
    return [level for level in order if level is not None]


def _in_place(codes: Any) -> bool:
    return bool((codes == np.arange(len(codes))).all())


def _once(axis: Axis, codes: Any, where: str) -> None:
    count = np.bincount(codes, minlength=len(axis))
    if (count > 1).any():
        twice = [axis.texts[i] for i in np.flatnonzero(count > 1)]
        raise DataError(f"{where}: given more than once: {listed(twice)}")


def long(columns: Iterable[Any], values: Any, axes: tuple[Axis, ...], where: str) -> Held:
    """Return numbers in long form, a column of labels for each axis."""
    codes = [axis.codes(column, where) for axis, column in zip(axes, columns, strict=True)]
    cells = Cells(axes, codes)
    keys = cells.keys()
    held = numbers(values, where, cells.text)
    if len(keys) == Cells(axes).size and bool((keys == np.arange(len(keys))).all()):
        return Cells(axes), held
    order = np.argsort(keys, kind="stable")
    same = keys[order][1:] == keys[order][:-1]
    if same.any():
        twice = [cells.text(int(i)) for i in np.unique(order[1:][same])[:20]]
        raise DataError(f"{where}: given more than once: {listed(twice)}. Add them up first if that is meant")
    if len(keys) == Cells(axes).size:
        return Cells(axes), held[order]
    return cells.take(order), held[order]


def numbers(values: Any, where: str, text: Callable[[int], str]) -> Floats:
    """Return values as numbers; what is none is an error with its place."""
    raw = np.asarray(values)
    odd = _odd_number(raw)
    if odd is not None:
        raise DataError(f"{where}: {_named(raw[odd])} at {text(odd)} is not a number{_remedy(raw[odd])}")
    array = np.array(raw, dtype=np.float64)
    if np.isnan(array).any():
        bad = np.flatnonzero(np.isnan(array))
        raise DataError(
            f"{where}: {listed(text(int(i)) for i in bad[:20])} {'is' if len(bad) == 1 else 'are'} NaN; "
            "leave the row out if the combination does not exist, or give the number"
        )
    return array


def _odd_number(raw: np.ndarray[Any, Any]) -> int | None:
    """Return where the first value is that is not a number: text, dates, durations and complex numbers are none."""
    if raw.dtype.kind in "fiub" or not raw.size:
        return None
    if raw.dtype.kind in "mMcV":
        return 0
    for i, value in enumerate(raw.ravel().tolist() if raw.dtype.kind in "OU" else raw.ravel()):
        missing_one = value is None or value is pd.NA or value is pd.NaT
        if not missing_one and not isinstance(value, (Real, np.bool_, Decimal)):
            return i
        if missing_one:
            return i
    return None


def _named(value: Any) -> str:
    return "nothing" if value is None or value is pd.NA or value is pd.NaT else repr(value)


def _remedy(value: Any) -> str:
    if isinstance(value, str):
        return "; it is text: turn the column into numbers first, with pd.to_numeric(column)"
    if isinstance(value, (np.datetime64, np.timedelta64, date, timedelta)):
        return "; turn it into one first, such as hours: column / pd.Timedelta(hours=1)"
    if isinstance(value, (complex, np.complexfloating)):
        return "; its imaginary part would be lost"
    return "; leave the row out if the combination does not exist, or give the number"
