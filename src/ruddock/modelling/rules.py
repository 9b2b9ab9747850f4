"""Logical rules and curves as they were written; `lowering` makes rows of them whenever the model is solved."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ruddock.errors import DataError, ModelError
from ruddock.modelling.alignment import values_for
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, project
from ruddock.modelling.data import as_data, filled, is_data
from ruddock.modelling.decisions import member_name, member_names
from ruddock.modelling.expression import Expression, Relation, known_axes, sides_of, terms_of
from ruddock.modelling.relation import Sides
from ruddock.modelling.terms import Columns, Registry, Terms
from ruddock.modelling.units import decision_units
from ruddock.modelling.writing import TERMS, in_one_line, relation_words, terms_words
from ruddock.problem import Floats

Evaluate = Callable[[Terms], Floats]


class Rule(ABC):
    """A logical rule, given to ``model.require``.

    Attributes
    ----------
    word : what it is called in texts: if, either, run or pause
    """

    word: str

    @property
    @abstractmethod
    def cells(self) -> Cells:
        """The label combinations, one rule each."""

    @abstractmethod
    def parts(self) -> list[Terms]:
        """Return all expressions in it."""

    @abstractmethod
    def violation(self, evaluate: Evaluate) -> Floats:
        """Return by how much the rule is broken in each cell, given the values of expressions; 0 where it holds."""

    @abstractmethod
    def moved(self, terms: Callable[[Terms], Terms], sides: Callable[[Sides], Sides]) -> Rule:
        """Return the rule with its expressions and relations put into other decision numbers."""

    def __repr__(self) -> str:
        return in_one_line(self.cells, lambda i: self.words(i, TERMS))

    @abstractmethod
    def words(self, i: int, most: int | None = None) -> list[str]:
        """Return one rule in pieces, as it is written in a model's text."""

    def __bool__(self) -> bool:
        raise ModelError("a rule is neither true nor false: give it to model.require(name, ...)")


class When(Rule):
    """A relation that holds where a binary condition does."""

    word = "if"

    def __init__(self, condition: Terms, relation: Sides) -> None:
        extra = [name for name in condition.cells.names if name not in relation.cells.names]
        if extra:
            raise ModelError(
                f"the condition runs over {', '.join(condition.cells.names)}, the relation only over "
                f"{', '.join(relation.cells.names) or 'no axis'}; each condition needs a relation of its own"
            )
        self.condition, self.relation = condition, relation.in_order()

    @property
    def cells(self) -> Cells:
        """The label combinations of the relation."""
        return self.relation.cells

    def parts(self) -> list[Terms]:
        """Return condition and sides."""
        return [self.condition, *_sides(self.relation)]

    def violation(self, evaluate: Evaluate) -> Floats:
        """Return how far the relation is violated where the condition holds."""
        holds = evaluate(self.condition.spread(self.cells)) > 0.5
        return np.where(holds, _violation(self.relation, evaluate), 0.0)

    def words(self, i: int, most: int | None = None) -> list[str]:
        """Return ``if CONDITION then RELATION``, or ``unless``."""
        condition = self.condition.spread(self.cells)
        word = "unless" if condition.constants[i] else "if"
        own = condition if word == "if" else condition.scaled(-1.0).without_constants()
        return [word, *terms_words(own, i, most), "then", *relation_words(self.relation, i, most)]

    def moved(self, terms: Callable[[Terms], Terms], sides: Callable[[Sides], Sides]) -> When:
        """Return the rule in other decision numbers."""
        return When(terms(self.condition), sides(self.relation))


class Either(Rule):
    """Relations of which at least one holds."""

    word = "either"

    def __init__(self, relations: Sequence[Sides]) -> None:
        first = relations[0].in_order()
        names = set(first.cells.names)
        others = []
        for relation in relations[1:]:
            if set(relation.cells.names) != names:
                raise ModelError("either() takes relations over the same axes")
            place = relation.cells.lookup(first.cells)
            if relation.cells.size != first.cells.size or (place is not None and (place < 0).any()):
                raise ModelError(
                    "either() takes relations over the same combinations of labels; keep them with .where()"
                )
            others.append(relation if place is None else relation.take(place))
        self.relations = (first, *others)

    @property
    def cells(self) -> Cells:
        """The label combinations of the relations."""
        return self.relations[0].cells

    def parts(self) -> list[Terms]:
        """Return the sides of all relations."""
        return [side for relation in self.relations for side in _sides(relation)]

    def violation(self, evaluate: Evaluate) -> Floats:
        """Return how far the relation is violated that comes nearest to holding."""
        return np.asarray(np.min([_violation(relation, evaluate) for relation in self.relations], axis=0))

    def words(self, i: int, most: int | None = None) -> list[str]:
        """Return ``either RELATION or RELATION``."""
        words = ["either"]
        for k, relation in enumerate(self.relations):
            words += [*(["or"] if k else []), *relation_words(relation, i, most)]
        return words

    def moved(self, terms: Callable[[Terms], Terms], sides: Callable[[Sides], Sides]) -> Either:
        """Return the rule in other decision numbers."""
        return Either([sides(relation) for relation in self.relations])


