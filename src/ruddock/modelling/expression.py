"""Linear expressions over label combinations, in long form: one row per combination, terms as triplets.

All arithmetic aligns by axis name and works on whole arrays; no object stands for a single variable
or term, except the scalar `Term` that indexing gives for loop-style formulations.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from numbers import Real
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import numpy.typing as npt

from ruddock.errors import DataError, ModelError, listed
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, Positions, join, project, union
from ruddock.modelling.data import (
    Data,
    Source,
    as_data,
    axis_names,
    filled,
    is_data,
    masked,
    missing,
    pick,
    renamed,
    values_for,
)
from ruddock.modelling.units import combine
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

Columns = npt.NDArray[np.int64]
Sense = Literal["<=", ">=", "==", "between"]
NO_TERMS = (np.empty(0, np.intp), np.empty(0, np.int64), np.empty(0))


@dataclass(frozen=True)
class Hole:
    """The labels that a `lag` without start has no value for."""

    axis: str
    first: int
    last: int
    lag: int


class Expression:
    """A linear expression for each cell: ``sum(values x decisions) + constants``.

    Attributes
    ----------
    cells : Cells
        The label combinations, one row each.
    rows, columns, values : arrays
        The terms: row, number of the decision within the model, coefficient.
    constants : float array, one per row
    """

    __array_ufunc__ = None
    __pandas_priority__ = 10_000
    __hash__ = object.__hash__

    def __init__(
        self,
        model: Model,
        cells: Cells,
        terms: tuple[Positions, Columns, Floats],
        constants: Floats | None = None,
        *,
        summed: bool = False,
        holes: tuple[Hole, ...] = (),
        units: frozenset[str] = frozenset(),
    ) -> None:
        self.model, self.cells = model, cells
        self.rows, self.columns, self.values = terms
        self.constants = np.zeros(cells.size) if constants is None else constants
        self.summed = summed  # a sum: zero, not absent, for combinations that it does not hold
        self.holes = holes
        self.aligned = False  # one term for each row, in order: gathers by row can be left out
        self.units = units  # of the summands, as far as they are known

    @property
    def axes(self) -> tuple[Axis, ...]:
        """The axes, in order."""
        return self.cells.axes

    def __len__(self) -> int:
        return self.cells.size

    def __repr__(self) -> str:
        axes = " x ".join(f"{axis.name} {len(axis)}" for axis in self.axes) or "scalar"
        return f"expression: {axes}, {len(self):,} combinations, {len(self.values):,} terms"

    def __bool__(self) -> bool:
        raise ModelError(
            "an expression is neither true nor false before the model is solved; ask the plan for its value"
        )

    def __iter__(self) -> Any:
        raise ModelError("an expression cannot be looped over; loop over the labels of its axes and index it")

    def _new(self, cells: Cells, terms: Any, constants: Floats, **more: Any) -> Expression:
        more = dict[str, Any](summed=self.summed, holes=self.holes, units=self.units) | more
        result = Expression(self.model, cells, terms, constants, **more)
        result.aligned = self.aligned and terms[0] is self.rows and cells is self.cells
        return result

    def _by_row(self, values: Any) -> Any:
        """Return values, given one per row, for every term."""
        return values if self.aligned else values[self.rows]

    def __getitem__(self, labels: Any) -> Expression | Term:
        """Return the scalar expression at one label of every axis."""
        labels = labels if isinstance(labels, tuple) else (labels,)
        if len(labels) != len(self.axes):
            raise ModelError(
                f"{len(labels)} labels given for the axes {', '.join(self.cells.names) or '(none)'}; "
                "to fix only some of them write .at(axis=label)"
            )
        return self.at(**dict(zip(self.cells.names, labels, strict=True)))

    # ------------------------------------------------------------------ rows

    def _gather(self, cells: Cells, source: Positions | None, **more: Any) -> Expression:
        """Return rows copied from those at ``source`` (-1: an empty row; None: each in its place)."""
        if source is None:
            return self._new(cells, (self.rows, self.columns, self.values), self.constants, **more)
        held = source >= 0
        safe = np.where(held, source, 0) if len(self) else np.zeros(len(source), np.intp)
        constants = np.where(held, self.constants[safe], 0.0) if len(self) else np.zeros(len(source))
        count = np.bincount(self.rows, minlength=max(self.cells.size, 1))
        order = None if _ascending(self.rows) else np.argsort(self.rows, kind="stable")
        begin = np.cumsum(count) - count
        size = np.where(held, count[safe], 0)
        rows = np.repeat(np.arange(len(source)), size)
        at = np.arange(len(rows)) + np.repeat(begin[safe] - (np.cumsum(size) - size), size)
        if order is not None:
            at = order[at]
        return self._new(cells, (rows, self.columns[at], self.values[at]), constants, **more)

    def _keep(self, cells: Cells, kept: Positions) -> Expression:
        return self._gather(cells, kept)

    # ------------------------------------------------------------------ shape

    def sum(self, *axes: Axis | str) -> Expression:
        """Return the sum over the given axes (objects or names), or over all."""
        drop = axis_names(self.cells, axes)
        cells, group = project(self.cells, [name for name in self.cells.names if name not in drop])
        constants = np.zeros(cells.size)
        if self.constants.any():
            constants += np.bincount(group, self.constants, cells.size)
        holes = tuple(hole for hole in self.holes if hole.axis not in drop)
        return self._new(cells, (self._by_row(group), self.columns, self.values), constants, summed=True, holes=holes)

    def at(self, **labels: Any) -> Expression:
        """Return the part at one label of each named axis, without that axis."""
        cells, kept = pick(self.cells, labels)
        if not cells.axes and not len(kept):
            names = ", ".join(f"{name}={label}" for name, label in labels.items())
            if not self.summed:
                raise ModelError(f"there is no member at {names}: the combination is outside the family")
            return self._new(cells, NO_TERMS, np.zeros(1))
        return self._keep(cells, kept)

    def where(self, mask: Source) -> Expression:
        """Return the part where ``mask`` is present and not zero; the rest becomes absent."""
        kept = masked(self.cells, as_data(mask, self._known_axes()))
        return self._keep(self.cells.take(kept), kept)

    def rename(self, **axes: Axis) -> Expression:
        """Return the same on other axes: ``rename(to=place)`` needs the labels of ``to`` in ``place``."""
        cells = renamed(self.cells, axes)
        return self._new(cells, (self.rows, self.columns, self.values), self.constants)

    def repeat(self, *axes: Axis) -> Expression:
        """Return the same for every label of further axes, said on purpose."""
        cells, source, _ = join(self.cells, Cells(axes))
        return self._gather(cells, source)

    def lag(self, axis: Axis | str, n: int = 1, start: Any = None) -> Expression:
        """Return the value ``n`` labels earlier along an ordered axis (later if ``n`` is negative).

        Parameters
        ----------
        start : number, data, expression or "wrap", optional
            The value before the first label, without that axis; ``"wrap"`` goes on from the other
            end. Without it the first labels have no value, and covering them is an error.
        """
        name = axis.name if isinstance(axis, Axis) else axis
        at = self.cells.position(name)
        along = self.axes[at]
        if not isinstance(n, (int, np.integer)) or n == 0:
            raise ModelError(f"lag looks back a whole number of labels other than 0, not {n!r}")
        size = len(along)
        codes = list(self.cells.codes)
        moved = codes[at] + np.int32(n)
        if isinstance(start, str):
            if start != "wrap":
                raise ModelError(f"start is a number, data, an expression or 'wrap', not {start!r}")
            codes[at] = (moved % size).astype(np.int32)
            return self._new(Cells(self.axes, codes), (self.rows, self.columns, self.values), self.constants)
        kept = np.flatnonzero((moved >= 0) & (moved < size))
        codes[at] = moved
        later = self._keep(Cells(self.axes, [part[kept] for part in codes]), kept)
        first, last = (0, min(n, size) - 1) if n > 0 else (max(size + n, 0), size - 1)
        if start is None:
            return self._new(
                later.cells,
                (later.rows, later.columns, later.values),
                later.constants,
                holes=(*self.holes, Hole(name, first, last, int(n))),
            )
        head = Cells([along], [np.arange(first, last + 1, dtype=np.int32)])
        opening = self._as_expression(start) if not isinstance(start, Expression) else start
        if name in opening.cells.names:
            raise ModelError(f"start= is the value before the first {name}: pick one, without the axis {name}")
        cells, source, _ = join(opening.cells, head)
        rest = [n_ for n_ in self.cells.names if n_ != name]
        if set(rest) - set(opening.cells.names):
            extra = project(self.cells, [n_ for n_ in rest if n_ not in opening.cells.names])[0]
            cells, again, _ = join(cells, extra)
            source = source if again is None else (again if source is None else source[again])
        joined = later._plus(opening._gather(cells, source), 1.0)
        found = joined.cells.lookup(self.cells)
        same = found is not None and joined.cells.size == self.cells.size and bool((found >= 0).all())
        return joined._gather(self.cells, found) if same else joined

    # ------------------------------------------------------------------ arithmetic

    def _known_axes(self) -> list[Axis]:
        return [*self.axes, *(axis for axis in self.model.axes.values() if axis.name not in self.cells.names)]

    def _as_expression(self, other: Any) -> Expression:
        held = as_data(other, self._known_axes())
        return Expression(self.model, held.cells, NO_TERMS, held.values)

    def _together(self, other: Expression) -> None:
        if other.model is not self.model:
            raise ModelError(f"the decisions belong to different models, {self.model.name!r} and {other.model.name!r}")

    def _times(self, source: Source) -> Expression:
        factor = as_data(source, self._known_axes())
        if not np.isfinite(factor.values).all():
            raise DataError("a coefficient must be finite; only a limit or a bound may be infinite")
        if not factor.axes:
            k = float(factor.values[0])
            # a bare factor such as 0.5 hours per jar brings a unit that nobody states
            units = self.units if abs(k) == 1.0 else self._units_times(factor)
            return self._new(self.cells, (self.rows, self.columns, self.values * k), self.constants * k, units=units)
        expr = self
        if not set(factor.cells.names) <= set(self.cells.names):
            expr = self._spread(filled(factor))
        values = values_for(factor, expr.cells)
        if factor.cells.size > expr.cells.size:
            self.model.ignored += factor.cells.size - expr.cells.size
        terms = (expr.rows, expr.columns, expr.values * expr._by_row(values))
        return expr._new(expr.cells, terms, expr.constants * values, units=self._units_times(factor))

    def _units_times(self, factor: Data) -> frozenset[str]:
        if factor.unit is None:
            return frozenset()
        return frozenset(combine(unit, factor.unit) or "1" for unit in self.units)

    def _spread(self, other: Data) -> Expression:
        """Repeat along the axes that only the data has, for the combinations that it holds."""
        shared = [name for name in other.cells.names if name in self.cells.names]
        cells, source, _ = join(self.cells, other.cells)
        if source is not None:
            absent = np.setdiff1d(np.arange(self.cells.size), source)
            if len(absent):
                raise missing(self.cells, absent, f"data for {' x '.join(shared)}")
        return self._gather(cells, source)

    def _plus(self, other: Expression, sign: float) -> Expression:
        """Add on the union of the cells; both have the same axes."""
        cells, place = union(self.cells, other.cells)
        for a in (self, other):
            _check_holes(a, cells)
        holes = tuple(h for h in self.holes + other.holes if not _covered(cells, h))
        rows = other.rows if place is None else place[other.rows]
        terms = (
            np.concatenate((self.rows, rows)),
            np.concatenate((self.columns, other.columns)),
            np.concatenate((self.values, sign * other.values)),
        )
        constants = np.zeros(cells.size)
        constants[: self.cells.size] = self.constants
        if place is None:
            constants += sign * other.constants
        else:
            constants[place] += sign * other.constants
        summed = self.summed or other.summed
        return self._new(cells, terms, constants, summed=summed, holes=holes, units=self.units | other.units)

    def _add(self, other: Any, sign: float) -> Expression:
        if isinstance(other, Term):
            other = other.expression()
        if isinstance(other, Expression):
            self._together(other)
            _check_no_repeat(self, other)
            return self._plus(other, sign)
        if not is_data(other):
            return NotImplemented
        held = as_data(other, self._known_axes())
        if not held.axes:
            constants = self.constants + sign * held.values[0]
            return self._new(self.cells, (self.rows, self.columns, self.values), constants)
        right = Expression(self.model, held.cells, NO_TERMS, held.values, units=_units_of(held))
        _check_no_repeat(self, right)
        if self.summed and not self.cells.full:
            return self._plus(right, sign)
        constants = self.constants + sign * values_for(held, self.cells)
        terms = (self.rows, self.columns, self.values)
        return self._new(self.cells, terms, constants, units=self.units | right.units)

    def __add__(self, other: Any) -> Expression:
        return self._add(other, 1.0)

    def __radd__(self, other: Any) -> Expression:
        return self._add(other, 1.0)

    def __sub__(self, other: Any) -> Expression:
        return self._add(other, -1.0)

    def __rsub__(self, other: Any) -> Expression:
        return (-self)._add(other, 1.0)

    def __neg__(self) -> Expression:
        return self._new(self.cells, (self.rows, self.columns, -self.values), -self.constants)

    def __pos__(self) -> Expression:
        return self

    def __mul__(self, other: Any) -> Expression:
        if isinstance(other, (Expression, Term)):
            raise ModelError(
                "an expression times an expression is not linear; multiply decisions by numbers or data only. "
                "A yes/no decision times an amount can be written with constraints: amount <= limit * yes"
            )
        return self._times(other) if is_data(other) else NotImplemented

    __rmul__ = __mul__

    def __truediv__(self, other: Any) -> Expression:
        if isinstance(other, (Expression, Term)):
            raise ModelError("a division by an expression is not linear; multiply the relation out instead")
        if not is_data(other):
            return NotImplemented
        divisor = as_data(other, self._known_axes())
        if not np.all(divisor.values):
            raise DataError("an expression is divided by data that holds a zero")
        fill = 1.0 / divisor.fill if divisor.fill else None
        return self._times(Data(divisor.cells, 1.0 / divisor.values, fill=fill))

    def __rtruediv__(self, other: Any) -> Expression:
        raise ModelError("a division by an expression is not linear; multiply the relation out instead")

    def __pow__(self, other: Any) -> Expression:
        raise ModelError("a power of an expression is not linear")

    # ------------------------------------------------------------------ relations

    def _against(self, other: Any) -> Expression:
        """Return ``self - other``, repeated along the axes that one side lacks."""
        if isinstance(other, Term):
            other = other.expression()
        if isinstance(other, Expression):
            self._together(other)
            return _difference(self, other)
        if not is_data(other):
            return NotImplemented
        held = as_data(other, self._known_axes())
        if set(held.cells.names) == set(self.cells.names):
            return self._add(held, -1.0)
        expr = self if set(held.cells.names) <= set(self.cells.names) else self._spread(filled(held))
        constants = expr.constants - values_for(held, expr.cells, "the limit for")
        terms = (expr.rows, expr.columns, expr.values)
        return expr._new(expr.cells, terms, constants, units=self.units | _units_of(held))

    def _relate(self, other: Any, sense: Sense) -> Relation:
        moved = self._against(other)
        if moved is NotImplemented:
            return NotImplemented
        limit = -moved.constants
        infinite = np.full(len(limit), np.inf)
        lower = limit if sense in (">=", "==") else -infinite
        upper = limit if sense in ("<=", "==") else infinite
        return Relation(moved, lower, upper, sense)

    def __le__(self, other: Any) -> Relation:
        return self._relate(other, "<=")

    def __ge__(self, other: Any) -> Relation:
        return self._relate(other, ">=")

    def __eq__(self, other: Any) -> Relation:  # type: ignore[override]
        return self._relate(other, "==")

    def __ne__(self, other: Any) -> Relation:  # type: ignore[override]
        raise ModelError("'not equal' is no linear relation; use <=, >= or ==")

    def __lt__(self, other: Any) -> Relation:
        raise ModelError("a strict < has no best plan at its edge; write <=")

    def __gt__(self, other: Any) -> Relation:
        raise ModelError("a strict > has no best plan at its edge; write >=")

    def between(self, lower: Source, upper: Source) -> Relation:
        """Return the relation ``lower <= expression <= upper``; both are numbers or data."""
        for limit in (lower, upper):
            if isinstance(limit, (Expression, Term)):
                raise ModelError("between() takes numbers or data; write two constraints for limits with decisions")
        low, high = (as_data(limit, self._known_axes()) for limit in (lower, upper))
        expr = self
        for limit in (low, high):
            if not set(limit.cells.names) <= set(expr.cells.names):
                expr = expr._spread(filled(limit))
        lows = values_for(low, expr.cells, "the lower limit for") - expr.constants
        highs = values_for(high, expr.cells, "the upper limit for") - expr.constants
        return Relation(expr, lows, highs, "between")


class Relation:
    """One constraint for each cell: ``lower <= terms <= upper``; given to ``model.require``."""

    def __init__(self, expression: Expression, lower: Floats, upper: Floats, sense: Sense) -> None:
        self.expression, self.lower, self.upper, self.sense = expression, lower, upper, sense

    def in_order(self) -> Relation:
        """Return the relation with its members in the order of their labels."""
        cells = self.expression.cells
        if cells.full or not cells.axes:
            return self
        keys = cells.keys()
        if bool((keys[1:] > keys[:-1]).all()):
            return self
        order = np.argsort(keys, kind="stable")
        expr = self.expression._keep(cells.take(order), order)
        return Relation(expr, self.lower[order], self.upper[order], self.sense)

    def where(self, mask: Source) -> Relation:
        """Return the relation for the combinations where ``mask`` is present and not zero."""
        expr = self.expression
        kept = masked(expr.cells, as_data(mask, expr._known_axes()))
        part = expr._keep(expr.cells.take(kept), kept)
        return Relation(part, self.lower[kept], self.upper[kept], self.sense)

    def __repr__(self) -> str:
        return f"relation {self.sense} on {self.expression.cells.size:,} combinations"

    def __bool__(self) -> bool:
        raise ModelError(
            "a comparison of decisions is a constraint, neither true nor false: give it to model.require(name, ...). "
            "For a range write expr.between(low, high) instead of low <= expr <= high"
        )


class Term:
    """One coefficient times one decision: what ``ship["Fell", "Quay"]`` gives."""

    __slots__ = ("coefficient", "column", "model")
    __array_ufunc__ = None
    __pandas_priority__ = 10_000
    __hash__ = object.__hash__

    def __init__(self, model: Model, column: int, coefficient: float = 1.0) -> None:
        self.model, self.column, self.coefficient = model, column, coefficient

    def expression(self) -> Expression:
        """Return the same as an `Expression` without axes."""
        return Expression(
            self.model,
            Cells(()),
            (np.zeros(1, np.intp), np.array([self.column], np.int64), np.array([self.coefficient], np.float64)),
        )

    def __repr__(self) -> str:
        return f"term {self.coefficient:g} x decision number {self.column}"

    def __bool__(self) -> bool:
        return bool(self.expression())

    def __mul__(self, other: Any) -> Term | Expression:
        if isinstance(other, Real):
            return Term(self.model, self.column, self.coefficient * float(other))
        return self.expression() * other

    __rmul__ = __mul__

    def __truediv__(self, other: Any) -> Term | Expression:
        if isinstance(other, Real) and other:
            return Term(self.model, self.column, self.coefficient / float(other))
        return self.expression() / other

    def __neg__(self) -> Term:
        return Term(self.model, self.column, -self.coefficient)

    def __add__(self, other: Any) -> Expression:
        return self.expression() + other

    def __radd__(self, other: Any) -> Expression:
        return self.expression() + other

    def __sub__(self, other: Any) -> Expression:
        return self.expression() - other

    def __rsub__(self, other: Any) -> Expression:
        return other - self.expression()

    def __le__(self, other: Any) -> Relation:
        return self.expression() <= other

    def __ge__(self, other: Any) -> Relation:
        return self.expression() >= other

    def __eq__(self, other: Any) -> Relation:  # type: ignore[override]
        return self.expression() == other

    def between(self, lower: Source, upper: Source) -> Relation:
        """Return the relation ``lower <= term <= upper``."""
        return self.expression().between(lower, upper)


def total(terms: Iterable[Any]) -> Expression | float:
    """Add scalar terms fast: ``total(rate[i, j] * ship[i, j] for i in apiary for j in market)``.

    Parameters
    ----------
    terms : iterable of scalar terms, scalar expressions and numbers

    Returns
    -------
    Expression, or the plain number if no term holds a decision (0 for none at all)
    """
    columns: list[int] = []
    values: list[float] = []
    longer: list[Expression] = []
    constant = 0.0
    model: Model | None = None
    for term in terms:
        if isinstance(term, Term):
            columns.append(term.column)
            values.append(term.coefficient)
        elif isinstance(term, Expression):
            if term.axes:
                raise ModelError(
                    f"total() adds scalars; this expression has the axes {', '.join(term.cells.names)}: use .sum()"
                )
            longer.append(term)
        elif isinstance(term, Real):
            constant += float(term)
            continue
        else:
            raise ModelError(f"total() adds terms and numbers, not {type(term).__name__}: {term!r}")
        if model is None:
            model = term.model
        elif model is not term.model:
            raise ModelError(f"the decisions belong to different models, {model.name!r} and {term.model.name!r}")
    if model is None:
        return constant
    all_columns = np.concatenate([np.array(columns, np.int64), *(part.columns for part in longer)])
    all_values = np.concatenate([np.array(values, np.float64), *(part.values for part in longer)])
    constant += sum(float(part.constants[0]) for part in longer)
    rows = np.zeros(len(all_columns), np.intp)
    return Expression(model, Cells(()), (rows, all_columns, all_values), np.array([constant]), summed=True)


def _units_of(held: Data) -> frozenset[str]:
    return frozenset() if held.unit is None else frozenset((held.unit,))


def _ascending(rows: Positions) -> bool:
    return len(rows) < 2 or bool((rows[1:] >= rows[:-1]).all())


def _check_no_repeat(a: Expression, b: Expression) -> None:
    """Raise `ModelError` if adding would silently repeat one side along an axis of the other."""
    for one, other in ((a, b), (b, a)):
        lacking = [axis for axis in other.axes if axis.name not in one.cells.names]
        if not lacking:
            continue
        if not one.axes and not len(one.values) and one.cells.size == 1:
            continue
        names = ", ".join(axis.name for axis in lacking)
        times = " x ".join(f"{len(axis):,}" for axis in lacking)
        what = "the expression on " + (", ".join(one.cells.names) or "no axis")
        raise ModelError(
            f"{what} has no {names} axis; summed over {names} it would count {times} times: "
            f"sum the other side first, or say .repeat({names})"
        )


def _covered(cells: Cells, hole: Hole) -> bool:
    codes = cells.codes[cells.position(hole.axis)]
    return bool(((codes >= hole.first) & (codes <= hole.last)).any())


def _check_holes(expr: Expression, cells: Cells) -> None:
    for hole in expr.holes:
        if _covered(cells, hole) and not _covered(expr.cells, hole):
            axis = cells.axes[cells.position(hole.axis)]
            labels = listed(axis.texts[hole.first : hole.last + 1], 3)
            raise ModelError(
                f"lag({hole.axis}, {hole.lag}) has no value at {labels}, which the other side covers: "
                "give start= (a number, data, a decision without that axis, or 'wrap'), or keep the rest with .where()"
            )


def _difference(a: Expression, b: Expression) -> Expression:
    """Return ``a - b`` across a relation: repeated along axes that one side lacks."""
    names_a, names_b = set(a.cells.names), set(b.cells.names)
    if names_a == names_b:
        return a._plus(b, -1.0)
    if names_b < names_a:
        return a._plus(b._gather(a.cells, b.cells.lookup(a.cells), holes=()), -1.0)
    if names_a < names_b:
        return a._gather(b.cells, a.cells.lookup(b.cells), holes=())._plus(b, -1.0)
    cells, from_a, from_b = join(a.cells, b.cells)
    return a._gather(cells, from_a)._plus(b._gather(cells, from_b), -1.0)
