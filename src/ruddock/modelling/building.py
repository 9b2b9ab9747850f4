"""Building a formulation by name: decisions, objectives, constraints, rules, curves, quantities."""

from __future__ import annotations

import copy
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Self, TypeVar

import numpy as np

from ruddock.errors import DataError, ModelError, known
from ruddock.modelling.axis import Axis, check_name
from ruddock.modelling.changes import Change
from ruddock.modelling.changing import with_changes
from ruddock.modelling.curves import Curve, make_curve
from ruddock.modelling.data import Data, Source
from ruddock.modelling.decisions import Decisions, Kind, make_decisions, relaxed
from ruddock.modelling.expression import Expression, Relation, scalar, sides_of, terms_of
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Quantity, Ruled, expression_of
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import UnknownNameError, names_of, split_member
from ruddock.modelling.recipe import Part, Recipe, Renumbering
from ruddock.modelling.rules import Rule
from ruddock.modelling.terms import Registry, Terms
from ruddock.problem import ENDLESS, Problem

Made = TypeVar("Made", bound=Part)
CALLED = {
    Decisions: "decisions", Constraints: "constraints", Ruled: "a rule", Curve: "a curve", Objective: "an objective",
    Quantity: "a quantity",
}  # fmt: skip


def _axes_of(part: Part) -> tuple[Axis, ...]:
    """Return the axes that a part runs over; an objective is a number."""
    return () if isinstance(part, Objective) else tuple(part.cells.axes)


