"""Models that were read from text: their tables stay parts of them, and what was edited in Python stays edited."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from ruddock.modelling.cells import Cells
from ruddock.modelling.curves import Curve
from ruddock.modelling.decisions import Decisions, kinds_of, numbers_of
from ruddock.modelling.formulation import Constraints, Objective, Quantity, Ruled
from ruddock.modelling.relation import Sides
from ruddock.modelling.terms import Registry, Terms

if TYPE_CHECKING:
    from ruddock.modelling.changes import Change
    from ruddock.modelling.model import Model

Part = Decisions | Constraints | Ruled | Curve | Objective | Quantity


class Recipe(Protocol):
    """How a model was read from text: its tables stay parts of it, so that data can be changed."""

    @property
    def data_names(self) -> tuple[str, ...]:
        """The data that can be changed."""

    @property
    def allow_outside(self) -> bool:
        """Whether files outside the model's folder may be named."""

    @property
    def notes(self) -> tuple[str, ...]:
        """How tables were understood."""

    @property
    def undeclared(self) -> tuple[str, ...]:
        """Decisions that no heading declares, of a text that does not say that this may be."""

    @property
    def taken(self) -> tuple[str, ...]:
        """All names taken as decisions."""

    def read(self, changes: Sequence[Change]) -> Model:
        """Read the text again with its data changed."""


class Renumbering:
    """Gives the parts of a model read again the decision numbers of the first reading, label by label."""

    def __init__(self, registry: Registry, old: Mapping[str, Part], columns: int, fresh: Mapping[str, Part]) -> None:
        self.registry = registry
        self.numbers = np.full(columns, -1, dtype=np.int64)
        for name, part in fresh.items():
            before = old.get(name)
            if isinstance(part, Decisions):
                self._same(numbers_of(part), part.cells, before, numbers_of)
            elif isinstance(part, Curve):
                self._same(part.numbers, part.cells, before, lambda curve: curve.numbers)

    def _same(self, own: Any, cells: Cells, before: Any, numbers: Callable[[Any], Any]) -> None:
        """Take over the numbers of members that were there before; new members get new ones."""
        found = np.full(len(own), -1, dtype=np.int64)
        if before is not None and before.cells.names == cells.names:
            place = before.cells.lookup(cells)
            held = numbers(before)
            if place is None:
                found = held
            elif len(held):
                found = np.where(place >= 0, held[np.maximum(place, 0)], -1)
        new = np.flatnonzero(found < 0)
        found = found.copy()
        found[new] = self.registry.columns + np.arange(len(new))
        self.registry.columns += len(new)
        self.numbers[own] = found

    def terms(self, terms: Terms) -> Terms:
        """Return terms in the numbers of the first reading."""
        return replace(terms, registry=self.registry, columns=self.numbers[terms.columns])

    def sides(self, sides: Sides) -> Sides:
        """Return both sides likewise."""
        right = None if sides.right is None else self.terms(sides.right)
        return Sides(self.terms(sides.left), sides.sense, right, sides.low, sides.high)

    def part(self, part: Part) -> Part:
        """Return a part likewise."""
        if isinstance(part, Decisions):
            return Decisions(
                self.registry, part.name, part.cells, part.lower, part.upper, part.kind, part.unit,
                numbers=self.numbers[numbers_of(part)], kinds=kinds_of(part),
            )  # fmt: skip
        if isinstance(part, Constraints):
            return replace(part, sides=self.sides(part.sides))
        if isinstance(part, Ruled):
            return replace(part, rule=part.rule.moved(self.terms, self.sides))
        if isinstance(part, Curve):
            return replace(part, x=self.terms(part.x), numbers=self.numbers[part.numbers])
        if isinstance(part, Objective):
            return replace(part, parts={name: self.terms(terms) for name, terms in part.parts.items()})
        return replace(part, terms=self.terms(part.terms))
