"""Logical rules in plain words: if-then, either-or, so many of, runs over time, piecewise costs.

Each rule becomes ordinary constraints, and yes/no decisions where it needs some. How much room a rule must leave
when it does not hold is worked out from the bounds of its decisions, and from what the other constraints imply
for them, so that no large number is made up by hand.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.errors import ModelError, listed
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, data
from ruddock.modelling.expression import Expression, Relation, Term, total
from ruddock.problem import INTEGER, Floats, reaching_zero

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Constraints
    from ruddock.modelling.model import Model


class Rule(ABC):
    """A logical rule; `Model.require` writes it as constraints.

    Attributes
    ----------
    expression : whose axes the constraints run over
    """

    expression: Expression
    telling = True  # whether its constraints say something that a reader of a plan wants to know

    @abstractmethod
    def write(self, model: Model, name: str, unit: str | None) -> Constraints:
        """Add the constraints under a name, and others under names that begin with it; return the first."""


class When(Rule):
    """A relation that holds where a yes/no condition does."""

    def __init__(self, condition: Any, relation: Relation) -> None:
        if not isinstance(relation, Relation):
            raise ModelError(f"when() takes a relation such as ship.sum(market) >= 10 second, not {relation!r}")
        self.condition, self.relation = _yes_no(condition, "when()"), relation
        self.expression = relation.expression

    def write(self, model: Model, name: str, unit: str | None) -> Constraints:
        """Leave just enough room where the condition does not hold."""
        relation = self.relation
        expr = relation.expression
        if not set(self.condition.cells.names) <= set(expr.cells.names):
            raise ModelError(
                f"{name}: the condition runs over {', '.join(self.condition.cells.names)}, the relation only over "
                f"{', '.join(expr.cells.names) or 'no axis'}; each condition needs a relation of its own"
            )
        least, most = _reach(model, expr, name)
        written: list[Constraints] = []
        for limit, end, sign in ((relation.upper, most, 1.0), (relation.lower, least, -1.0)):
            if not np.isfinite(limit).any():
                continue
            room = np.maximum(sign * (end - limit), 0.0)
            _refuse_endless(model, expr, room, name)
            plain = Expression(expr.model, expr.cells, (expr.rows, expr.columns, expr.values), units=expr.units)
            slack = Data(expr.cells, sign * room)
            right = Data(expr.cells, limit + sign * room)
            left = plain + _spread(self.condition * slack, expr.cells)
            own = name if not written else f"{name}_{'most' if sign > 0 else 'least'}"
            written.append(model.require(own, left <= right if sign > 0 else left >= right, unit=unit))
        return written[0]


class Either(Rule):
    """Two relations of which at least one holds; a yes/no decision says which is enforced."""

    def __init__(self, first: Relation, second: Relation) -> None:
        for relation in (first, second):
            if not isinstance(relation, Relation):
                raise ModelError(f"either() takes two relations, such as start - end >= 0, not {relation!r}")
        if set(first.expression.cells.names) != set(second.expression.cells.names):
            raise ModelError("either() takes two relations over the same axes")
        self.first, self.second = first, second
        self.expression = first.expression

    def write(self, model: Model, name: str, unit: str | None) -> Constraints:
        """Enforce the first where the decision is yes, the second where it is no."""
        cells = self.first.expression.cells
        only = Data(cells, np.ones(cells.size)) if cells.axes else None
        which = model.decide(f"{name}_first", *cells.axes, kind="binary", only=only)
        written = When(which, self.first).write(model, name, unit)
        When(1 - which, self.second).write(model, f"{name}_or", unit)
        return written


class Run(Rule):
    """A yes/no over consecutive periods that, once it changes, stays for a while."""

    telling = False

    def __init__(self, on: Any, axis: Axis, least: int, value: bool, before: float) -> None:
        self.on, self.axis, self.least, self.value, self.before = _yes_no(on, "run()"), axis, least, value, before
        self.expression = self.on
        if axis.name not in self.on.cells.names:
            raise ModelError(f"run() goes along {axis.name}, which is no axis of the decisions")
        if isinstance(least, bool) or not isinstance(least, (int, np.integer)) or not 1 <= least <= len(axis):
            raise ModelError(f"run() lasts a whole number of {axis.name} labels from 1 to {len(axis)}, not {least!r}")
        if before not in (0, 1):
            raise ModelError(f"before the first {axis.name} it is 0 or 1, not {before!r}")

    def write(self, model: Model, name: str, unit: str | None) -> Constraints:
        """Count changes in a window: at most as many as there may be (Rajan and Takriti 2005)."""
        on, before = self.on, float(self.before)
        if not self.value:
            on, before = 1 - on, 1.0 - before
        cells = on.cells
        change = model.decide(f"{name}_start", *cells.axes, upper=1, only=Data(cells, np.ones(cells.size)))
        model.require(f"{name}_begins", change >= on - on.lag(self.axis, start=before))
        window: Expression = change
        for back in range(1, self.least):
            window = window + change.lag(self.axis, back, start=0)
        return model.require(name, window <= on, unit=unit)


def when(condition: Any, relation: Relation) -> Rule:
    """Return the rule that a relation holds where a yes/no decision is 1: "if used, then at least 10".

    Parameters
    ----------
    condition : binary decisions, or ``1 - decisions`` for "unless"
    relation : Relation
        Over the same axes, or more.

    Raises
    ------
    ModelError
        From ``model.require``, where nothing bounds the relation's decisions.
    """
    return When(condition, relation)


def either(first: Relation, second: Relation) -> Rule:
    """Return the rule that at least one of two relations holds."""
    return Either(first, second)


def run(on: Any, axis: Axis, least: int, *, before: int = 0) -> Rule:
    """Return the rule that what goes on stays on for at least so many consecutive labels of an ordered axis.

    A run that begins near the end may go on after it. ``before`` says what it was before the first label.
    """
    return Run(on, axis, least, True, before)


def pause(on: Any, axis: Axis, least: int, *, before: int = 0) -> Rule:
    """Return the rule that what goes off stays off for at least so many consecutive labels; see `run`."""
    return Run(on, axis, least, False, before)


def at_most(count: int, *decisions: Any) -> Relation:
    """Return the relation that at most ``count`` of some yes/no decisions are 1."""
    return _chosen(decisions, "at_most()") <= count


def at_least(count: int, *decisions: Any) -> Relation:
    """Return the relation that at least ``count`` of some yes/no decisions are 1."""
    return _chosen(decisions, "at_least()") >= count


def exactly(count: int, *decisions: Any) -> Relation:
    """Return the relation that just ``count`` of some yes/no decisions are 1."""
    return _chosen(decisions, "exactly()") == count


def piecewise(model: Model, name: str, x: Any, points: Sequence[tuple[float, float]]) -> Expression:
    """Return a piecewise-linear function of an expression; see `Model.piecewise`.

    The pieces fill up in their order, each only once the one before is full: of all formulations with yes/no
    decisions for the pieces none is tighter (Sherali 2001).
    """
    expr = x.expression() if isinstance(x, Term) else x
    if not isinstance(expr, Expression):
        raise ModelError(f"{name}: a piecewise function is one of decisions, not {x!r}")
    at = np.array([point[0] for point in points], float)
    value = np.array([point[1] for point in points], float)
    if len(points) < 2 or not (np.isfinite(at).all() and np.isfinite(value).all()) or (np.diff(at) <= 0).any():
        raise ModelError(f"{name}: points are two or more pairs (x, y) of numbers, x rising")
    width = np.diff(at)
    slope = np.diff(value) / width
    piece = Axis(f"{name}_piece", range(1, len(points)))
    cells = expr.cells
    only = None
    if cells.axes and not cells.full:
        held = Data(cells, np.ones(cells.size))
        only = held.repeat(piece)
    wide = data(width, piece)
    model.helpers |= {f"{name}_{what}" for what in ("part", "parts", "full", "filled", "in_order")}
    part = model.decide(f"{name}_part", *cells.axes, piece, upper=wide, only=only)
    model.require(f"{name}_parts", expr - part.sum(piece) == float(at[0]))
    if len(points) > 2:
        inner = data(np.append(np.ones(len(width) - 1), 0.0), piece)
        mask = inner if only is None else inner * only
        full = model.decide(f"{name}_full", *cells.axes, piece, kind="binary", only=mask)
        model.require(f"{name}_filled", (part - full * wide).where(inner) >= 0)
        later = data(np.append(0.0, np.ones(len(width) - 1)), piece)
        opened = (full * data(np.append(width[1:], 0.0), piece)).lag(piece, start=0)
        model.require(f"{name}_in_order", (part - opened).where(later) <= 0)
    return (part * data(slope, piece)).sum(piece) + float(value[0])


def _yes_no(condition: Any, where: str) -> Expression:
    """Return a condition as an expression that is 0 or 1 in every cell."""
    expr = condition.expression() if isinstance(condition, Term) else condition
    if isinstance(expr, Expression):
        marks, lower, upper = _decision_bounds(expr.model)
        single = np.bincount(expr.rows, minlength=expr.cells.size) == 1
        binary = ((marks[expr.columns] & INTEGER) != 0) & (lower[expr.columns] >= 0) & (upper[expr.columns] <= 1)
        coefficient = np.bincount(expr.rows, expr.values, expr.cells.size)
        plain = (coefficient == 1) & (expr.constants == 0)
        turned = (coefficient == -1) & (expr.constants == 1)
        if single.all() and binary.all() and (plain | turned).all():
            return expr
    raise ModelError(f"{where} takes yes/no decisions (kind='binary'), or 1 - decisions; this is neither")


def _chosen(decisions: tuple[Any, ...], where: str) -> Expression:
    """Return how many of some yes/no decisions are 1."""
    parts = []
    for part in decisions:
        parts += list(part) if isinstance(part, (list, tuple)) else [part]
    if not parts:
        raise ModelError(f"{where} takes yes/no decisions after the number")
    sums = [_yes_no(part, where) for part in parts]
    whole = total(part.sum() if part.axes else part for part in sums)
    assert isinstance(whole, Expression)
    return whole


def _spread(expr: Expression, cells: Cells) -> Expression:
    """Return an expression for the cells given, repeated along the axes that it lacks."""
    if set(expr.cells.names) == set(cells.names):
        return expr
    return expr._gather(cells, expr.cells.lookup(cells), holes=())


def _decision_bounds(model: Model) -> tuple[np.ndarray, Floats, Floats]:
    """Return marks and bounds of all decisions by their numbers."""
    marks, lower, upper = np.zeros(model.columns, np.uint8), np.zeros(model.columns), np.zeros(model.columns)
    for family in model.formulation().decisions:
        own = slice(family.first, family.first + len(family))
        marks[own] = family.marks
        lower[own], upper[own] = reaching_zero(family.lower, family.upper, family.marks)
    return marks, lower, upper


def _reach(model: Model, expr: Expression, name: str) -> tuple[Floats, Floats]:
    """Return the least and most that an expression can be, constants left out."""
    _, lower, upper = _decision_bounds(model)
    ends = _ends(expr, lower, upper)
    if np.isfinite(ends[0]).all() and np.isfinite(ends[1]).all():
        return ends
    from ruddock.engine.tree.tighten import implied_bounds

    formulation = model.formulation()
    tight_lower, tight_upper = implied_bounds(formulation.problem(None))
    columns = formulation.columns_for(expr.columns, name)
    lower[expr.columns], upper[expr.columns] = tight_lower[columns], tight_upper[columns]
    return _ends(expr, lower, upper)


def _ends(expr: Expression, lower: Floats, upper: Floats) -> tuple[Floats, Floats]:
    low = np.where(expr.values > 0, lower[expr.columns], upper[expr.columns]) * expr.values
    high = np.where(expr.values > 0, upper[expr.columns], lower[expr.columns]) * expr.values
    size = expr.cells.size
    return np.bincount(expr.rows, low, size).astype(float), np.bincount(expr.rows, high, size).astype(float)


def _refuse_endless(model: Model, expr: Expression, room: Floats, name: str) -> None:
    """Raise an error that names the decisions without bounds."""
    if np.isfinite(room).all():
        return
    formulation = model.formulation()
    rows = np.flatnonzero(~np.isfinite(room))
    columns = np.unique(formulation.columns_for(expr.columns[np.isin(expr.rows, rows)], name))
    names = [formulation.decision_names[j] for j in columns.tolist()]
    raise ModelError(
        f"{name}: nothing limits {listed(names, 3)}, so no finite room can be left where the rule does not hold; "
        "give the decisions upper (or lower) bounds"
    )
