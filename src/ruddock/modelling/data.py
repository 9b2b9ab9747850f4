"""Numbers held by label: `data`, and arithmetic that aligns by axis name."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from numbers import Real
from typing import Any, Literal, Union

import numpy as np
import pandas as pd

from ruddock.document.numbers import as_written
from ruddock.errors import DataError, ModelError, known, listed
from ruddock.modelling.alignment import axis_names, labelled, masked, pick, renamed, values_for
from ruddock.modelling.axis import Axis, label_text
from ruddock.modelling.cells import Cells, join, project, union
from ruddock.modelling.data_sources import as_pandas, from_array, from_frame, from_series, is_foreign, long, numbers
from ruddock.modelling.series import AnySeries, FloatSeries
from ruddock.modelling.units import combine
from ruddock.problem import Floats

SHOWN = 4  # numbers in one line
MOST_SHOWN = 40  # in a notebook
# what may be given where data is wanted
Source = Union[float, Mapping[Any, Any], Sequence[Any], AnySeries, pd.DataFrame, np.ndarray[Any, Any], "Data"]


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
        self.origin = ""  # the table that it was read from, for messages
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
        from html import escape  # with its table of entities, which few need

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

    def to_series(self) -> FloatSeries:
        """Return the values as a pandas Series indexed by label."""
        return labelled(self.cells, self.values.copy())

    # ------------------------------------------------------------------ shape

    def sum(self, *axes: Axis | str) -> Data:
        """Return the sum over the given axes, or over all."""
        whole = filled(self)
        drop = axis_names(whole.cells, axes)
        cells, group = project(whole.cells, [name for name in whole.cells.names if name not in drop])
        total = worked_out(lambda values: np.bincount(group, values, cells.size), cells, whole.values)
        return Data(cells, total, self.unit)

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
        fill = None if fills is None else float(worked_out(operation, None, *(np.array([part]) for part in fills))[0])
        return Data(cells, worked_out(operation, cells, a, b), unit(self.unit, right.unit), fill)

    def __add__(self, other: Source) -> Data:
        return self._with(other, np.add, _same)

    def __radd__(self, other: Source) -> Data:
        return self._with(other, lambda a, b: b + a, _same)

    def __sub__(self, other: Source) -> Data:
        return self._with(other, np.subtract, _same)

    def __rsub__(self, other: Source) -> Data:
        return self._with(other, lambda a, b: b - a, _same)

    def __mul__(self, other: Source) -> Data:
        return self._with(other, np.multiply, _product)

    def __rmul__(self, other: Source) -> Data:
        return self._with(other, np.multiply, _product)

    def __truediv__(self, other: Source) -> Data:
        return self._with(other, _divide, lambda a, b: combine(a, b or "", -1))

    def __rtruediv__(self, other: Source) -> Data:
        return self._with(other, lambda a, b: _divide(b, a), lambda a, b: combine(b or "", a, -1))

    def _mapped(self, function: Callable[[Floats], Floats], unit: str | None) -> Data:
        fill = None if self.fill is None else float(worked_out(function, None, np.array([self.fill]))[0])
        return Data(self.cells, worked_out(function, self.cells, self.values), unit, fill)

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
        power = float(power)
        if ((self.values == 0) & (power < 0) | (self.values < 0) & (not power.is_integer())).any():
            raise DataError(f"the data holds a number that has no power {power:g}")
        return self._mapped(lambda v: v**power, None)

    def __le__(self, other: Source) -> Data:
        return self._with(other, np.less_equal, _none)

    def __lt__(self, other: Source) -> Data:
        return self._with(other, np.less, _none)

    def __ge__(self, other: Source) -> Data:
        return self._with(other, np.greater_equal, _none)

    def __gt__(self, other: Source) -> Data:
        return self._with(other, np.greater, _none)

    def __eq__(self, other: Source) -> Data:  # type: ignore[override]
        return self._with(other, np.equal, _none)

    def __ne__(self, other: Source) -> Data:  # type: ignore[override]
        return self._with(other, np.not_equal, _none)


def _same(a: str | None, b: str | None) -> str | None:
    return a if a == b else a or b


def _none(a: str | None, b: str | None) -> None:
    return None


def _product(a: str | None, b: str | None) -> str | None:
    # a bare factor such as 0.12 leaves the unit as it is
    return combine(a, b) if a and b else a or b


def worked_out(operation: Callable[..., Any], cells: Cells | None, *operands: Floats) -> Floats:
    """Return what an operation makes of numbers; ``cells`` are those of the result, None of what is elsewhere.

    Raises
    ------
    DataError
        If a result is too large for a number, or has no value, as unlimited less unlimited.
    """
    with np.errstate(all="ignore"):
        result = np.asarray(operation(*operands), np.float64)
    odd = ~np.isfinite(result)
    if not odd.any():
        return result
    for operand in operands:  # one with unlimited numbers may have unlimited results
        finite = np.isfinite(operand)
        odd &= np.isnan(result) | (finite if operand.shape == result.shape else finite.all())
    if not odd.any():
        return result
    i = int(np.argmax(odd))
    place = " elsewhere" if cells is None else f" for {cells.text(i)}" if cells.axes else ""
    why = "has no value, as unlimited less unlimited" if np.isnan(result[i]) else "is too large for a number"
    raise DataError(f"the result{place} {why}")


def _divide(a: Floats, b: Floats) -> Floats:
    if not np.all(b):
        raise DataError("a division by data that holds a zero")
    return a / b


def data(source: Source, *axes: Axis, unit: str | None = None, fill: float | None = None) -> Data:
    """Hold numbers against axes by label.

    Parameters
    ----------
    source : number, dict, pandas Series or DataFrame, NumPy array, nested lists, or a table of another package
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
        values = numbers(np.array([float(source)]), where, lambda i: "the number")
        return Data(Cells(axes), np.full(Cells(axes).size, values[0]), unit, fill)
    source = as_pandas(source)
    if isinstance(source, Mapping):
        labels = [key if isinstance(key, tuple) else (key,) for key in source]
        wrong = [key for key in labels if len(key) != len(axes)]
        if wrong:
            raise DataError(f"{where}: the key {wrong[0]!r} holds {len(wrong[0])} labels for {len(axes)} axes")
        columns = list(zip(*labels, strict=True)) if labels else [() for _ in axes]
        return Data(*long(columns, list(source.values()), axes, where), unit, fill)
    if isinstance(source, pd.DataFrame):
        return Data(*from_frame(source, axes, where), unit, fill)
    if isinstance(source, pd.Series):
        return Data(*from_series(source, axes, where), unit, fill)
    return Data(*from_array(source, axes, where), unit, fill)


# ---------------------------------------------------------------------- shared with expressions


def is_data(value: object) -> bool:
    """Say whether a value can stand where data is wanted."""
    return isinstance(value, (Data, Real, pd.Series, pd.DataFrame, np.ndarray)) or is_foreign(value)


def as_data(value: Source, axes: Iterable[Axis]) -> Data:
    """Turn what is combined with an expression into data; pandas objects find their axes by name."""
    if isinstance(value, Data):
        return value
    if isinstance(value, Real) or (isinstance(value, np.ndarray) and value.ndim == 0):
        number = float(value)
        if number != number:
            raise DataError("NaN is not a number to calculate with")
        return Data(Cells(()), np.array([number]))
    value = as_pandas(value)
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
