"""Piecewise-linear functions: their corners, checked, and their values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ruddock.errors import DataError, ModelError
from ruddock.modelling.alignment import values_for
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, as_data, filled, is_data
from ruddock.modelling.decisions import member_name, member_names
from ruddock.modelling.expression import Expression, known_axes, terms_of
from ruddock.modelling.terms import Columns, Registry, Terms
from ruddock.modelling.units import decision_units
from ruddock.problem import Floats


@dataclass(frozen=True, eq=False, repr=False)
class Curve:
    """A piecewise-linear function of an expression, for each of its cells.

    Attributes
    ----------
    x : Terms
    at, values : float arrays, shape (cells, corners)
        The corners. Where two share the same ``at``, the function jumps: there it has either value. A cell with fewer
        corners than others has its last one more than once.
    numbers : of the decisions that hold the function's value, one for each cell
    """

    name: str
    x: Terms
    at: Floats
    values: Floats
    numbers: Columns
    unit: str | None = None

    def __post_init__(self) -> None:
        self.x.registry.hold(self.numbers, self.name, self.cells)

    def __repr__(self) -> str:
        axes = f"[{', '.join(self.cells.names)}]" if self.cells.axes else ""
        return f"curve {self.name}{axes}: {self.at.shape[1]} corners"

    @property
    def cells(self) -> Cells:
        """The label combinations."""
        return self.x.cells

    @property
    def value(self) -> Terms:
        """The function's value as an expression."""
        size = self.cells.size
        return Terms(
            self.x.registry, self.cells, np.arange(size, dtype=np.intp), self.numbers, np.ones(size), np.zeros(size),
            units=decision_units(self.unit), aligned=True,
        )  # fmt: skip

    @property
    def bends(self) -> bool:
        """Whether it has more than one piece, or jumps, and so needs binary decisions."""
        width, height = np.diff(self.at, axis=1), np.diff(self.values, axis=1)
        return bool((((width != 0) | (height != 0)).sum(axis=1) > 1).any() or ((width == 0) & (height != 0)).any())

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.cells, listed=False)

    def member(self, position: int) -> str:
        """Return the name of one member."""
        return member_name(self.name, self.cells, listed=False, position=position)

    def ends(self, x: Floats) -> tuple[Floats, Floats]:
        """Return the least and the greatest value at ``x``, one for each cell; they differ where the function jumps.

        Outside the corners it is the value at the nearer end.
        """
        low, high = np.full(len(x), np.inf), np.full(len(x), -np.inf)
        near = 1e-9 * np.maximum(1.0, np.abs(x))
        x = np.clip(x, self.at[:, 0], self.at[:, -1])
        for k in range(self.at.shape[1] - 1):
            a, b, u, v = self.at[:, k], self.at[:, k + 1], self.values[:, k], self.values[:, k + 1]
            width = b - a
            with np.errstate(invalid="ignore", divide="ignore"):
                inner = np.where(width > 0, u + (v - u) * np.clip((x - a) / width, 0.0, 1.0), u)
            inside = (x >= a - near) & (x <= b + near)
            for value in (inner, np.where(width > 0, inner, v)):
                low = np.where(inside, np.minimum(low, value), low)
                high = np.where(inside, np.maximum(high, value), high)
        return low, high


def make_curve(
    registry: Registry, name: str, x: Any, corners: Any, unit: str | None = None, along: Axis | str | None = None
) -> Curve:
    """Check what `Model.curve` was given and make the curve."""
    if not isinstance(x, Expression):
        raise ModelError(f"{name}: a curve is a function of decisions, not of {type(x).__name__}")
    terms = terms_of(x)
    try:
        pairs = [tuple(corner) for corner in (corners.items() if isinstance(corners, dict) else corners)]
    except TypeError:
        raise ModelError(f"{name}: corners are pairs such as [(0, 0), (10, 50)], not {corners!r}") from None
    slip = f"{name}: corners are two or more pairs (x, y), such as [(0, 0), (10, 50), (30, 70)]"
    if not pairs or any(len(pair) != 2 for pair in pairs):
        raise ModelError(slip)
    parts = [_coordinates(terms, name, pair, along) for pair in pairs]
    if len(pairs) < 2 and along is None:
        raise ModelError(slip)
    at, values = (np.concatenate([part[side] for part in parts], axis=1) for side in (0, 1))
    at, values = _distinct(name, terms.cells, at, values)
    numbers = np.arange(registry.columns, registry.columns + terms.cells.size, dtype=np.int64)
    registry.columns += terms.cells.size
    return Curve(name, terms, at, values, numbers, unit)