class Run(Rule):
    """A binary over consecutive labels that, once it changes, stays for a while."""

    def __init__(self, on: Terms, axis: Axis, least: int, value: bool, before: int) -> None:
        self.word = "run" if value else "pause"
        self.on, self.axis, self.least, self.value, self.before = on, axis, least, value, before
        if axis.name not in on.cells.names:
            raise ModelError(f"{self.word}() goes along {axis.name}, which is not an axis of the decisions")
        if isinstance(least, bool) or not isinstance(least, (int, np.integer)) or not 1 <= least <= len(axis):
            raise ModelError(
                f"{self.word}() lasts an integer number of {axis.name} labels from 1 to {len(axis)}, not {least!r}"
            )
        if before not in (0, 1):
            raise ModelError(f"before the first {axis.name} it is 0 or 1, not {before!r}")

    @property
    def cells(self) -> Cells:
        """The label combinations of the decisions."""
        return self.on.cells

    def parts(self) -> list[Terms]:
        """Return the decisions."""
        return [self.on]

    def violation(self, evaluate: Evaluate) -> Floats:
        """Return 1 for each label at which a run begins that ends too early."""
        cells = self.cells
        on = (evaluate(self.on) > 0.5) == self.value
        begins_on = (self.before == 1) == self.value
        broken = np.zeros(cells.size)
        others = [name for name in cells.names if name != self.axis.name]
        group = project(cells, others)[1] if others else np.zeros(cells.size, np.intp)
        order = np.lexsort((cells.codes[cells.position(self.axis.name)], group))
        for sequence in np.split(order, np.flatnonzero(np.diff(group[order])) + 1) if len(order) else []:
            state = on[sequence]
            starts = np.flatnonzero(state & ~np.concatenate(([begins_on], state[:-1])))
            for at in starts.tolist():
                if not state[at : at + self.least].all():
                    broken[sequence[at]] = 1.0
        return broken

    def words(self, i: int, most: int | None = None) -> list[str]:
        """Return ``run(DECISION, axis) >= LEAST``, or ``pause``."""
        before = f", {self.before}" if self.before else ""
        on = "".join(terms_words(self.on, i, most))
        return [f"{self.word}({on}, {self.axis.name}{before}) >= {self.least}"]

    def moved(self, terms: Callable[[Terms], Terms], sides: Callable[[Sides], Sides]) -> Run:
        """Return the rule in other decision numbers."""
        return Run(terms(self.on), self.axis, self.least, self.value, self.before)


def _sides(relation: Sides) -> list[Terms]:
    return [relation.left] if relation.right is None else [relation.left, relation.right]


def _violation(relation: Sides, evaluate: Evaluate) -> Floats:
    right = None if relation.right is None else evaluate(relation.right)
    return relation.violation(evaluate(relation.left), right)


