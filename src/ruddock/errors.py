"""The exceptions of Ruddock.

::

    RuddockError
    |-- ModelError      the formulation is wrong: names, axes, shapes of expressions
    |-- DataError       a number or a label is wrong or missing
    |-- FormatError     a file cannot be read; knows file, line and column
    `-- NoPlanError     values were asked of a plan that has none

Outcomes such as infeasible or stopped are not exceptions but the `status` of a plan.
"""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches
from itertools import islice

from ruddock.characters import visible

MOST_ERRORS = 20  # shown at once
MOST_COMPARED, LONGEST = 2000, 200  # names among which a near one is looked for, and characters of each


class _Shown:
    """A message in which nothing acts on a terminal, whatever names and lines it quotes."""

    def __str__(self) -> str:
        return visible(super().__str__())


class RuddockError(_Shown, Exception):
    """The base of every error that Ruddock raises on purpose."""


class ModelError(RuddockError):
    """The formulation is not what it should be; the message says what to write instead."""


class DataError(RuddockError):
    """A number or a label is wrong, missing or given twice."""


class NoPlanError(RuddockError):
    """There are no values to read: the message says the status and the next step."""


class FormatError(RuddockError):
    """A file cannot be read.

    Attributes
    ----------
    path, line, column, cell : the place, as far as it is known; lines and columns count from 1, a cell is such as C7.
    others : further errors found in the same file, reported together with this one.
    """

    others: tuple[FormatError, ...] = ()

    def __init__(
        self,
        message: str,
        *,
        path: str | None = None,
        line: int | None = None,
        column: int | None = None,
        text: str | None = None,
        cell: str | None = None,
    ) -> None:
        self.path, self.line, self.column, self.text, self.cell = path, line, column, text, cell
        place = path or "input"
        if line is not None:
            place += f", line {line}"
        if column is not None:
            place += f", column {column}"
        if cell is not None:
            place += f", cell {cell}"
        shown = f"{place}: {message}"
        if text is not None:
            shown += f"\n    {text}"
            if column is not None:
                shown += "\n    " + " " * (column - 1) + "^"
        super().__init__(shown)


def together(errors: list[FormatError]) -> FormatError:
    """Return the first of several errors, with the text of all of them."""
    first = errors[0]
    first.others = tuple(errors[1:])
    if first.others:
        shown = [str(error) for error in errors[:MOST_ERRORS]]
        if len(errors) > MOST_ERRORS:
            shown.append(f"and {len(errors) - MOST_ERRORS:,} errors more")
        first.args = ("\n".join(shown),)
    return first


def known(name: str, names: Iterable[str], most: int = 8) -> str:
    """Say which name was probably meant, or else list what there is."""
    names = list(names)
    near = get_close_matches(name[:LONGEST], _likely(name, names), n=3, cutoff=0.6)
    if near:
        return "did you mean " + " or ".join(repr(n) for n in near) + "?"
    if not names:
        return "there are none yet"
    return "known: " + listed(names, most)


def _likely(name: str, names: list[str]) -> list[str]:
    """Return the names worth a comparison: of very many, those that begin alike and are about as long."""
    if len(names) > MOST_COMPARED:
        start = name[:1].casefold()
        alike = (own for own in names if own[:1].casefold() == start and abs(len(own) - len(name)) <= 2)
        names = list(islice(alike, MOST_COMPARED))
    return [own for own in names if len(own) <= LONGEST]


def listed(items: Iterable[object], most: int = 8) -> str:
    """Join items with commas, the list capped with a count of the rest."""
    texts = [str(item) for item in items]
    if len(texts) <= most:
        return ", ".join(texts)
    return ", ".join(texts[:most]) + f" and {len(texts) - most:,} more"


class RuddockWarning(_Shown, UserWarning):
    """Something was read or done in a way that is worth a look."""
