"""Linear expressions as a user writes them: operators that align by axis name, and the relations they make."""

from __future__ import annotations

from collections.abc import Iterable
from numbers import Real
from typing import Any, Never

import numpy as np

from ruddock.document.content import Document, Table
from ruddock.errors import DataError, ModelError
from ruddock.modelling.alignment import values_for
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, Source, as_data, filled, is_data
from ruddock.modelling.previous import look_back
from ruddock.modelling.relation import TURNED, Sense, Sides
from ruddock.modelling.terms import Registry, Terms, check_no_repeat, on_common_cells
from ruddock.modelling.writing import TERMS, in_one_line, lines, relation_words, terms_words

NOT_LINEAR = (
    "an expression times an expression is not linear; multiply decisions by numbers or data only. "
    "A binary decision times an amount can be written with constraints: amount <= limit * yes"
)
DIVISION = "a division by an expression is not linear; multiply the relation out instead"


class Expression:
    """A linear expression for each label combination of its axes; what arithmetic with decisions gives.

    The kinds of expression are siblings, not heirs of one another: so Python keeps the order in which the two sides
    of a comparison were written.
    """

    __array_ufunc__ = None
    __pandas_priority__ = 10_000
    __hash__ = object.__hash__

    _terms: Terms

    @property
    def axes(self) -> tuple[Axis, ...]:
        """The axes, in order."""
        return self._terms.cells.axes

    def __len__(self) -> int:
        return self._terms.cells.size

    def __repr__(self) -> str:
        terms = self._terms
        return in_one_line(terms.cells, lambda i: terms_words(terms, i, TERMS))

    def _repr_html_(self) -> str:
        terms = self._terms
        return _html(terms.cells, lines(terms.cells, lambda i: terms_words(terms, i, TERMS)))

    def __bool__(self) -> bool:
        raise ModelError(
            "an expression is neither true nor false before the model is solved; ask the plan for its value"
        )

    def __iter__(self) -> Any:
        raise ModelError("an expression cannot be looped over; loop over the labels of its axes and index it")

    def __getitem__(self, labels: Any) -> Expression:
        """Return the part at one label of every axis; a slice or list of labels keeps that axis."""
        return self.at(**by_axis(self._terms.cells, labels))

    # ------------------------------------------------------------------ shape

    def sum(self, *axes: Axis | str) -> Expression:
        """Return the sum over the given axes (objects or names), or over all."""
        return Combination(self._terms.sum(axes))

    def at(self, **labels: Any) -> Expression:
        """Return the part at one label of each named axis, without that axis; a slice or list of labels keeps it."""
        return Combination(self._terms.at(labels))

    def where(self, mask: Source) -> Expression:
        """Return the part where ``mask`` is present and not zero; the rest becomes absent."""
        return Combination(self._terms.where(mask_of(self._terms, mask)))

    def rename(self, **axes: Axis) -> Expression:
        """Return the same on other axes: ``rename(to=place)`` needs the labels of ``to`` in ``place``."""
        return Combination(self._terms.rename(axes))

    def repeat(self, *axes: Axis) -> Expression:
        """Return the same for every label of further axes, said on purpose."""
        return Combination(self._terms.repeat(axes))

    def previous(self, axis: Axis | str, n: int = 1, start: Any = None) -> Expression:
        """Return the value ``n`` labels earlier along an ordered axis (later if ``n`` is negative).

        Parameters
        ----------
        n : int
            0 is the expression itself.
        start : number, data, expression or "cyclic", optional
            The value before the first label, without that axis; ``"cyclic"`` goes on from the other end. Without it
            the first labels have no value, and covering them is an error. In a family over a part of the
            combinations, each member's own sequence counts.
        """
        terms = self._terms
        at = terms.cells.position(axis.name if isinstance(axis, Axis) else axis)
        if isinstance(n, bool) or not isinstance(n, (int, np.integer)):
            raise ModelError(f"previous looks back an integer number of labels, not {n!r}")
        if isinstance(start, str):
            if start != "cyclic":
                raise ModelError(f"start is a number, data, an expression or 'cyclic', not {start!r}")
            return Combination(look_back(terms, terms.cells.axes[at], int(n), start))
        opening = None if start is None else self._side(start)
        return Combination(look_back(terms, terms.cells.axes[at], int(n), opening))

    # ------------------------------------------------------------------ arithmetic

    def _side(self, other: Any) -> Terms:
        """Return an expression, a number or data as terms."""
        if isinstance(other, Expression):
            check_registry(self._terms.registry, other._terms)
            return other._terms
        return Terms.constant(self._terms.registry, as_data(other, known_axes(self._terms)))

    def _times(self, source: Source) -> Expression:
        factor = as_data(source, known_axes(self._terms))
        if not np.isfinite(factor.values).all():
            raise DataError("a coefficient must be finite; only a limit or a bound may be infinite")
        return Combination(self._terms.times(factor))

    def _add(self, other: Any, sign: float) -> Expression:
        terms = self._terms
        if isinstance(other, Expression):
            right = self._side(other)
            check_no_repeat(terms, right)
            return Combination(terms.plus(right, sign))
        if not is_data(other):
            return NotImplemented
        held = as_data(other, known_axes(terms))
        if not np.isfinite(held.values).all():
            raise DataError("what is added to an expression must be finite; only a limit or a bound may be infinite")
        if not held.axes:
            return Combination(terms.shifted(sign * float(held.values[0])))
        check_no_repeat(terms, Terms.constant(terms.registry, held))
        return Combination(terms.plus_data(held, sign))

    def __add__(self, other: Any) -> Expression:
        return self._add(other, 1.0)

    def __radd__(self, other: Any) -> Expression:
        return self._add(other, 1.0)

    def __sub__(self, other: Any) -> Expression:
        return self._add(other, -1.0)

    def __rsub__(self, other: Any) -> Expression:
        return (-self)._add(other, 1.0)

    def __neg__(self) -> Expression:
        return Combination(self._terms.scaled(-1.0))

    def __pos__(self) -> Expression:
        return self

    def __mul__(self, other: Any) -> Expression:
        if isinstance(other, Expression):
            raise ModelError(NOT_LINEAR)
        return self._times(other) if is_data(other) else NotImplemented

    def __rmul__(self, other: Any) -> Expression:
        return self.__mul__(other)

    def __truediv__(self, other: Any) -> Expression:
        if isinstance(other, Expression):
            raise ModelError(DIVISION)
        if not is_data(other):
            return NotImplemented
        divisor = as_data(other, known_axes(self._terms))
        if not np.all(divisor.values):
            raise DataError("an expression is divided by data that holds a zero")
        return self._times(1.0 / divisor)

    def __rtruediv__(self, other: Any) -> Never:
        raise ModelError(DIVISION)

    def __pow__(self, other: Any) -> Never:
        raise ModelError("a power of an expression is not linear")

    def __abs__(self) -> Never:
        raise ModelError(
            "the absolute value of an expression is not linear; to keep |e| small, declare a decision d and require "
            "d >= e and d >= -e; for a curve through corners see model.curve"
        )

    # ------------------------------------------------------------------ relations

    def _relate(self, other: Any, sense: Sense) -> Relation:
        left = self._terms
        if isinstance(other, Expression):
            return Relation(Sides(*_both(on_common_cells(left, self._side(other)), sense)))
        if not is_data(other):
            return NotImplemented
        held = as_data(other, known_axes(left))
        if set(held.cells.names) == set(left.cells.names) and held.axes:
            check_no_repeat(left, Terms.constant(left.registry, held))
            if left.summed and not left.cells.full:
                return Relation(Sides(*_both(on_common_cells(left, Terms.constant(left.registry, held)), sense)))
        elif not set(held.cells.names) <= set(left.cells.names):
            left = left.along(filled(held))
        limit = Data(left.cells, values_for(held, left.cells, "the limit for"), held.unit)
        return Relation(Sides(left, sense, Terms.constant(left.registry, limit)))

    def __le__(self, other: Any) -> Relation:
        return self._relate(other, "<=")

    def __ge__(self, other: Any) -> Relation:
        return self._relate(other, ">=")

    def __eq__(self, other: Any) -> Relation:  # type: ignore[override]
        return self._relate(other, "==")

    def __ne__(self, other: Any) -> Never:
        raise ModelError("'not equal' is not a linear relation; use <=, >= or ==")

    def __lt__(self, other: Any) -> Never:
        raise ModelError(
            "a strict < is not a linear relation; write <=. (min, max and sorted compare like this too: they do "
            "not work on decisions)"
        )

    def __gt__(self, other: Any) -> Never:
        raise ModelError(
            "a strict > is not a linear relation; write >=. (min, max and sorted compare like this too: they do "
            "not work on decisions; for the larger of two, require a decision >= each of them)"
        )

    def between(self, lower: Source, upper: Source) -> Relation:
        """Return the relation ``lower <= expression <= upper``; both are numbers or data."""
        for limit in (lower, upper):
            if isinstance(limit, Expression):
                raise ModelError("between() takes numbers or data; write two constraints for limits with decisions")
        low, high = (as_data(limit, known_axes(self._terms)) for limit in (lower, upper))
        part = self._terms
        for limit in (low, high):
            if not set(limit.cells.names) <= set(part.cells.names):
                part = part.along(filled(limit))
        lows = np.array(values_for(low, part.cells, "the lower limit for"))
        highs = np.array(values_for(high, part.cells, "the upper limit for"))
        return Relation(Sides(part, "between", None, lows, highs))


