"""Workbooks and other archives, looked at before a package reads them: bounded, whole, and without entities."""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from pathlib import Path
from xml.parsers.expat import ExpatError, ParserCreate

from ruddock.errors import FormatError
from ruddock.files import most_unpacked, too_large

# what zipfile and zlib raise at bytes that are no archive
DAMAGED = (
    zipfile.BadZipFile, zlib.error, struct.error, NotImplementedError, EOFError, OSError, RuntimeError, ValueError,
    LookupError, OverflowError,
)  # fmt: skip


def check_archive(content: bytes, path: Path) -> None:
    """Refuse an archive that unpacks to far more than its size, or whose XML defines entities.

    Raises
    ------
    FormatError
        If so, or if it is not a whole archive.
    """
    most = most_unpacked(len(content))
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            entries = archive.infolist()
            if sum(entry.file_size for entry in entries) > most:
                raise FormatError(too_large(most), path=str(path))
            for entry in entries:
                if entry.filename.endswith((".xml", ".rels", ".rdf")):
                    parser = ParserCreate(namespace_separator=" ")  # as those of the packages
                    parser.StartDoctypeDeclHandler = _no_entities
                    parser.Parse(archive.read(entry), True)  # packages print what they cannot parse
    except (*DAMAGED, ExpatError) as error:
        raise FormatError(f"this workbook is damaged: {error}", path=str(path)) from None


def _no_entities(*_: object) -> None:
    raise ValueError("it defines entities, which no workbook does")