class Building:
    """A formulation that is built up by name; `Model` adds what is asked of it."""

    def __init__(self, name: str = "model") -> None:
        if not isinstance(name, str):
            raise ModelError(f"the model's name is a title, not {type(name).__name__}: {name!r}")
        self.name = name
        self._registry = Registry(name)
        self._parts: dict[str, Part] = {}
        self._recipe: Recipe | None = None
        self._notes: tuple[str, ...] = ()
        self._read: dict[str, Part] = {}  # parts as the recipe made them
        self._relaxed = False
        self._arrays: tuple[tuple[Part, ...], Problem | None] = ((), None)  # parts that were made from arrays
        self._snapshot: tuple[tuple[Any, ...], Formulation] | None = None

    def __copy__(self) -> Self:
        """Return a model of its own with the same parts, which understands expressions of the original."""
        result = object.__new__(type(self))
        result.__dict__ = {**self.__dict__, "_parts": dict(self._parts), "_snapshot": None}
        return result

    def __deepcopy__(self, memo: dict[int, Any]) -> Self:
        return copy.copy(self)  # parts never change, so that nothing else is shared

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_snapshot": None}

    # ------------------------------------------------------------------ parts by name

    def __getitem__(self, name: str) -> Any:
        """Return decisions, constraints, a rule, an objective or a quantity by name; a curve as its expression."""
        if name not in self._parts:
            raise ModelError(f"the model has nothing called {name!r}; {known(str(name), self._parts)}")
        part = self._parts[name]
        return expression_of(part.value) if isinstance(part, Curve) else part

    def __contains__(self, name: object) -> bool:
        return name in self._parts

    def __repr__(self) -> str:
        sizes = self.formulation()
        rules = f", {len(sizes.rules):,} rules" if sizes.rules else ""
        return f"<Model {self.name!r}: {sizes.size:,} decisions, {sizes.rows:,} constraints{rules}>"

    def _free(self, name: str, what: str, replace: bool) -> None:
        """Check that a name can be given."""
        check_name(name, what)
        if name in self._parts and not replace:
            raise ModelError(
                f"the name {name!r} is taken by {CALLED[type(self._parts[name])]} of this model; choose another, say "
                f"replace=True to put this in its place, or take the old one out first with model.remove({name!r})"
            )

    def _keep(self, part: Made, axes: Iterable[Axis] = (), *, replacing: bool = False) -> Made:
        """Take in a part once nothing can fail any more.

        Parameters
        ----------
        replacing : bool
            A cell runs again: its axes may have other labels than before, and the parts after it follow.
        """
        for axis in axes:
            held = self._registry.axes.get(axis.name)
            if held is not None and held != axis and not replacing and self._uses(held, part.name):
                raise ModelError(f"another axis called {axis.name!r} is used in this model already, with other labels")
        for axis in axes:
            self._registry.axes[axis.name] = axis
        self._parts[part.name] = part
        return part

    def _check_axes(self, parts: Iterable[Part]) -> None:
        """Check that all parts mean the same by the name of an axis."""
        held: dict[str, tuple[Axis, str]] = {}
        for part in parts:
            for axis in _axes_of(part):
                first, name = held.setdefault(axis.name, (axis, part.name))
                if first is not axis and first != axis:
                    raise ModelError(
                        f"the axis {axis.name!r} has other labels in {name} than in {part.name}; write both anew with "
                        f"replace=True, or remove one of them"
                    )

    def _uses(self, axis: Axis, without: str) -> bool:
        """Say whether a part, other than one, uses an axis."""
        return any(axis in _axes_of(part) for name, part in self._parts.items() if name != without)

    def remove(self, name: str) -> None:
        """Take out a part by name: decisions, constraints, a rule, a curve, an objective or a quantity.

        Constraints that use removed decisions must be removed or rewritten before the next solve. Axes that no part
        uses any more are forgotten.
        """
        self[name]
        part = self._parts.pop(name)
        if isinstance(part, (Decisions, Curve)):
            self._registry.forget(name)
        used = {axis.name for part in self._parts.values() for axis in _axes_of(part)}
        for axis in [axis for axis in self._registry.axes if axis not in used]:
            del self._registry.axes[axis]

    # ------------------------------------------------------------------ formulation

    def decide(
        self,
        name: str,
        *axes: Axis,
        lower: Source | None = 0,
        upper: Source | None = None,
        kind: Kind = "continuous",
        unit: str | None = None,
        only: Source | None = None,
        replace: bool = False,
    ) -> Decisions:
        """Declare a family of decision variables, one for each combination of labels.

        Parameters
        ----------
        name : str
        *axes : Axis
            None for a single variable.
        lower, upper : number, data or None
            Bounds; None means no bound. A decision is not negative unless stated otherwise.
        kind : {"continuous", "integer", "binary", "semicontinuous"}
            A semicontinuous decision is 0 or between its bounds.
        unit : str, optional
        only : data mask, or list of label tuples
            The combinations that exist; the others cost nothing.
        replace : bool
            Put this in the place of a part of the same name, if there is one.

        Raises
        ------
        ModelError, DataError
        """
        self._free(name, "decisions", replace)
        family = make_decisions(self._registry, name, axes, lower, upper, kind, unit, only)
        return self._keep(family, axes, replacing=replace)

    def require(
        self, name: str, relation: Relation | Rule, *, unit: str | None = None, replace: bool = False
    ) -> Constraints | Ruled:
        """Add a family of constraints, one for each combination of labels in the relation.

        Parameters
        ----------
        name : str
        relation : from ``<=``, ``>=``, ``==`` or ``expr.between(low, high)``; or a rule from `when`, `either`, `run`,
            `pause`
        unit : str, optional
            Of both sides, for reports.
        replace : bool
            Put this in the place of a part of the same name, if there is one.
        """
        self._free(name, "constraints", replace)
        if isinstance(relation, Rule):
            for part in relation.parts():
                self._own(part, name)
            return self._keep(Ruled(name, relation, unit), relation.cells.axes, replacing=replace)
        if not isinstance(relation, Relation):
            if isinstance(relation, (bool, np.bool_, Data)):
                raise ModelError(
                    f"{name}: this relation holds no decision, it compares plain numbers and is always "
                    "the same; was a decision left out?"
                )
            raise ModelError(f"{name}: a relation such as ship.sum(market) <= stock is needed, not {relation!r}")
        sides = sides_of(relation)
        parts = [side for side in (sides.left, sides.right) if side is not None]
        for side in parts:
            self._own(side, name)
        low, high = sides.bounds
        if np.isnan(low).any() or np.isnan(high).any():
            raise ModelError(f"{name}: a limit is NaN")
        large = any((np.abs(side.constants) >= ENDLESS).any() for side in parts if not side.plain)
        if large or (low >= ENDLESS).any() or (high <= -ENDLESS).any():
            raise DataError(
                f"{name}: numbers of 1e20 and beyond count as infinite, and nothing reaches such a limit; write it in "
                "larger units"
            )
        sides = sides.in_order()
        return self._keep(Constraints(name, sides, unit), sides.cells.axes, replacing=replace)

    def _own(self, terms: Terms, name: str) -> None:
        """Check that an expression is of this model."""
        if terms.registry is not self._registry:
            other = terms.registry.name
            which = f"the model {other!r}" if other != self._registry.name else "another model of the same name"
            raise ModelError(f"{name}: the decisions belong to {which}; use those of this one, such as model['ship']")

    def curve(
        self,
        name: str,
        x: Expression,
        corners: Sequence[tuple[Source, Source]] | Mapping[float, float],
        *,
        along: Axis | str | None = None,
        unit: str | None = None,
        replace: bool = False,
    ) -> Expression:
        """Return a piecewise-linear function of an expression, to use in objectives and constraints.

        Works for any shape, rising or falling; every plan reports its value like a quantity.

        Parameters
        ----------
        name : str
        x : expression or decision
            Kept between the first and the last corner.
        corners : sequence of (x, y), or dict of x to y
            Numbers, or data for each member; x rising. Two corners at one x are a jump, such as a fixed charge or a
            discount on all units: there the function has either value.
        along : Axis or str, optional
            An axis whose labels are corners in their order: a pair of data over it stands for as many corners. Where
            a member has no numbers at a label, it has no corner there.
        unit : str, optional
            Of its values.
        replace : bool
            Put this in the place of a part of the same name, if there is one.

        Returns
        -------
        Expression
            Over the axes of ``x``.
        """
        self._free(name, "a curve", replace)
        if isinstance(x, Expression):
            self._own(terms_of(x), name)
        curve = make_curve(self._registry, name, x, corners, unit, along)
        return expression_of(self._keep(curve, curve.cells.axes, replacing=replace).value)

    def minimize(
        self,
        name: str,
        expr: Any = None,
        /,
        *,
        unit: str | None = None,
        parts: Mapping[str, Any] | None = None,
        replace: bool = False,
        **named_parts: Any,
    ) -> Objective:
        """Add an objective to make small: one expression, or a sum of named parts.

        Parameters
        ----------
        name : str
        expr : scalar expression, optional
        unit : str, optional
        parts : dict of name to scalar expression, optional
            For part names that are not Python names.
        replace : bool
            Put this in the place of a part of the same name, if there is one.
        **named_parts : scalar expressions
            Every plan reports each of them.
        """
        return self._objective(name, expr, unit, parts, named_parts, replace, maximize=False)

    def maximize(
        self,
        name: str,
        expr: Any = None,
        /,
        *,
        unit: str | None = None,
        parts: Mapping[str, Any] | None = None,
        replace: bool = False,
        **named_parts: Any,
    ) -> Objective:
        """Add an objective to make large; like `minimize`."""
        return self._objective(name, expr, unit, parts, named_parts, replace, maximize=True)

    def _objective(
        self, name: str, expr: Any, unit: str | None, parts: Any, named: dict[str, Any], replace: bool, maximize: bool
    ) -> Objective:
        self._free(name, "an objective", replace)
        if parts is not None and not isinstance(parts, Mapping):
            raise ModelError(f"the objective {name!r}: parts is a dict of name to expression, not {parts!r}")
        both = {**(parts or {}), **named}
        single = not both
        if single and expr is None:
            raise ModelError(f"the objective {name!r} is empty: give an expression, or named parts")
        if both and expr is not None:
            raise ModelError(f"the objective {name!r}: give one expression or named parts, not both")
        written = {name: expr} if single else both
        for part in written:
            check_name(part, "a part of an objective")
        scalars = {part: scalar(self._registry, value, f"{name}, part {part}") for part, value in written.items()}
        return self._keep(Objective(name, maximize, scalars, unit, single))

    def quantity(self, name: str, expr: Expression, *, unit: str | None = None, replace: bool = False) -> Quantity:
        """Name a total, or a family of them, that every plan reports and that limits nothing."""
        self._free(name, "a quantity", replace)
        if not isinstance(expr, Expression):
            raise ModelError(f"the quantity {name!r} is an expression of decisions, not {type(expr).__name__}")
        terms = terms_of(expr)
        self._own(terms, name)
        return self._keep(Quantity(name, terms, unit), terms.cells.axes, replacing=replace)

    # ------------------------------------------------------------------ what it is

    def formulation(self) -> Formulation:
        """Return a snapshot of all parts."""
        parts = tuple(self._parts.values())
        key = (self.name, self._registry.columns, *map(id, parts))
        if self._snapshot is None or self._snapshot[0] != key:
            self._check_axes(parts)
            made, arrays = self._arrays
            unchanged = len(made) == len(parts) and all(a is b for a, b in zip(made, parts, strict=True))
            sorts: dict[type, list[Any]] = {
                sort: [] for sort in (Decisions, Constraints, Ruled, Curve, Objective, Quantity)
            }
            for part in parts:
                sorts[type(part)].append(part)
            decisions, constraints, rules, curves, objectives, quantities = sorts.values()
            formulation = Formulation(
                self.name,
                self._registry,
                tuple(decisions),
                tuple(constraints),
                tuple(rules),
                tuple(curves),
                tuple(objectives),
                tuple(quantities),
                self._registry.columns,
                arrays if unchanged else None,
                self._relaxed,
                self.undeclared,
            )
            self._snapshot = key, formulation
        return self._snapshot[1]

    def problem(self) -> Problem:
        """Return the model as arrays, for its first objective, as a minimisation."""
        return lowered(self.formulation()).problems[0]

    @property
    def data_names(self) -> tuple[str, ...]:
        """The data tables that can be changed, of a model read from text."""
        return self._recipe.data_names if self._recipe is not None else ()

    @property
    def notes(self) -> tuple[str, ...]:
        """How the tables of a model read from a file were understood."""
        return self._recipe.notes if self._recipe is not None else self._notes

    @property
    def undeclared(self) -> tuple[str, ...]:
        """Decisions that no heading of a model read from text declares; it is not solved until one does."""
        return self._recipe.undeclared if self._recipe is not None else ()

    @property
    def taken(self) -> tuple[str, ...]:
        """Unknown names that a model read from text took as decisions."""
        return self._recipe.taken if self._recipe is not None else ()

    def still_is(self, formulation: Formulation) -> bool:
        """Say whether a formulation is what the model says now."""
        return self.formulation() is formulation

    def changed(self, changes: Iterable[Change]) -> Formulation:
        """Return the formulation with changes made: data first, then the rest in their order.

        What was edited in Python after reading stays.

        Raises
        ------
        ModelError
            If a change names nothing of the model, or does not fit what it names.
        """
        changes = list(changes)
        if self._recipe is None and any(change.table is not None for change in changes):
            raise ModelError("only a model read from text has tables that another file can take the place of")
        names_ = self.data_names
        data = [change for change in changes if change.table or split_member(change.target)[0] in names_]
        rest = [change for change in changes if change not in data]
        formulation = self._with_data(data) if data else self.formulation()
        try:
            return with_changes(formulation, rest)
        except UnknownNameError:
            names = names_of(formulation)
            bases = [split_member(change.target)[0].partition(".")[0] for change in rest]
            held = set(names.all())
            unknown = next((at for at, base in enumerate(bases) if base not in held), None)
            if not self.data_names or unknown is None:
                raise
            may = [*names.all(("constraints", "decisions")), *self.data_names]
            raise UnknownNameError(
                f"{rest[unknown]}: no limit, decision or data has that name; {known(bases[unknown], may)} (write "
                "DATA=, LIMIT=, DECISION.upper=, DECISION.kind=, or ROW.DECISION= for a coefficient)"
            ) from None

    def _with_data(self, changes: Sequence[Change]) -> Formulation:
        """Return the formulation read again with data changed; parts edited in Python keep their place."""
        assert self._recipe is not None
        fresh = self._recipe.read(changes)
        renumber = Renumbering(self._registry, self._read, fresh._registry.columns, fresh._parts)
        parts: dict[str, Part] = {}
        for name, part in self._parts.items():
            unedited = part is self._read.get(name)
            parts[name] = renumber.part(fresh._parts[name]) if unedited and name in fresh._parts else part
        variant = copy.copy(self)
        variant._parts = {
            name: relaxed(part) if self._relaxed and isinstance(part, Decisions) else part
            for name, part in parts.items()
        }
        variant._arrays = ((), None)
        return variant.formulation()
