"""Numbers held by label: `data`, and arithmetic that aligns by axis name."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import date, timedelta
from decimal import Decimal
from html import escape
from numbers import Real
from typing import Any, Literal

import numpy as np
import pandas as pd

from ruddock.document.numbers import as_written
from ruddock.errors import DataError, ModelError, known, listed
from ruddock.modelling.axis import Axis, label_text
from ruddock.modelling.cells import Cells, Positions, join, project, union
from ruddock.modelling.units import combine
from ruddock.problem import Floats

SHOWN = 4  # numbers in one line
MOST_SHOWN = 40  # in a notebook
Source = Any  # a number, dict, Series, DataFrame, array or Data


class Data:
    """Numbers on combinations of labels; made by `data`.

    Arithmetic with numbers and other data aligns by axis name and repeats along missing axes;
    comparisons give a mask for ``only=`` and ``.where``. Indexing by labels gives a number.
    """

    __array_ufunc__ = None
    __pandas_priority__ = 10_000
    __hash__ = object.__hash__

    def __init__(self, cells: Cells, values: Floats, unit: str | None = None, fill: float | None = None) -> None:
        self.cells, self.values, self.unit, self.fill = cells, values, unit, fill
        values.flags.writeable = False

    @property
    def axes(self) -> tuple[Axis, ...]:
        """The axes, in order."""
        return self.cells.axes

    def __len__(self) -> int:
        return self.cells.size

    def __repr__(self) -> str:
        unit = f" ({self.unit})" if self.unit else ""
        if not self.axes:
            return f"data{unit}: {as_written(float(self.values[0])) if len(self.values) else 'none'}"
        shown = [f"{self.cells.text(i)} {as_written(float(self.values[i]))}" for i in range(min(len(self), SHOWN))]
        more = f"; and {len(self) - SHOWN:,} more" if len(self) > SHOWN else ""
        return f"data[{', '.join(self.cells.names)}]{unit} ({len(self):,}): {'; '.join(shown)}{more}"

    def _repr_html_(self) -> str:
        if not self.axes:
            return f"<div>{escape(repr(self))}</div>"
        frame = pd.DataFrame({"value": pd.Series(labelled(self.cells, self.values))})
        return f"<div>{escape(repr(self).partition(':')[0])}</div>{frame.head(MOST_SHOWN).to_html()}"

    def __bool__(self) -> bool:
        raise ModelError("data holds many values and is neither true nor false; use it as a mask in .where() or only=")

    def __iter__(self) -> Any:
        raise ModelError("data cannot be looped over; loop over the labels of its axes and index it: rate[label]")

    def __getitem__(self, labels: Any) -> Any:
        """Return the number at one label of each axis; a slice or list of labels keeps its axis."""
        labels = labels if isinstance(labels, tuple) else (labels,)
        if len(labels) != len(self.axes):
            raise DataError(f"{len(labels)} labels given for the axes {', '.join(self.cells.names) or '(none)'}")
        if any(isinstance(label, (slice, list)) for label in labels):
            chosen = zip(self.cells.names, labels, strict=True)
            return self.at(**{n: k for n, k in chosen if not (isinstance(k, slice) and k == slice(None))})
        at = self.cells.position_of([axis.code(label) for axis, label in zip(self.axes, labels, strict=True)])
        if at >= 0:
            return float(self.values[at])
        if self.fill is not None:
            return self.fill
        raise DataError(f"no value for {listed(map(label_text, labels))}")

    def __float__(self) -> float:
        if self.axes or not len(self.values):
            raise ModelError(
                f"only a single number can be turned into one; this is data on {', '.join(self.cells.names)}: pick a "
                "label or .sum() it"
            )
        return float(self.values[0])

    def to_frame(self, name: str = "value") -> pd.DataFrame:
        """Return the values as a pandas DataFrame of one column, indexed by label."""
        return self.to_series().to_frame(name)

    def to_series(self) -> pd.Series[Any]:
        """Return the values as a pandas Series indexed by label."""
        return labelled(self.cells, self.values.copy())

    # ------------------------------------------------------------------ shape

    def sum(self, *axes: Axis | str) -> Data:
        """Return the sum over the given axes, or over all."""
        whole = filled(self)
        drop = axis_names(whole.cells, axes)
        cells, group = project(whole.cells, [name for name in whole.cells.names if name not in drop])
        return Data(cells, np.bincount(group, whole.values, cells.size).astype(np.float64), self.unit)

    def at(self, **labels: Any) -> Data:
        """Return the part at one label of each named axis, without that axis; a slice or list of labels keeps it."""
        cells, kept = pick(self.cells, labels)
        if not cells.axes and not len(kept):
            if self.fill is None:
                raise DataError(f"no value for {listed(f'{n}={label}' for n, label in labels.items())}")
            return Data(cells, np.array([self.fill]), self.unit)
        return Data(cells, self.values[kept], self.unit, self.fill)

    def where(self, mask: Source) -> Data:
        """Return the part where ``mask`` is present and not zero."""
        whole = filled(self)
        kept = masked(whole.cells, as_data(mask, self.axes))
        return Data(whole.cells.take(kept), whole.values[kept], self.unit)

    def rename(self, **axes: Axis) -> Data:
        """Return the same numbers on other axes: ``rename(to=place)`` needs the labels of ``to`` in ``place``."""
        return Data(renamed(self.cells, axes), self.values, self.unit, self.fill)

    def repeat(self, *axes: Axis) -> Data:
        """Return the same numbers for every label of further axes."""
        cells, kept, _ = join(self.cells, Cells(axes))
        return Data(cells, self.values if kept is None else self.values[kept], self.unit, self.fill)

    # ------------------------------------------------------------------ arithmetic

    def _with(self, other: Source, operation: Callable[..., Any], unit: Callable[..., str | None]) -> Any:
        if not is_data(other):
            return NotImplemented
        right = as_data(other, self.axes)
        cells, a, b, fills = aligned(self, right)
        fill = None if fills is None else float(operation(*(np.array([part]) for part in fills))[0])
        return Data(cells, np.asarray(operation(a, b), np.float64), unit(self.unit, right.unit), fill)

    def __add__(self, other: Source) -> Any:
        return self._with(other, np.add, _same)

    def __radd__(self, other: Source) -> Any:
        return self._with(other, lambda a, b: b + a, _same)

    def __sub__(self, other: Source) -> Any:
        return self._with(other, np.subtract, _same)

    def __rsub__(self, other: Source) -> Any:
        return self._with(other, lambda a, b: b - a, _same)

    def __mul__(self, other: Source) -> Any:
        return self._with(other, np.multiply, _product)

    def __rmul__(self, other: Source) -> Any:
        return self._with(other, np.multiply, _product)

    def __truediv__(self, other: Source) -> Any:
        return self._with(other, _divide, lambda a, b: combine(a, b or "", -1))

    def __rtruediv__(self, other: Source) -> Any:
        return self._with(other, lambda a, b: _divide(b, a), lambda a, b: combine(b or "", a, -1))

    def _mapped(self, function: Callable[[Floats], Floats], unit: str | None) -> Data:
        fill = None if self.fill is None else float(function(np.array([self.fill]))[0])
        return Data(self.cells, function(self.values), unit, fill)

    def __neg__(self) -> Data:
        return self._mapped(lambda v: -v + 0.0, self.unit)

    def __pos__(self) -> Data:
        return self

    def __abs__(self) -> Data:
        return self._mapped(np.abs, self.unit)

    def __round__(self, digits: int = 0) -> Data:
        return self._mapped(lambda v: np.round(v, digits), self.unit)

    def __pow__(self, power: float) -> Data:
        if not isinstance(power, Real):
            raise ModelError(f"data is raised to a number, not to {type(power).__name__}")
        with np.errstate(invalid="ignore", divide="ignore"):
            result = self._mapped(lambda v: v ** float(power), None)
        if np.isnan(result.values).any() or (np.isinf(result.values) & np.isfinite(self.values)).any():
            raise DataError(f"the data holds a number that has no power {float(power):g}")
        return result

    def __le__(self, other: Source) -> Any:
        return self._with(other, np.less_equal, _none)

    def __lt__(self, other: Source) -> Any:
        return self._with(other, np.less, _none)

    def __ge__(self, other: Source) -> Any:
        return self._with(other, np.greater_equal, _none)

    def __gt__(self, other: Source) -> Any:
        return self._with(other, np.greater, _none)

    def __eq__(self, other: Source) -> Any:
        return self._with(other, np.equal, _none)

    def __ne__(self, other: Source) -> Any:
        return self._with(other, np.not_equal, _none)


def _same(a: str | None, b: str | None) -> str | None:
    return a if a == b else a or b


def _none(a: str | None, b: str | None) -> None:
    return None


def _product(a: str | None, b: str | None) -> str | None:
    # a bare factor such as 0.12 leaves the unit as it is
    return combine(a, b) if a and b else a or b


def _divide(a: Floats, b: Floats) -> Floats:
    if not np.all(b):
        raise DataError("a division by data that holds a zero")
    return a / b


def data(source: Source, *axes: Axis, unit: str | None = None, fill: float | None = None) -> Data:
    """Hold numbers against axes by label.

    Parameters
    ----------
    source : number, dict, pandas Series or DataFrame, NumPy array, or nested lists
        A dict has labels, or tuples of labels, as keys. A Series is indexed by label. A DataFrame is
        wide (index and columns are two axes) or long (a column per axis, named like it, and one of
        values). An array has the shape of the axes.
    *axes : Axis
        What the numbers are held against, in the order of keys, index levels or dimensions.
    unit : str, optional
        For reports, and for the check of units.
    fill : float, optional
        The value of combinations that the source does not hold. Without it, using one is an error.

    Raises
    ------
    DataError
        If a label is unknown or given twice, a value is NaN or no number, or a shape is wrong.

    Examples
    --------
    >>> apiary = Axis("apiary", ["Fell", "Mere"])
    >>> data({"Fell": 120, "Mere": 80}, apiary, unit="crate")["Mere"]
    80.0
    """
    for axis in axes:
        if not isinstance(axis, Axis):
            raise ModelError(f"data is held against Axis objects, not {type(axis).__name__}: {axis!r}")
    names = [axis.name for axis in axes]
    if len(set(names)) < len(names):
        raise ModelError(f"the axes {', '.join(names)} name one twice; make a second axis over the same labels")
    where = "data on " + " x ".join(names) if axes else "data"
    if isinstance(source, Data):
        if set(source.cells.names) != set(names):
            raise ModelError(f"the data has the axes {', '.join(source.cells.names)}, not {', '.join(names)}")
        return Data(source.cells, source.values, unit or source.unit, source.fill if fill is None else fill)
    if isinstance(source, Real):
        values = _numbers(np.array([float(source)]), where, lambda i: "the number")
        return Data(Cells(axes), np.full(Cells(axes).size, values[0]), unit, fill)
    if isinstance(source, Mapping):
        labels = [key if isinstance(key, tuple) else (key,) for key in source]
        wrong = [key for key in labels if len(key) != len(axes)]
        if wrong:
            raise DataError(f"{where}: the key {wrong[0]!r} holds {len(wrong[0])} labels for {len(axes)} axes")
        columns = list(zip(*labels, strict=True)) if labels else [() for _ in axes]
        return _long(columns, list(source.values()), axes, unit, fill, where)
    if isinstance(source, pd.DataFrame):
        return _from_frame(source, axes, unit, fill, where)
    if isinstance(source, pd.Series):
        return _from_series(source, axes, unit, fill, where)
    return _from_array(source, axes, unit, fill, where)


def _from_array(source: Source, axes: tuple[Axis, ...], unit: Any, fill: Any, where: str) -> Data:
    try:
        array = np.asarray(source)
    except (TypeError, ValueError):
        raise DataError(f"{where}: {type(source).__name__} is not numbers: {str(source)[:60]}") from None
    cells = Cells(axes)
    if array.shape != cells.shape:
        if not array.shape:
            raise DataError(f"{where}: {type(source).__name__} is not numbers: {str(source)[:60]}")
        raise DataError(f"{where}: the array has shape {array.shape}, the axes have {cells.shape}")
    return Data(cells, _numbers(array.ravel(), where, cells.text), unit, fill)


def _from_series(source: pd.Series[Any], axes: tuple[Axis, ...], unit: Any, fill: Any, where: str) -> Data:
    levels = source.index.nlevels
    if levels != len(axes):
        raise DataError(f"{where}: the Series has {levels} index levels for {len(axes)} axes")
    levels_ = [source.index.get_level_values(k) for k in range(levels)]
    order = _level_order(list(source.index.names), axes, levels_, where)
    columns = [levels_[k] for k in order]
    return _long(columns, source.to_numpy(), axes, unit, fill, where)


def _from_frame(source: pd.DataFrame, axes: tuple[Axis, ...], unit: Any, fill: Any, where: str) -> Data:
    names = [axis.name for axis in axes]
    if all(name in source.columns for name in names):
        rest = [column for column in source.columns if column not in names]
        if len(rest) != 1:
            raise DataError(
                f"{where}: a long table has one column of values next to the labels; here "
                f"{listed(map(repr, rest)) if rest else 'there is none'}. "
                f"Choose it: frame[[{', '.join(map(repr, names))}, 'the column']]"
            )
        return _long([source[name] for name in names], source[rest[0]].to_numpy(), axes, unit, fill, where)
    if source.index.nlevels + source.columns.nlevels != len(axes):
        if source.shape[1] == 1:
            return _from_series(source.iloc[:, 0], axes, unit, fill, where)
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
                return Data(Cells(axes), np.array(values, np.float64, order="C").ravel(), unit, fill)
            array = np.empty(values.shape)
            array[np.ix_(rows, columns)] = values
            return Data(Cells(axes), array.ravel(), unit, fill)
    stacked = source.stack(list(range(source.columns.nlevels)), future_stack=True)
    assert isinstance(stacked, pd.Series)
    stacked = stacked[stacked.notna()]  # an empty cell of a grid is a combination that is not there
    columns_ = [stacked.index.get_level_values(level) for level in order]
    return _long(columns_, stacked.to_numpy(), axes, unit, fill, where)


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


def _long(columns: Iterable[Any], values: Any, axes: tuple[Axis, ...], unit: Any, fill: Any, where: str) -> Data:
    codes = [axis.codes(column, where) for axis, column in zip(axes, columns, strict=True)]
    cells = Cells(axes, codes)
    keys = cells.keys()
    numbers = _numbers(values, where, cells.text)
    if len(keys) == Cells(axes).size and bool((keys == np.arange(len(keys))).all()):
        return Data(Cells(axes), numbers, unit, fill)
    order = np.argsort(keys, kind="stable")
    same = keys[order][1:] == keys[order][:-1]
    if same.any():
        twice = [cells.text(int(i)) for i in np.unique(order[1:][same])[:20]]
        raise DataError(f"{where}: given more than once: {listed(twice)}. Add them up first if that is meant")
    if len(keys) == Cells(axes).size:
        return Data(Cells(axes), numbers[order], unit, fill)
    return Data(cells.take(order), numbers[order], unit, fill)


def _numbers(values: Any, where: str, text: Callable[[int], str]) -> Floats:
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


# ---------------------------------------------------------------------- shared with expressions


def is_data(value: object) -> bool:
    """Say whether a value can stand where data is wanted."""
    return isinstance(value, (Data, Real, pd.Series, pd.DataFrame, np.ndarray))


def as_data(value: Source, axes: Iterable[Axis]) -> Data:
    """Turn what is combined with an expression into data; pandas objects find their axes by name."""
    if isinstance(value, Data):
        return value
    if isinstance(value, Real) or (isinstance(value, np.ndarray) and value.ndim == 0):
        number = float(value)
        if number != number:
            raise DataError("NaN is not a number to calculate with")
        return Data(Cells(()), np.array([number]))
    if isinstance(value, np.ndarray):
        raise ModelError("an array has no labels: hold it against axes first, data(array, axis, ...)")
    if isinstance(value, pd.Series):
        names: list[Any] = list(value.index.names)
    elif isinstance(value, pd.DataFrame):
        names = [*value.index.names, *value.columns.names]
        long = [name for name in value.columns if name in {axis.name for axis in axes}]
        if long:
            names = long
    else:
        raise ModelError(f"{type(value).__name__} cannot be calculated with: {str(value)[:60]}")
    by_name = {axis.name: axis for axis in axes}
    for name in names:
        if name not in by_name:
            kind = type(value).__name__
            if name is None:
                raise ModelError(f"a {kind} whose index or columns have no name: name them like an axis, or use data()")
            raise ModelError(
                f"the {kind} has an index or columns called {name!r}, which is not an axis used here; "
                f"{known(str(name), by_name)} Or use data() with its axes."
            )
    return data(value, *(by_name[name] for name in names))


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


def missing(cells: Cells, absent: Positions, what: str) -> DataError:
    """Return the error that lists combinations without a value."""
    texts = [cells.text(int(i)) for i in absent[:20]]
    count = len(absent)
    more = f" and {count - 8:,} more" if count > 8 else ""
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
        raise missing(
            Cells(source.axes, [cells.codes[cells.position(n)] for n in source.cells.names]),
            _first_of_each(source, cells, found),
            f"{what} {' x '.join(source.cells.names)}",
        )
    held = source.values[np.maximum(found, 0)] if len(source.values) else np.zeros(len(found))
    return np.where(found >= 0, held, source.fill)


def _first_of_each(source: Data, cells: Cells, found: Positions) -> Positions:
    """Return the first place of each combination that is missing, so that it is listed once."""
    absent = np.flatnonzero(found < 0)
    _, first = np.unique(cells.keys(source.cells.names)[absent], return_index=True)
    return absent[np.sort(first)]


def filled(source: Data) -> Data:
    """Return data with every combination held, where a fill value says how."""
    if source.fill is None or source.cells.full:
        return source
    full = Cells(source.axes)
    return Data(full, values_for(source, full), source.unit)


def aligned(a: Data, b: Data) -> tuple[Cells, Floats, Floats, tuple[float, float] | None]:
    """Return common cells of two data, the values of both there, and what both are elsewhere, if both say so.

    Raises
    ------
    DataError
        If a combination that one holds is missing from the other.
    """
    if set(a.cells.names) == set(b.cells.names) and (a.fill is not None or b.fill is not None):
        cells, _ = union(a.cells, b.cells)
        fills = None if a.fill is None or b.fill is None else (a.fill, b.fill)
        return cells, values_for(a, cells), values_for(b, cells), fills
    if a.fill is not None and not b.axes:
        return a.cells, a.values, values_for(b, a.cells), (a.fill, float(b.values[0]))
    if b.fill is not None and not a.axes:
        return b.cells, values_for(a, b.cells), b.values, (float(a.values[0]), b.fill)
    a, b = filled(a), filled(b)
    if set(b.cells.names) <= set(a.cells.names):
        right = values_for(b, a.cells)
        if len(a.axes) == len(b.axes):
            values_for(a, b.cells)  # and nothing that only b holds
        return a.cells, a.values, right, None
    if set(a.cells.names) <= set(b.cells.names):
        return b.cells, values_for(a, b.cells), b.values, None
    cells, from_a, from_b = join(a.cells, b.cells)
    return (
        cells,
        a.values if from_a is None else a.values[from_a],
        b.values if from_b is None else b.values[from_b],
        None,
    )


def _extreme(name: Literal["minimum", "maximum"], a: Source, b: Source) -> Data:
    axes = [axis for part in (a, b) if isinstance(part, Data) for axis in part.axes]
    left, right = as_data(a, axes), as_data(b, axes)
    cells, x, y, fills = aligned(left, right)
    operation = getattr(np, name)
    return Data(
        cells, operation(x, y), _same(left.unit, right.unit), None if fills is None else float(operation(*fills))
    )


def minimum(a: Source, b: Source) -> Data:
    """Return the smaller of two data, combination by combination, aligned by axis name."""
    return _extreme("minimum", a, b)


def maximum(a: Source, b: Source) -> Data:
    """Return the larger of two data, combination by combination, aligned by axis name."""
    return _extreme("maximum", a, b)