class Combination(Expression):
    """A linear combination of decisions."""

    def __init__(self, terms: Terms) -> None:
        self._terms = terms


class Term(Expression):
    """One coefficient times one decision: what ``ship["Fell", "Quay"]`` gives."""

    __slots__ = ("_about", "_coefficient", "_column", "_label", "_registry")

    def __init__(
        self, registry: Registry, column: int, label: str, coefficient: float = 1.0, about: str | None = None
    ) -> None:
        self._registry, self._column, self._label, self._coefficient = registry, column, label, coefficient
        self._about = about

    @property
    def _terms(self) -> Terms:  # type: ignore[override]
        return Terms(
            self._registry, Cells(()), np.zeros(1, np.intp), np.array([self._column], np.int64),
            np.array([self._coefficient], np.float64), np.zeros(1),
        )  # fmt: skip

    def __repr__(self) -> str:
        return self._about or " ".join(terms_words(self._terms, 0))

    def _scaled(self, factor: float) -> Term:
        if not np.isfinite(factor):
            raise DataError("a coefficient must be finite; only a limit or a bound may be infinite")
        return Term(self._registry, self._column, self._label, self._coefficient * factor)

    def __mul__(self, other: Any) -> Expression:
        return self._scaled(float(other)) if isinstance(other, Real) else super().__mul__(other)

    def __truediv__(self, other: Any) -> Expression:
        if isinstance(other, Real) and other:
            return self._scaled(1.0 / float(other))
        return super().__truediv__(other)

    def __neg__(self) -> Expression:
        return self._scaled(-1.0)


