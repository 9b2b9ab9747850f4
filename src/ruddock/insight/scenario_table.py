"""Tables of scenarios: a row a scenario, a column for everything that it changes."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from ruddock.errors import FormatError, ModelError
from ruddock.formats.rdk.tables import read_frame
from ruddock.formats.table import address, cell_text
from ruddock.modelling.changes import Change, parse_changes

NAMES = ("scenario", "name")  # headings of the column that names the rows


@dataclass(frozen=True)
class Scenario:
    """One row: a name and what it changes; an empty cell changes nothing."""

    name: str
    changes: tuple[Change, ...]

    @property
    def words(self) -> list[str]:
        """The changes in words."""
        return [str(change) for change in self.changes]


def read_scenarios(table: pd.DataFrame | str | Path, sheet: str | None = None) -> list[Scenario]:
    """Read a table of scenarios from a frame, a ``.csv`` or an ``.xlsx`` file.

    The column called ``scenario`` names the rows, without it the index of a frame, else their numbers. Cells
    hold a number, or a change of what there is: ``+10``, ``-10``, ``*1.1``, ``off``, or a kind of decision.

    Raises
    ------
    FormatError
        If the file cannot be read, a name appears twice, or a cell holds none of this; with its address.
    """
    path = None if isinstance(table, pd.DataFrame) else Path(table)
    frame = read_frame(path, sheet) if path is not None else table
    assert isinstance(frame, pd.DataFrame)
    where = str(path) if path is not None else "table"
    heads = [str(column).strip() for column in frame.columns]
    named = next((k for k, head in enumerate(heads) if head.lower() in NAMES), None)
    if len(set(heads)) < len(heads):
        twice = next(head for head in heads if heads.count(head) > 1)
        raise FormatError(f"the column {twice!r} is there twice", path=where, line=1)
    own_index = path is None and not isinstance(frame.index, pd.RangeIndex)
    scenarios: list[Scenario] = []
    seen: dict[str, int] = {}
    for at, row in enumerate(frame.itertuples(index=False, name=None)):
        texts = [cell_text(value) for value in row]
        if not any(texts):
            continue
        name = texts[named] if named is not None else str(frame.index[at]) if own_index else str(at + 1)
        if not name:
            raise FormatError("this scenario has no name", path=where, line=at + 2)
        if name in seen:
            raise FormatError(f"the scenario {name!r} is in line {seen[name]} already", path=where, line=at + 2)
        seen[name] = at + 2
        changes = [
            _change(head, text, f"{where}, cell {address(at + 1, k)}")
            for k, (head, text) in enumerate(zip(heads, texts, strict=True))
            if text and k != named
        ]
        scenarios.append(Scenario(name, tuple(changes)))
    if not scenarios:
        raise FormatError("this table holds no scenario", path=where)
    return scenarios


def _change(target: str, text: str, cell: str) -> Change:
    try:
        (change,) = parse_changes({target: _plain(text)})
    except ModelError as error:
        raise FormatError(f"{cell}: {error}") from None
    return change


def _plain(text: str) -> Any:
    """Return a number as such: a minus sign in a table is part of it, ``- 10`` with a blank takes away."""
    try:
        return float(text) if not text.startswith("+") else text
    except ValueError:
        return text