@dataclass(frozen=True, eq=False, repr=False)
class Curve:
    """A piecewise-linear function of an expression, for each of its cells.

    Attributes
    ----------
    x : Terms
    at, values : float arrays, shape (cells, corners)
        The corners. Where two share the same ``at``, the function jumps: there it has either value.
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
        return self.at.shape[1] > 2 or bool((np.diff(self.at, axis=1) == 0).any())

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


def make_curve(registry: Registry, name: str, x: Any, corners: Any, unit: str | None = None) -> Curve:
    """Check what `Model.curve` was given and make the curve."""
    if not isinstance(x, Expression):
        raise ModelError(f"{name}: a curve is a function of decisions, not of {type(x).__name__}")
    terms = terms_of(x)
    try:
        pairs = [tuple(corner) for corner in (corners.items() if isinstance(corners, dict) else corners)]
    except TypeError:
        raise ModelError(f"{name}: corners are pairs such as [(0, 0), (10, 50)], not {corners!r}") from None
    if len(pairs) < 2 or any(len(pair) != 2 for pair in pairs):
        raise ModelError(f"{name}: corners are two or more pairs (x, y), such as [(0, 0), (10, 50), (30, 70)]")
    at, values = (np.stack([_corner(terms, name, pair[side]) for pair in pairs], axis=1) for side in (0, 1))
    for i in range(terms.cells.size):
        steps = np.diff(at[i])
        if (steps < 0).any() or ((steps[1:] == 0) & (steps[:-1] == 0)).any():
            place = f"[{terms.cells.text(i)}]" if terms.cells.axes else ""
            raise ModelError(
                f"{name}{place}: x of the corners rises; at most two corners share one x, where the curve jumps"
            )
    numbers = np.arange(registry.columns, registry.columns + terms.cells.size, dtype=np.int64)
    registry.columns += terms.cells.size
    return Curve(name, terms, at, values, numbers, unit)


def _corner(terms: Terms, name: str, given: Any) -> Floats:
    """Return one coordinate of a corner for each cell."""
    if not is_data(given):
        raise ModelError(f"{name}: a corner is two numbers, or data for each member; this is {given!r}")
    held = filled(as_data(given, known_axes(terms)))
    extra = [axis for axis in held.cells.names if axis not in terms.cells.names]
    if extra:
        raise ModelError(f"{name}: a corner has the axis {', '.join(extra)}, which the expression lacks")
    values = np.array(values_for(held, terms.cells, f"a corner of {name} for"))
    if not np.isfinite(values).all():
        raise DataError(f"{name}: a corner is finite")
    return values


# ---------------------------------------------------------------------- what users write


def when(condition: Expression, relation: Relation) -> Rule:
    """Return the rule that a relation holds where a binary decision is 1: "if used, then at least 10".

    Parameters
    ----------
    condition : binary decisions, or ``1 - decisions`` for "unless"
    relation : Relation
        Over the same axes, or more.

    Raises
    ------
    ModelError
        When the model is solved, where nothing bounds the relation's decisions.
    """
    if not isinstance(relation, Relation):
        raise ModelError(f"when() takes a relation such as ship.sum(market) >= 10 second, not {relation!r}")
    return When(_yes_no(condition, "when()"), sides_of(relation))


def either(*relations: Relation) -> Rule:
    """Return the rule that at least one of some relations holds: ``either(start >= end_a, start_b >= end, ...)``."""
    if len(relations) < 2:
        raise ModelError("either() takes two relations or more, such as either(a <= 3, b >= 5)")
    for relation in relations:
        if not isinstance(relation, Relation):
            raise ModelError(f"either() takes relations, such as start - end >= 0, not {relation!r}")
    return Either([sides_of(relation) for relation in relations])


def run(on: Expression, axis: Axis, least: int, *, before: int = 0) -> Rule:
    """Return the rule that what goes on stays on for at least so many consecutive labels of an ordered axis.

    A run that begins near the end may go on after it. ``before`` says what it was before the first label.
    """
    return Run(_yes_no(on, "run()"), _axis(axis, "run()"), least, True, before)


def pause(on: Expression, axis: Axis, least: int, *, before: int = 0) -> Rule:
    """Return the rule that what goes off stays off for at least so many consecutive labels; see `run`."""
    return Run(_yes_no(on, "pause()"), _axis(axis, "pause()"), least, False, before)


def _axis(axis: Any, where: str) -> Axis:
    if not isinstance(axis, Axis):
        raise ModelError(f"{where} takes the Axis second, not {axis!r}")
    return axis


def _yes_no(condition: Any, where: str) -> Terms:
    """Return a condition as terms that are each one decision, or 1 less one; kinds are checked with the model."""
    if isinstance(condition, Relation):
        raise ModelError(
            f"{where} takes binary decisions first, not a relation; declare a binary decision for it, and say with "
            "another when() what holds if it is 0"
        )
    if isinstance(condition, Expression):
        terms = terms_of(condition)
        single = np.bincount(terms.rows, minlength=terms.cells.size) == 1
        if single.all() and len(terms.values) == terms.cells.size:
            order = np.argsort(terms.rows, kind="stable")
            coefficient = terms.values[order]
            plain = (coefficient == 1) & (terms.constants == 0)
            turned = (coefficient == -1) & (terms.constants == 1)
            if (plain | turned).all():
                return terms
    raise ModelError(f"{where} takes binary decisions (kind='binary'), or 1 - decisions; this is neither")