class Relation:
    """One constraint for each cell, both sides as written; given to ``model.require``."""

    def __init__(self, sides: Sides) -> None:
        self._sides = sides

    def where(self, mask: Source) -> Relation:
        """Return the relation for the combinations where ``mask`` is present and not zero."""
        return Relation(self._sides.where(mask_of(self._sides.left, mask)))

    def __repr__(self) -> str:
        return in_one_line(self._sides.cells, lambda i: relation_words(self._sides, i, TERMS))

    def _repr_html_(self) -> str:
        return _html(self._sides.cells, lines(self._sides.cells, lambda i: relation_words(self._sides, i, TERMS)))

    def __bool__(self) -> bool:
        raise ModelError(
            "a comparison of decisions is a constraint, neither true nor false: give it to model.require(name, ...). "
            "For a range write expr.between(low, high) instead of low <= expr <= high"
        )


def _html(cells: Cells, rows: list[tuple[str, str]]) -> str:
    """Return rows of labels and words for a notebook."""
    return Document.of("", [Table("", [", ".join(cells.names), ""], rows, most=None)])._repr_html_()


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
    longer: list[Terms] = []
    constant = 0.0
    registry: Registry | None = None
    for term in terms:
        if isinstance(term, Term):
            own = term._registry
            columns.append(term._column)
            values.append(term._coefficient)
        elif isinstance(term, Expression):
            held = term._terms
            if held.cells.axes:
                raise ModelError(
                    f"total() adds scalars; this expression has the axes {', '.join(held.cells.names)}: use .sum()"
                )
            longer.append(held)
            own = held.registry
        elif isinstance(term, Real):
            constant += float(term)
            continue
        else:
            raise ModelError(f"total() adds terms and numbers, not {type(term).__name__}: {term!r}")
        if registry is None:
            registry = own
        elif registry is not own:
            raise ModelError(other_model(registry, own))
    if registry is None:
        return constant
    all_columns = np.concatenate([np.array(columns, np.int64), *(part.columns for part in longer)])
    all_values = np.concatenate([np.array(values, np.float64), *(part.values for part in longer)])
    constant += sum(float(part.constants[0]) for part in longer)
    rows = np.zeros(len(all_columns), np.intp)
    return Combination(Terms(registry, Cells(()), rows, all_columns, all_values, np.array([constant]), summed=True))


