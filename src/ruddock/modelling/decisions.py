"""Families of decision variables."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Literal, get_args

import numpy as np

from ruddock.errors import DataError, ModelError, known
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, Source, as_data, masked, values_for
from ruddock.modelling.expression import Expression, Term
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, reaching_zero

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

Kind = Literal["continuous", "integer", "binary", "semicontinuous"]
MARKS = {"continuous": 0, "integer": INTEGER, "binary": INTEGER, "semicontinuous": SEMICONTINUOUS}


class Decisions(Expression):
    """A family of decision variables; also the expression that is just these decisions.

    Attributes
    ----------
    name, kind, unit : as given
    lower, upper : float arrays, one per member
    first : number of the first member within the model
    listed : True for a family whose members go by their label alone, as rows and columns of a file do
    """

    def __init__(
        self,
        model: Model,
        name: str,
        cells: Cells,
        lower: Floats,
        upper: Floats,
        kind: Kind,
        unit: str | None,
        *,
        first: int,
        listed: bool = False,
        marks: Any = None,
    ) -> None:
        size = cells.size
        terms = (np.arange(size, dtype=np.intp), np.arange(first, first + size, dtype=np.int64), np.ones(size))
        super().__init__(model, cells, terms, units=frozenset() if unit is None else frozenset((unit,)))
        self.aligned = True
        self.name, self.kind, self.unit = name, kind, unit
        self.lower, self.upper, self.first, self.listed = lower, upper, first, listed
        self.marks = np.full(size, MARKS[kind], np.uint8) if marks is None else marks

    def __repr__(self) -> str:
        axes = f"[{', '.join(self.cells.names)}]" if self.axes else ""
        unit = f", in {self.unit}" if self.unit else ""
        return f"decisions {self.name}{axes}: {len(self):,} {self.kind}{unit}"

    def __getitem__(self, labels: Any) -> Term | Expression:
        labels = labels if isinstance(labels, tuple) else (labels,)
        if len(labels) != len(self.axes):
            raise ModelError(
                f"{self.name} has {len(self.axes)} axes ({', '.join(self.cells.names)}) and {len(labels)} labels are "
                "given; to fix only some of them write .at(axis=label)"
            )
        codes = [axis.code(label) for axis, label in zip(self.axes, labels, strict=True)]
        at = self.position(tuple(codes))
        if at < 0:
            raise ModelError(f"{self.name} has no member at {', '.join(map(str, labels))}: outside its combinations")
        return Term(self.model, self.first + at)

    def relaxed(self, model: Model) -> Decisions:
        """Return the same family for another model, continuous; a semicontinuous one reaches zero."""
        lower, upper = reaching_zero(self.lower, self.upper, self.marks)
        return Decisions(
            model, self.name, self.cells, lower, upper, "continuous", self.unit, first=self.first, listed=self.listed
        )

    def with_bounds(self, lower: Floats, upper: Floats, marks: Any = None) -> Decisions:
        """Return the same family with other bounds, and other marks if given."""
        return Decisions(
            self.model,
            self.name,
            self.cells,
            lower,
            upper,
            self.kind,
            self.unit,
            first=self.first,
            listed=self.listed,
            marks=self.marks if marks is None else marks,
        )

    def position(self, codes: tuple[int, ...]) -> int:
        """Return which member stands at these label positions, or -1."""
        if self.cells.full:
            at = 0
            for code, axis in zip(codes, self.axes, strict=True):
                at = at * len(axis) + code
            return at
        found = self.cells.lookup(Cells(self.axes, [np.array([code], np.int32) for code in codes]))
        assert found is not None
        return int(found[0])

    def member(self, position: int) -> str:
        """Return the name of one member: ``ship[Fell,Quay]``, or the family's name alone."""
        return member_name(self.name, self.cells, self.listed, position)

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self.cells, self.listed)


def member_name(name: str, cells: Cells, listed: bool, position: int) -> str:
    """Return the name of one cell of a family, as `member_names` has it."""
    if not cells.axes:
        return name
    return cells.axes[0].texts[position] if listed else f"{name}[{cells.text(position)}]"


