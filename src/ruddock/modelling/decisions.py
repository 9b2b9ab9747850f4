"""Families of decision variables."""

from __future__ import annotations

from collections.abc import Mapping
from numbers import Real
from typing import Any, Literal, get_args

import numpy as np

from ruddock.document.content import Document, Table
from ruddock.document.numbers import as_written
from ruddock.errors import DataError, ModelError, known, listed
from ruddock.modelling.alignment import masked, values_for
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, Positions
from ruddock.modelling.data import Data, Source, as_data, data, filled, is_data
from ruddock.modelling.expression import Expression, Term, by_axis
from ruddock.modelling.terms import Columns, Registry, Terms
from ruddock.modelling.units import decision_units
from ruddock.problem import ENDLESS, INTEGER, SEMICONTINUOUS, Bytes, Floats, reaching_zero

Kind = Literal["continuous", "integer", "binary", "semicontinuous"]
MOST_SHOWN = 12  # members of a family in a notebook
KIND_CODES = {"continuous": 0, "integer": INTEGER, "binary": INTEGER, "semicontinuous": SEMICONTINUOUS}


class Decisions(Expression):
    """A family of decision variables; also the expression that is just these decisions.

    Attributes
    ----------
    name, kind, unit : as given
    lower, upper : float arrays, one per member; read-only
    left_out : combinations that ``only=`` left out because a number there is 0
    """

    def __init__(
        self,
        registry: Registry,
        name: str,
        cells: Cells,
        lower: Floats,
        upper: Floats,
        kind: Kind,
        unit: str | None,
        *,
        numbers: Columns,
        listed: bool = False,
        kinds: Bytes | None = None,
    ) -> None:
        size = cells.size
        self.name, self.kind, self.unit = name, kind, unit
        self.lower, self.upper = lower, upper
        self._numbers, self._listed = numbers, listed
        self.left_out: tuple[str, ...] = ()
        self._kinds = np.full(size, KIND_CODES[kind], np.uint8) if kinds is None else kinds
        for part in (self.lower, self.upper, self._numbers, self._kinds):
            part.flags.writeable = False
        registry.hold(numbers, name, cells, listed=listed)
        self._terms = Terms(
            registry, cells, np.arange(size, dtype=np.intp), numbers, np.ones(size), np.zeros(size),
            units=decision_units(unit),
            aligned=True,
        )  # fmt: skip

    def __repr__(self) -> str:
        unit = f" ({self.unit})" if self.unit else ""
        axes = f"[{', '.join(self._terms.cells.names)}]" if self.axes else ""
        count = f" ({len(self):,})" if self.axes else ""
        return f"{self.name}{axes}{unit}: {domain_words(self)}{count}"

    def _repr_html_(self) -> str:
        rows = [(self.member(i), domain_words(self, i)) for i in range(min(len(self), MOST_SHOWN))]
        more = [(f"… {len(self) - MOST_SHOWN:,} more", "")] if len(self) > MOST_SHOWN else []
        return Document.of(self.name, [Table(repr(self), ["decision", ""], [*rows, *more])])._repr_html_()

    def __getitem__(self, labels: Any) -> Expression:
        cells = self._terms.cells
        chosen = by_axis(cells, labels, self.name)
        if len(chosen) < len(cells.axes) or any(isinstance(label, (slice, list)) for label in chosen.values()):
            return self.at(**chosen)
        at = cells.position_of([axis.code(chosen[axis.name]) for axis in cells.axes])
        if at < 0:
            texts = ", ".join(map(str, chosen.values()))
            raise ModelError(f"{self.name} has no member at {texts}: outside its combinations")
        return Term(self._terms.registry, int(self._numbers[at]), self.member(at), about=self._about(at))

    def _about(self, at: int) -> str:
        unit = f" ({self.unit})" if self.unit else ""
        return f"{self.member(at)}{unit}: {domain_words(self, at)}"

    @property
    def cells(self) -> Cells:
        """The label combinations, one decision each."""
        return self._terms.cells

    def member(self, position: int) -> str:
        """Return the name of one member: ``ship[Fell,Quay]``, or the family's name alone."""
        return member_name(self.name, self._terms.cells, self._listed, position)

    def members(self) -> list[str]:
        """Return the names of all members."""
        return member_names(self.name, self._terms.cells, self._listed)