def _coordinates(terms: Terms, name: str, pair: tuple[Any, Any], along: Axis | str | None) -> tuple[Floats, Floats]:
    """Return both coordinates of a corner for each cell, or of the corners along an axis; NaN where there is none.

    Shapes (cells, corners).
    """
    held = [_held(terms, name, given) for given in pair]
    axis = None if along is None else _axis_of(name, along, held)
    at, values = (_laid_out(terms, name, one, axis) for one in held)
    halves = np.argwhere(np.isnan(at) != np.isnan(values)).tolist()
    if halves and axis is not None:
        k, step = halves[0][0], axis.labels[halves[0][1]]
        raise DataError(f"{_member(name, terms.cells, k)}: at {axis.name} {step} one of x and y has no value")
    return at, values


def _held(terms: Terms, name: str, given: Any) -> Data:
    if not is_data(given):
        raise ModelError(f"{name}: a corner is two numbers, or data for each member; this is {given!r}")
    return filled(as_data(given, known_axes(terms)))


def _axis_of(name: str, along: Axis | str, held: list[Data]) -> Axis | None:
    """Return the axis that corners run along, or None of a corner that does not."""
    wanted = along if isinstance(along, str) else along.name
    axes = [axis for one in held for axis in one.axes if axis.name == wanted]
    if not axes and all(not one.axes for one in held):
        return None
    if not axes:
        raise ModelError(f"{name}: the corners have no axis {wanted} to run along")
    return axes[0]


def _laid_out(terms: Terms, name: str, held: Data, axis: Axis | None) -> Floats:
    """Return a coordinate for each cell and corner."""
    extra = [n for n in held.cells.names if n not in terms.cells.names and (axis is None or n != axis.name)]
    if extra:
        raise ModelError(
            f"{name}: a corner has the axis {extra[0]}, which the expression lacks; if its labels are the corners in "
            f"their order, say along {extra[0]}"
        )
    what = f"a corner of {name} for"
    if axis is None:
        values = np.array(values_for(held, terms.cells, what))[:, None]
    elif axis.name not in held.cells.names:
        values = np.repeat(np.array(values_for(held, terms.cells, what))[:, None], len(axis), axis=1)
    else:
        open_ended = Data(held.cells, held.values, fill=np.nan)
        values = np.stack([values_for(open_ended.at(**{axis.name: label}), terms.cells) for label in axis.labels], 1)
    if not (np.isfinite(values) | (np.isnan(values) & (axis is not None))).all():
        raise DataError(f"{name}: a corner is finite")
    return values


def _distinct(name: str, cells: Cells, at: Floats, values: Floats) -> tuple[Floats, Floats]:
    """Return the corners of each cell without those that are missing or said twice, the last one again at the end."""
    kept = ~np.isnan(at)
    kept[:, 1:] &= (at[:, 1:] != at[:, :-1]) | (values[:, 1:] != values[:, :-1])
    counts = kept.sum(axis=1)
    order = np.argsort(~kept, axis=1, kind="stable")
    place = np.minimum(np.arange(max(2, counts.max(initial=0))), np.maximum(counts - 1, 0)[:, None])
    order = np.take_along_axis(order, place, axis=1)
    at, values = np.take_along_axis(at, order, axis=1), np.take_along_axis(values, order, axis=1)
    _check(name, cells, at, counts)
    return at, values


def _check(name: str, cells: Cells, at: Floats, counts: np.ndarray[Any, Any]) -> None:
    """Check that each cell has corners, and that they rise."""
    few = np.flatnonzero(counts < 2)
    if len(few):
        raise ModelError(f"{_member(name, cells, int(few[0]))}: a curve has two corners or more")
    steps = np.diff(at, axis=1)
    real = np.arange(steps.shape[1]) < (counts - 1)[:, None]  # without the last corner again
    falls = (steps < 0).any(axis=1) | ((steps[:, 1:] == 0) & (steps[:, :-1] == 0) & real[:, 1:]).any(axis=1)
    if falls.any():
        raise ModelError(
            f"{_member(name, cells, int(np.flatnonzero(falls)[0]))}: x of the corners rises; at most two corners share "
            "one x, where the curve jumps"
        )


def _member(name: str, cells: Cells, k: int) -> str:
    return f"{name}[{cells.text(k)}]" if cells.axes else name
