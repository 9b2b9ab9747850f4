"""Where data comes from, as it is written: ``from FILE [sheet S] [table T] [column C]``."""

from __future__ import annotations

import re
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from ruddock.formats.tables.tables import Tables

WORD = r'"[^"]+"|\S+'
PLACE = re.compile(
    rf"(?P<file>{WORD})(?P<rest>(?:\s+(?:sheet|table|column)\s+(?:{WORD}))*)\s*\Z",
)
PART = re.compile(rf"\s+(sheet|table|column)\s+({WORD})")
WORKBOOKS = (".xlsx", ".xlsm", ".ods")
TEXTS = (".csv", ".txt", ".tsv", ".tab")
SQLITE = (".db", ".sqlite", ".sqlite3")
READABLE = (*TEXTS, *WORKBOOKS, ".parquet", *SQLITE)
HOW = "a table is FILE [sheet S] [table T] [column C]; names with blanks need quotes"
PASSWORD = re.compile(r"//[^/@]*@")  # and the user before it
URL = re.compile(r"[a-z][a-z0-9+]*://", re.IGNORECASE)


class TableSource(NamedTuple):
    """A table in a file: which sheet of a workbook, which table of a database, which column of several."""

    file: str
    sheet: str | None = None
    table: str | None = None
    column: str | None = None

    @classmethod
    def parse(cls, text: str) -> TableSource | None:
        """Return the source that a text says, without the word ``from``; None if it says none."""
        found = PLACE.match(text.strip())
        if found is None:
            return None
        parts = {word: _bare(value) for word, value in PART.findall(found["rest"])}
        return cls(_bare(found["file"]), **parts)

    def within(self, folder: Path) -> TableSource:
        """Return the source with its file relative to a folder."""
        return self if is_database(self.file) else self._replace(file=str(folder / self.file))

    @property
    def written(self) -> str:
        """The source as it is written after ``from``."""
        parts = (("sheet", self.sheet), ("table", self.table), ("column", self.column))
        return " ".join([_quoted(self.file), *(f"{word} {_quoted(own)}" for word, own in parts if own)])

    @property
    def shown(self) -> str:
        """The file's name, for a note."""
        name = PASSWORD.sub("//", self.file) if is_database(self.file) else Path(self.file).name
        return f"{name}, table {self.table}" if self.table else name


def _quoted(text: str) -> str:
    return f'"{text}"' if re.search(r"\s", text) else text


def _bare(text: str) -> str:
    return text[1:-1] if text.startswith('"') else text


def is_database(file: str) -> bool:
    """Return whether a source is a database that a URL names."""
    return URL.match(file) is not None


class KeptTables:
    """The tables of a model, as they were when they were first read; what reads them is imported with the first one."""

    @cached_property
    def tables(self) -> Tables:
        """The tables."""
        from ruddock.formats.tables.tables import Tables

        return Tables()