def member_names(name: str, cells: Cells, listed: bool) -> list[str]:
    """Return ``name[labels]`` for every cell, or the label alone for a listed family."""
    if not cells.axes:
        return [name]
    if listed:
        return list(cells.axes[0].texts)
    return [f"{name}[{text}]" for text in cells.texts()]


def make_decisions(
    model: Model,
    name: str,
    axes: tuple[Axis, ...],
    lower: Source | None,
    upper: Source | None,
    kind: Kind,
    unit: str | None,
    only: Source | None,
) -> Decisions:
    """Check what `Model.decide` was given and make the family."""
    if kind not in get_args(Kind):
        raise ModelError(f"{name}: there is no kind {kind!r}; {known(str(kind), get_args(Kind))}")
    for axis in axes:
        if not isinstance(axis, Axis):
            raise ModelError(f"{name}: {axis!r} is no Axis; bounds and kind are given by name: lower=, upper=, kind=")
    names = [axis.name for axis in axes]
    if len(set(names)) < len(names):
        raise ModelError(f"{name}: the axis {names[0]} is given twice; make a second Axis over the same labels")
    cells = Cells(axes)
    if only is not None:
        cells = _subset(cells, only, name)
    if kind == "binary":
        if lower not in (0, None) or upper not in (1, None):
            raise ModelError(f"{name}: a binary decision is 0 or 1; leave out lower and upper, or use kind='integer'")
        lower, upper = 0, 1
    if kind == "semicontinuous" and isinstance(lower, (int, float)) and lower <= 0:
        raise ModelError(
            f"{name}: a semicontinuous decision is 0 or at least its lower bound, which must be above 0 "
            f"and is {lower:g}; give lower="
        )
    low, high = _bound(lower, -np.inf, cells, name), _bound(upper, np.inf, cells, name)
    if (low == np.inf).any() or (high == -np.inf).any():
        raise DataError(f"{name}: a lower bound of +infinity or an upper one of -infinity leaves no value")
    crossed = np.flatnonzero(low > high)
    if len(crossed):
        at = int(crossed[0])
        place = f"[{cells.text(at)}]" if axes else ""
        raise DataError(f"{name}{place}: the lower bound {low[at]:g} is above the upper bound {high[at]:g}")
    return Decisions(model, name, cells, low, high, kind, unit, first=model.columns)


def _subset(cells: Cells, only: Source, name: str) -> Cells:
    """Return the combinations kept by a mask, or by a list of label tuples."""
    if isinstance(only, (list, set, tuple)):
        labels = [entry if isinstance(entry, tuple) else (entry,) for entry in only]
        wrong = [entry for entry in labels if len(entry) != len(cells.axes)]
        if wrong:
            raise ModelError(f"{name}: only= holds {wrong[0]!r}, which is not one label for each of {cells.names}")
        codes = [axis.codes([entry[i] for entry in labels], f"{name}: only=") for i, axis in enumerate(cells.axes)]
        chosen = Cells(cells.axes, codes)
        _, first = np.unique(chosen.keys(), return_index=True)
        if len(first) < chosen.size:
            raise DataError(f"{name}: only= holds a combination more than once")
        return chosen.take(first)
    mask = as_data(only, cells.axes)
    if not mask.cells.full and set(mask.cells.names) == set(cells.names):
        held = Cells(cells.axes, [mask.cells.codes[mask.cells.position(axis.name)] for axis in cells.axes])
        kept = np.flatnonzero(mask.values != 0)
        return held.take(kept[np.argsort(held.keys()[kept], kind="stable")])
    return cells.take(masked(cells, mask))


def _bound(source: Source | None, absent: float, cells: Cells, name: str) -> Floats:
    if source is None:
        return np.full(cells.size, absent)
    held: Data = as_data(source, cells.axes)
    extra = [axis for axis in held.cells.names if axis not in cells.names]
    if extra:
        raise ModelError(f"{name}: the bound has the axis {', '.join(extra)}, which the decisions lack")
    return np.array(values_for(held, cells, f"the bound of {name} for"))


def members_of(name: str, names: Sequence[str]) -> list[int]:
    """Return where in a list of members a member, or all of a family, stands."""
    return [k for k, member in enumerate(names) if member == name or member.startswith(f"{name}[")]