# ---------------------------------------------------------------------- for the layers that work with expressions


def terms_of(expression: Expression) -> Terms:
    """Return the terms of an expression."""
    return expression._terms


def sides_of(relation: Relation) -> Sides:
    """Return both sides of a relation."""
    return relation._sides


def turned(relation: Relation) -> Relation:
    """Return the same relation with its sides exchanged: ``a <= b`` as ``b >= a``."""
    sides = relation._sides
    if sides.right is None:
        return relation
    return Relation(Sides(sides.right, TURNED[sides.sense], sides.left))


def known_axes(terms: Terms) -> list[Axis]:
    """Return the axes that pandas objects next to an expression may be indexed by."""
    own = terms.cells.axes
    return [*own, *(axis for axis in terms.registry.axes.values() if axis.name not in terms.cells.names)]


def mask_of(terms: Terms, mask: Source) -> Data:
    """Return a mask as data."""
    if isinstance(mask, Expression):
        raise ModelError("a mask is data that is known beforehand, not decisions")
    return as_data(mask, known_axes(terms))


def check_registry(registry: Registry, terms: Terms) -> None:
    """Raise `ModelError` for an expression of another model."""
    if terms.registry is not registry:
        raise ModelError(other_model(registry, terms.registry))


def other_model(own: Registry, other: Registry) -> str:
    """Return the message that decisions belong to another model."""
    if own.name == other.name:
        return f"the decisions belong to another model that is called {own.name!r} too; ask for them by name"
    return f"the decisions belong to different models, {own.name!r} and {other.name!r}"


def by_axis(cells: Cells, labels: Any, name: str = "") -> dict[str, Any]:
    """Return labels in brackets by axis."""
    labels = labels if isinstance(labels, tuple) else (labels,)
    if len(labels) != len(cells.axes):
        owner = f"{name} has" if name else "this expression has"
        axes = f"{len(cells.axes)} axes ({', '.join(cells.names)})" if cells.axes else "no axes"
        raise ModelError(
            f"{owner} {axes} and {len(labels)} labels are given; to fix only some of them write .at(axis=label), or : "
            "for an axis that stays"
        )
    chosen = dict(zip(cells.names, labels, strict=True))
    return {axis: label for axis, label in chosen.items() if not (isinstance(label, slice) and label == slice(None))}


def scalar(registry: Registry, value: Any, where: str) -> Terms:
    """Return one number or scalar expression as terms without axes.

    Raises
    ------
    ModelError
        If it is spread over an axis, of another model, or not a number to calculate with.
    """
    if isinstance(value, Real):
        terms = Terms.constant(registry, Data(Cells(()), np.array([float(value)])))
    elif isinstance(value, Expression):
        terms = value._terms
        check_registry(registry, terms)
    elif isinstance(value, Data):
        if value.axes:
            raise ModelError(
                f"{where}: this holds data only, on {', '.join(value.cells.names)}; was a decision left out?"
            )
        terms = Terms.constant(registry, value)
    else:
        raise ModelError(f"{where}: an expression of decisions is needed, not {type(value).__name__}")
    if terms.cells.axes:
        raise ModelError(f"{where}: this still runs over {', '.join(terms.cells.names)}; add .sum() to total it")
    if not np.isfinite(terms.constants).all():
        raise ModelError(f"{where}: a constant of an objective is a finite number, not {float(terms.constants[0])}")
    return terms


def _both(sides: tuple[Terms, Terms], sense: Sense) -> tuple[Terms, Sense, Terms]:
    return sides[0], sense, sides[1]