def domain_words(family: Decisions, at: int | None = None) -> str:
    """Return the kind and the bounds of a family, or of one member, in words: ``integer 0 .. 40``."""
    kind = "" if family.kind == "continuous" else f"{family.kind} "
    if family.kind == "binary" or not len(family):
        return kind.strip() or "continuous"
    lower, upper = (
        (family.lower, family.upper) if at is None else (family.lower[at : at + 1], family.upper[at : at + 1])
    )
    lows, highs = np.unique(lower), np.unique(upper)
    if np.isneginf(lows[0]) and np.isposinf(highs[0]):
        return f"{kind}free".strip()
    low, high = _span(lows), _span(highs)
    if np.isposinf(highs[-1]) and len(highs) == 1:
        return f"{kind}>= {low}"
    return f"{kind}{low} .. {high}"


def _span(values: Floats) -> str:
    least = as_written(float(values[0]))
    return least if len(values) == 1 else f"{least} to {as_written(float(values[-1]))}"


def numbers_of(family: Decisions) -> Columns:
    """Return the numbers of a family's members within their registry."""
    return family._numbers


def kinds_of(family: Decisions) -> Bytes:
    """Return the kinds of a family's members, as a problem marks them."""
    return family._kinds


def goes_by_label(family: Decisions) -> bool:
    """Say whether members go by their label alone, as rows and columns of a file do."""
    return family._listed


def kind_words(family: Decisions) -> np.ndarray[Any, Any]:
    """Return the kind of each member, in words."""
    codes = family._kinds
    if not family._listed and family.kind == "binary" and (codes == INTEGER).all():
        own = (family.lower >= 0.0) & (family.upper <= 1.0)
        return np.where(own, "binary", "integer").astype(object)
    words = np.array(["continuous", "integer", "semicontinuous", "semicontinuous integer"], dtype=object)
    return np.asarray(words[codes])


def relaxed(family: Decisions) -> Decisions:
    """Return the same family continuous; a semicontinuous one reaches zero."""
    lower, upper = reaching_zero(family.lower, family.upper, family._kinds)
    continuous = np.zeros(len(family), np.uint8)
    return changed(family, lower, upper, continuous)


def changed(family: Decisions, lower: Floats, upper: Floats, kinds: Bytes) -> Decisions:
    """Return the same decisions with other bounds and kinds."""
    kind = _family_kind(family, kinds, lower, upper)
    return Decisions(
        family._terms.registry, family.name, family._terms.cells, lower, upper, kind, family.unit,
        numbers=family._numbers, listed=family._listed, kinds=kinds,
    )  # fmt: skip


