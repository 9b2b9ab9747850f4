"""Files that a model includes: axes and data that several models share."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ruddock.characters import unquote
from ruddock.errors import FormatError
from ruddock.formats.rdk.source import Entry, Section, Source, split

if TYPE_CHECKING:
    from ruddock.formats.tables.given import Given
    from ruddock.formats.tables.sources import KeptTables


def with_included(
    sections: list[Section],
    source: Source,
    folder: Path,
    tables: KeptTables,
    errors: list[FormatError],
    given: Given,
) -> list[Section]:
    """Return sections with those of included files in place of the headings that name them.

    Parameters
    ----------
    source, folder : of the model
    tables : holds the texts as they were when they were first read
    errors : where what is wrong is added
    given : says which files may be read
    """
    seen = {Path(source.path).resolve()}

    def expanded(held: list[Section]) -> list[Section]:
        result = []
        for section in held:
            if section.word != "include":
                result.append(section)
                continue
            name = section.head.text.removeprefix("include").strip()
            try:
                path = given.file(folder_of(section.head, source, folder) / unquote(name), folder)
                message = _refused(section, name, path, seen)
            except FormatError as error:
                message = str(error)
            if message:
                errors.append(source.error(message, section.head, len("include ")))
                continue
            seen.add(path.resolve())
            inner, wrong = split(Source(str(path), tables.tables.text(path).splitlines()))
            errors.extend(wrong)
            for part in expanded(inner):
                if part.word in ("axes", "data"):
                    result.append(part)
                elif part.word:
                    message = f"an included file holds axes and data, not {part.word}"
                    errors.append(source.error(message, part.head))
        return result

    return expanded(sections)


def _refused(section: Section, name: str, path: Path, seen: set[Path]) -> str:
    if not name or section.entries:
        return "write include FILE, with nothing below it"
    if path.resolve() in seen:
        return f"{name} is included already"
    return "" if path.is_file() else f"file not found: {name}"


def folder_of(entry: Entry, source: Source, folder: Path) -> Path:
    """Return the folder that the files named in an entry are relative to: its own text's."""
    return folder if entry.source is None or entry.source is source else Path(entry.source.path).parent
