"""Names as people write them, ``ship[Fell,Quay]`` or ``supply.upper``, to what they mean; near misses are suggested.

The one place where text becomes a part of a model: plans, questions, file readers and hints all ask here.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal

import numpy as np

from ruddock.characters import unescaped
from ruddock.errors import ModelError, known
from ruddock.modelling.cells import Cells
from ruddock.modelling.decisions import goes_by_label
from ruddock.modelling.formulation import Formulation

What = Literal["decisions", "constraints", "rules", "quantities", "objectives", "parts"]
ALL: tuple[What, ...] = ("constraints", "decisions", "rules", "quantities", "objectives", "parts")
CALLED = {
    "decisions": "decision", "constraints": "constraint", "rules": "rule", "quantities": "quantity",
    "objectives": "objective", "parts": "objective part",
}  # fmt: skip


class UnknownNameError(ModelError):
    """A name that means nothing in the model."""


@dataclass(frozen=True, eq=False, repr=False)
class Named:
    """What a name means.

    Attributes
    ----------
    what : the sort of part
    part : Decisions, Constraints, Ruled, Quantity or Objective
    members : positions within the part
    whole : whether a family with axes was named as a whole
    piece : of an objective part, its name
    """

    what: What
    part: Any
    members: np.ndarray[Any, Any]
    whole: bool
    piece: str = ""

    @property
    def single(self) -> int:
        """The one member meant.

        Raises
        ------
        ModelError
            If a family was named as a whole.
        """
        if self.whole and len(self.members) != 1:
            members = self.part.members()
            name = self.part.name
            if not members:
                raise ModelError(f"the family {name!r} has no members")
            raise ModelError(f"{name!r} is a family of {len(members):,}; name one member, such as {members[0]!r}")
        return int(self.members[0])


class Names:
    """The names of a formulation."""

    def __init__(self, formulation: Formulation) -> None:
        self.formulation = formulation

    @cached_property
    def _parts(self) -> dict[str, tuple[What, Any]]:
        f = self.formulation
        sorts: tuple[tuple[What, Any], ...] = (
            ("objectives", f.objectives),
            ("quantities", f.reported),
            ("rules", f.rules),
            ("decisions", [d for d in f.decisions if not goes_by_label(d)]),
            ("constraints", [c for c in f.constraints if not c.listed]),
        )
        return {part.name: (what, part) for what, parts in sorts for part in parts}

    @cached_property
    def _listed(self) -> list[tuple[What, Any, dict[str, int]]]:
        """Families whose members go by their label alone."""
        f = self.formulation
        sorts: tuple[tuple[What, Any], ...] = (
            ("constraints", [c for c in f.constraints if c.listed]),
            ("decisions", [d for d in f.decisions if goes_by_label(d)]),
        )
        return [(what, part, part.cells.axes[0].places) for what, parts in sorts for part in parts]

    def find(self, text: str, sorts: Iterable[What] = ALL) -> Named | None:
        """Return what a text names, of some sorts of parts; None if nothing.

        Raises
        ------
        ModelError
            If it names a family that has no such member.
        """
        sorts = tuple(sorts)
        for what, part, places in self._listed:
            if what in sorts and text in places:
                return Named(what, part, np.array([places[text]]), False)
        for what, part, _ in self._listed:
            if what in sorts and text == part.name:
                return Named(what, part, np.arange(part.cells.size), True)
        name, labels = split_member(text)
        if name in self._parts and self._parts[name][0] in sorts:
            what, part = self._parts[name]
            if what == "objectives":
                return Named(what, part, np.zeros(1, np.intp), False) if labels is None else None
            if labels is None:
                return Named(what, part, np.arange(part.cells.size), bool(part.cells.axes))
            return Named(what, part, np.array([self._member(text, name, part, labels)]), False)
        if "parts" in sorts and labels is None:
            holding = [goal for goal in self.formulation.objectives if name in goal.parts and not goal.single]
            if len(holding) > 1:
                goals = ", ".join(g.name for g in holding)
                raise ModelError(f"{name!r} is a part of several objectives, {goals}; name the objective")
            if holding:
                return Named("parts", holding[0], np.zeros(1, np.intp), False, name)
        return None

    def _member(self, text: str, name: str, part: Any, labels: list[str]) -> int:
        cells: Cells = part.cells
        if len(labels) != len(cells.axes):
            axes = f"the axes {', '.join(cells.names)}" if cells.axes else "no axes"
            raise UnknownNameError(f"{text!r}: {name} has {axes}, and {len(labels)} labels are given")
        codes = []
        for axis, label in zip(cells.axes, labels, strict=True):
            if label not in axis.places:
                raise UnknownNameError(
                    f"{text!r}: {label!r} is not a label of axis {axis.name}; {known(label, axis.texts)}"
                )
            codes.append(axis.places[label])
        at = cells.position_of(codes)
        if at < 0:
            raise UnknownNameError(f"{name} has no member {text!r}: the combination is outside the family")
        return at

    def need(self, text: str, sorts: Iterable[What] = ALL) -> Named:
        """Return what a text names.

        Raises
        ------
        ModelError
            If it is nothing of these sorts, with what was probably meant.
        """
        if not isinstance(text, str):
            raise ModelError(f"a name is text, not {type(text).__name__}: {text!r}")
        sorts = tuple(sorts)
        found = self.find(text, sorts)
        if found is None:
            raise self.unknown(text, sorts)
        return found

    def unknown(self, text: str, sorts: Iterable[What], more: Iterable[str] = ()) -> UnknownNameError:
        """Return the error for a name that is none, with what it may have meant."""
        sorts = tuple(sorts)
        called = [CALLED[what] for what in sorts]
        wanted = " or ".join((", ".join(called[:-1]), called[-1])) if len(called) > 1 else called[0]
        other = self.find_anything(text)
        hint = known(text, [*self.all(sorts), *more])
        if other is not None and other.what not in sorts:
            hint = f"it is {'an' if CALLED[other.what][0] in 'aeo' else 'a'} {CALLED[other.what]}; {hint}"
        return UnknownNameError(f"no {wanted} is called {text!r}; {hint}")

    def find_anything(self, text: str) -> Named | None:
        """Return what a text names, without an error for a member that is not there."""
        try:
            return self.find(text)
        except ModelError:
            return None

    def all(self, sorts: Iterable[What] = ALL) -> list[str]:
        """Return the names of all parts of some sorts, then the members of listed ones."""
        sorts = tuple(sorts)
        names = [name for name, (what, _) in self._parts.items() if what in sorts]
        if "parts" in sorts:
            names += [part for goal in self.formulation.objectives if not goal.single for part in goal.parts]
        for what, _, places in self._listed:
            if what in sorts:
                names += list(places)
        return list(dict.fromkeys(names))

    # ------------------------------------------------------------------ by column and row

    def columns(self, text: str) -> np.ndarray[Any, Any] | None:
        """Return the columns of a decision, or of a whole family; None if there is none of that name."""
        found = self.find(text, ("decisions",))
        return None if found is None else self.formulation.starts[found.part.name] + found.members

    def rows(self, text: str) -> np.ndarray[Any, Any] | None:
        """Return the rows of a constraint, or of a whole family; None if there is none of that name."""
        found = self.find(text, ("constraints",))
        return None if found is None else self.formulation.row_starts[found.part.name] + found.members


def split_member(text: str) -> tuple[str, list[str] | None]:
    """Return a name and its labels, None without brackets: ``ship[Fell,"Abbey, North"]`` has two."""
    if not text.endswith("]") or "[" not in text:
        return text, None
    name, _, inside = text[:-1].partition("[")
    labels, at, size = [], 0, len(inside)
    while True:
        while at < size and inside[at] == " ":
            at += 1
        if at < size and inside[at] == '"':
            label, at = _quoted(inside, at)
            while at < size and inside[at] == " ":
                at += 1
            if at < size and inside[at] != ",":
                return text, None
        else:
            end = inside.find(",", at)
            end = size if end < 0 else end
            label, at = inside[at:end].rstrip(), end
            if "[" in label or "]" in label:
                return text, None
        labels.append(label)
        if at >= size:
            return name, labels
        at += 1


def _quoted(text: str, at: int) -> tuple[str, int]:
    """Return a label in quotes, as JSON has them, and where it ends."""
    end = at + 1
    while end < len(text) and text[end] != '"':
        end += 2 if text[end] == "\\" else 1
    return unescaped(text[at + 1 : end]), end + 1


def outside_brackets(text: str, marks: str) -> list[int]:
    """Return where some characters are that stand neither in brackets nor in quotes."""
    found, depth, quoted, at = [], 0, False, 0
    while at < len(text):
        sign = text[at]
        if quoted:
            if sign == "\\":
                at += 1
            elif sign == '"':
                quoted = False
        elif sign == '"' and depth:
            quoted = True
        elif sign == "[":
            depth += 1
        elif sign == "]":
            depth = max(0, depth - 1)
        elif sign in marks and not depth:
            found.append(at)
        at += 1
    return found


def names_of(formulation: Formulation) -> Names:
    """Return the names of a formulation; looked up once."""
    if "names" not in formulation.cache:
        formulation.cache["names"] = Names(formulation)
    result: Names = formulation.cache["names"]
    return result
