"""Logical rules and curves as they were written; `lowering` makes rows of them whenever the model is solved."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from ruddock.errors import ModelError
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, project
from ruddock.modelling.expression import Expression, Relation, sides_of, terms_of
from ruddock.modelling.relation import Sides
from ruddock.modelling.terms import Terms
from ruddock.modelling.writing import TERMS, in_one_line, relation_words, strictly, terms_words
from ruddock.problem import Floats

Evaluate = Callable[[Terms], Floats]
NEAR = 1e-9  # of a step: a limit this near to a multiple is one
HOLDS = 1e-6  # relative: how near to its limit a condition is taken to be at it


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
        _same_axes(condition.cells, relation.cells)
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


class Implication(Rule):
    """A relation that holds where another one does.

    Attributes
    ----------
    condition : the other relation
    strict : whether it is meant without its limits: more than, not at least
    relation : what then holds
    """

    word = "if"

    def __init__(self, condition: Sides, strict: bool, relation: Sides) -> None:
        _same_axes(condition.cells, relation.cells)
        self.relation = relation.in_order()
        self.condition, self.strict = condition.spread(self.relation.cells), strict
        if self.condition.sense == "between" and not np.isfinite([*self.condition.low, *self.condition.high]).all():  # type: ignore[misc]
            raise ModelError("the limits of a condition are finite; write a condition with one limit as >= or <=")

    @property
    def cells(self) -> Cells:
        """The label combinations of the relation."""
        return self.relation.cells

    def parts(self) -> list[Terms]:
        """Return the sides of both relations."""
        return [*_sides(self.condition), *_sides(self.relation)]

    def alternatives(self, steps: Floats) -> list[Sides]:
        """Return the relations of which one holds: the condition's opposites, and what then holds.

        Parameters
        ----------
        steps : float array, one for each cell
            The condition's row takes only multiples of it; 0 where the opposite includes the limit.
        """
        row, (lower, upper) = self.condition.row, self.condition.bounds
        free = np.full(len(steps), np.inf)
        with np.errstate(invalid="ignore", divide="ignore"):
            below = np.where(steps > 0, (np.ceil(lower / steps - NEAR) - 1) * steps, lower)
            above = np.where(steps > 0, (np.floor(upper / steps + NEAR) + 1) * steps, upper)
        opposites = []
        if np.isfinite(lower).any():
            opposites.append(Sides(row, "between", None, -free, below))
        if np.isfinite(upper).any():
            opposites.append(Sides(row, "between", None, above, free))
        return [*opposites, self.relation]

    def violation(self, evaluate: Evaluate) -> Floats:
        """Return how far the relation is violated where the condition holds."""
        low, high = self.condition.bounds
        row = evaluate(self.condition.row)
        near = HOLDS * np.maximum(1.0, np.abs(row)) * (-1.0 if self.strict else 1.0)
        holds = (row >= low - near) & (row <= high + near)
        return np.where(holds, _violation(self.relation, evaluate), 0.0)

    def words(self, i: int, most: int | None = None) -> list[str]:
        """Return ``if RELATION then RELATION``."""
        condition = relation_words(self.condition, i, most)
        if self.strict:
            condition = strictly(condition)
        return ["if", *condition, "then", *relation_words(self.relation, i, most)]

    def moved(self, terms: Callable[[Terms], Terms], sides: Callable[[Sides], Sides]) -> Implication:
        """Return the rule in other decision numbers."""
        return Implication(sides(self.condition), self.strict, sides(self.relation))


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


def _same_axes(condition: Cells, relation: Cells) -> None:
    """Refuse a condition over axes that its relation lacks."""
    if any(name not in relation.names for name in condition.names):
        raise ModelError(
            f"the condition runs over {', '.join(condition.names)}, the relation only over "
            f"{', '.join(relation.names) or 'no axis'}; each condition needs a relation of its own"
        )


def _sides(relation: Sides) -> list[Terms]:
    return [relation.left] if relation.right is None else [relation.left, relation.right]


def _violation(relation: Sides, evaluate: Evaluate) -> Floats:
    right = None if relation.right is None else evaluate(relation.right)
    return relation.violation(evaluate(relation.left), right)


# ---------------------------------------------------------------------- what users write


def when(condition: Expression | Relation, relation: Relation) -> Rule:
    """Return the rule that a relation holds where a binary decision is 1: "if used, then at least 10".

    Parameters
    ----------
    condition : binary decisions, or ``1 - decisions`` for "unless", or a relation between integer decisions
        For a relation between others, say with `either` what else holds: "if more than 10, then used" is
        ``either(ship <= 10, used == 1)``.
    relation : Relation
        Over the same axes, or more.

    Raises
    ------
    ModelError
        When the model is solved, where nothing bounds the relation's decisions, or those of a condition that is a
        relation are not integers.
    """
    if not isinstance(relation, Relation):
        raise ModelError(f"when() takes a relation such as ship.sum(market) >= 10 second, not {relation!r}")
    if isinstance(condition, Relation):
        return Implication(sides_of(condition), False, sides_of(relation))
    return When(_yes_no(condition, "when()"), sides_of(relation))


def beyond(condition: Relation, relation: Relation) -> Rule:
    """Return the rule that a relation holds beyond the limits of another one: "if more than 10, then used"."""
    return Implication(sides_of(condition), True, sides_of(relation))


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
        raise ModelError(f"{where} takes binary decisions first, not a relation")
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