def _family_kind(family: Decisions, kinds: Bytes, lower: Floats, upper: Floats) -> Kind:
    """Return the kind of a whole family from those of its members."""
    if (kinds == family._kinds).all() and not (family.kind == "binary" and (upper > 1.0).any()):
        return family.kind
    if (kinds == 0).all():
        return "continuous"
    if (kinds == INTEGER).all():
        return "binary" if ((lower >= 0.0) & (upper <= 1.0)).all() else "integer"
    return "semicontinuous" if (kinds & SEMICONTINUOUS).all() else "integer"


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
    registry: Registry,
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
        raise ModelError(f"{name}: {kind!r} is not a kind of decision; {known(str(kind), get_args(Kind))}")
    for axis in axes:
        if not isinstance(axis, Axis):
            raise ModelError(
                f"{name}: {axis!r} is not an Axis; bounds and kind are given by name: lower=, upper=, kind="
            )
    names = [axis.name for axis in axes]
    if len(set(names)) < len(names):
        twice = next(n for n in names if names.count(n) > 1)
        raise ModelError(f"{name}: the axis {twice} is given twice; make a second Axis over the same labels")
    cells = Cells(axes)
    if only is not None:
        cells = _subset(cells, only, name)
    if kind == "binary":
        given = [(lower, 0), (upper, 1)]
        if any(bound is not None and not (isinstance(bound, Real) and bound == usual) for bound, usual in given):
            raise ModelError(
                f"{name}: a binary decision is 0 or 1; leave out lower and upper (to switch some off, require "
                f"{name} <= data), or use kind='integer'"
            )
        lower, upper = 0, 1
    if kind == "semicontinuous" and isinstance(lower, (int, float)) and lower <= 0:
        raise ModelError(
            f"{name}: a semicontinuous decision is 0 or at least its lower bound, which must be above 0 "
            f"and is {lower:g}; give lower="
        )
    low, high = _bound(lower, -np.inf, cells, name), _bound(upper, np.inf, cells, name)
    if (low >= ENDLESS).any() or (high <= -ENDLESS).any():
        raise DataError(
            f"{name}: numbers of 1e20 and beyond count as infinite, and a lower bound of +infinity or an upper one of "
            "-infinity leaves no value; write it in larger units"
        )
    crossed = np.flatnonzero(low > high)
    if len(crossed):
        at = int(crossed[0])
        place = f"[{cells.text(at)}]" if axes else ""
        raise DataError(f"{name}{place}: the lower bound {low[at]:g} is above the upper bound {high[at]:g}")
    numbers = np.arange(registry.columns, registry.columns + cells.size, dtype=np.int64)
    registry.columns += cells.size
    family = Decisions(registry, name, cells, low, high, kind, unit, numbers=numbers)
    family.left_out = _zeros(axes, only)
    return family


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
    mask = filled(as_data(only, cells.axes))
    if not mask.cells.full and set(mask.cells.names) == set(cells.names):
        held = Cells(cells.axes, [mask.cells.codes[mask.cells.position(axis.name)] for axis in cells.axes])
        kept = np.flatnonzero(mask.values != 0)
        return held.take(kept[np.argsort(held.keys()[kept], kind="stable")])
    return cells.take(masked(cells, mask))


def _zeros(axes: tuple[Axis, ...], only: Source | None) -> tuple[str, ...]:
    """Return the combinations that ``only=`` leaves out because a number there is 0, which may have been meant as one.

    A mask, all of whose numbers are 0 or 1, says itself what it leaves out.
    """
    if only is None or isinstance(only, (list, set, tuple)):
        return ()
    mask = as_data(only, axes)
    if np.isin(mask.values, (0.0, 1.0)).all():
        return ()
    return tuple(mask.cells.text(k) for k in np.flatnonzero(mask.values == 0).tolist())


def _bound(source: Source | None, absent: float, cells: Cells, name: str) -> Floats:
    if source is None:
        return np.full(cells.size, absent)
    side = "upper" if absent > 0 else "lower"
    if isinstance(source, Mapping):
        source = data(source, *cells.axes)
    if isinstance(source, str) or not (is_data(source) or isinstance(source, (list, tuple))):
        raise ModelError(f"{name}: {side}= is a number or data, not {type(source).__name__}: {source!r}")
    if isinstance(source, (list, tuple, np.ndarray)) and np.ndim(source):
        source = data(source, *cells.axes)
    held: Data = as_data(source, cells.axes)
    extra = [axis for axis in held.cells.names if axis not in cells.names]
    if extra:
        raise ModelError(f"{name}: the bound has the axis {', '.join(extra)}, which the decisions lack")
    found = held.cells.lookup(cells)
    if found is not None and held.fill is None and (found < 0).any():
        raise bound_missing(name, side, cells, np.flatnonzero(found < 0), absent)
    return np.array(values_for(held, cells))


def bound_missing(name: str, side: str, cells: Cells, absent: Positions, usual: float) -> DataError:
    """Return the error for members without a bound: what stands for no bound is said, not guessed."""
    shown = listed([cells.text(int(i)) for i in absent[:20]], 8)
    word = "float('inf')" if usual > 0 else "-float('inf')"
    return DataError(
        f"{name}: {side}= has no value for {shown}. Give it, or say data(..., fill={word}) if there is no {side} bound"
    )
