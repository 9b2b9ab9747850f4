"""Files that come with a job: names without paths, archives unpacked within bounds, nothing that points elsewhere."""

from __future__ import annotations

import io
import re
import stat
import zipfile
from collections.abc import Iterable
from pathlib import PurePosixPath, PureWindowsPath
from typing import IO

from ruddock.archives import DAMAGED
from ruddock.characters import unquote
from ruddock.errors import FormatError, known, listed
from ruddock.formats import FORMS
from ruddock.formats.tables.sources import READABLE, TableSource, is_database
from ruddock.jobs.records import Request
from ruddock.jobs.settings import MEGABYTE, Settings
from ruddock.jobs.wire import ARRAYS

MODELS = (".rdk", ".mps", ".mps.gz", ".csv", ".tsv", ".xlsx", ".xlsm", ".ods", ".json")
LONGEST_NAME = 150
READ_AT_ONCE = 2**16
FROM, ELSE = re.compile(r"(?:^|[:\s])from\s"), re.compile(r"\belse\b")
INCLUDE = "include "


class NotTakenError(FormatError):
    """What was sent is not taken; the message says why.

    Attributes
    ----------
    code : a word for programs
    """

    def __init__(self, code: str, message: str, *, path: str | None = None) -> None:
        super().__init__(message, path=path)
        self.code = code
        self.args = (message if path is None else f"{path}: {message}",)


def received(files: Iterable[tuple[str, bytes]], settings: Settings) -> dict[str, bytes]:
    """Return the files that came, by their names; those of an archive among them.

    Raises
    ------
    NotTakenError
        If there are too many or too large ones, a name appears twice or cannot be one, or an archive is not sound.
    """
    result: dict[str, bytes] = {}
    left = settings.unpacked_bytes
    for sent_as, content in files:
        name = plain_name(sent_as)
        packed = name.lower().endswith(".zip")
        inside = _unpacked(name, content, left, settings.files) if packed else {name: content}
        for own, held in inside.items():
            if own in result:
                raise NotTakenError("twice", "two files have this name; tables are matched by name", path=own)
            result[own] = held
            left -= len(held)
        if left < 0:
            raise NotTakenError(
                "too-large", f"the files are larger than {settings.unpacked_bytes // MEGABYTE:,} MB in total"
            )
        if len(result) > settings.files:
            raise NotTakenError("too-many", f"more than {settings.files} files")
    return result


def plain_name(sent_as: str) -> str:
    """Return a file's name without the folders that it was in.

    Raises
    ------
    NotTakenError
        If nothing is left of it that could be a name.
    """
    name = PureWindowsPath(PurePosixPath(sent_as).name).name.strip()
    odd = not name or name in (".", "..") or len(name.encode()) > LONGEST_NAME
    if odd or not name.isprintable() or any(letter in '<>:"/\\|?*' for letter in name):
        raise NotTakenError("name", f"{sent_as[:60]!r} is not a valid file name: use letters, digits, . _ -")
    return name


def _unpacked(archive: str, content: bytes, most: int, most_files: int) -> dict[str, bytes]:
    """Return the files of an archive; what it says of their sizes is not believed."""
    result: dict[str, bytes] = {}
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as opened:
            entries = [entry for entry in opened.infolist() if not entry.is_dir()]
            if len(entries) > most_files:
                raise NotTakenError("too-many", f"the archive contains more than {most_files} files", path=archive)
            for entry in entries:
                if entry.filename.startswith("__MACOSX/"):
                    continue
                if stat.S_ISLNK(entry.external_attr >> 16):
                    raise NotTakenError(
                        "link", f"{entry.filename} is a symbolic link; send the file itself", path=archive
                    )
                if entry.flag_bits & 1:
                    raise NotTakenError("locked", "the archive is encrypted; send it without a password", path=archive)
                name = plain_name(entry.filename)
                if name in result:
                    raise NotTakenError("twice", f"two files in the archive are called {name}", path=archive)
                with opened.open(entry) as file:
                    result[name] = _bounded(file, most, archive)
                most -= len(result[name])
    except DAMAGED as error:
        raise NotTakenError("archive", f"the archive cannot be unpacked: {error}", path=archive) from None
    return result


def _bounded(file: IO[bytes], most: int, archive: str) -> bytes:
    parts, size = [], 0
    while part := file.read(READ_AT_ONCE):
        size += len(part)
        if size > most:
            raise NotTakenError("too-large", "the archive is too large when unpacked", path=archive)
        parts.append(part)
    return b"".join(parts)


def completed(request: Request, files: dict[str, bytes]) -> Request:
    """Return a request that names its model, with all that it names among the files.

    Raises
    ------
    NotTakenError
        If no file, or more than one, could be the model, or something that is named did not come.
    """
    if request.kind == "arrays":
        if ARRAYS not in files:
            raise NotTakenError("missing", f"the arrays must be in a file called {ARRAYS}")
        return request
    model = request.model or _model_among(files)
    if model not in files:
        raise NotTakenError("missing", f"the model {model} was not sent; {known(model, files)}")
    if not model.lower().endswith(MODELS):
        raise NotTakenError("form", f"the ending is not one of a model: {FORMS}", path=model)
    if request.table is not None and request.table not in files:
        raise NotTakenError("missing", f"the table {request.table} was not sent; {known(request.table, files)}")
    wanted = [source.file for text in request.data.values() if (source := TableSource.parse(text)) is not None]
    if model.lower().endswith(".rdk"):
        wanted += _named_in(files[model], request.data)
    for file in wanted:
        if is_database(file):
            raise NotTakenError(
                "database",
                f"{model} reads a database, which this service does not connect to: send its tables as files",
            )
        own = PureWindowsPath(file).name
        if own not in files:
            raise NotTakenError("missing", f"the table {own} was not sent with the model; {known(own, files)}")
    return Request.of({**request.as_dict(), "model": model})


def _model_among(files: dict[str, bytes]) -> str:
    """Return the one file that is a model: a text, else the only file that could be one."""
    for endings in ((".rdk",), (".mps", ".mps.gz"), (".json",), MODELS):
        found = [name for name in files if name.lower().endswith(endings)]
        if len(found) == 1:
            return found[0]
        if found:
            raise NotTakenError(
                "which", f"several files could be the model: {listed(found)}; set model to the right one"
            )
    raise NotTakenError("missing", f"no model found; a model file ends in {FORMS}")


def _named_in(content: bytes, replaced: dict[str, str]) -> list[str]:
    """Return the files that a model in text form names, as far as a glance shows; the reader sees the rest."""
    named = []
    for line in content.decode("utf-8", errors="replace").splitlines():
        line = line.partition("#")[0].rstrip()
        found = FROM.search(line)
        if line.startswith(INCLUDE):
            named.append(unquote(line.removeprefix(INCLUDE).strip()))
        elif found is not None and re.split(r"[\[\s(:]", line.strip(), maxsplit=1)[0] not in replaced:
            source = TableSource.parse(ELSE.split(line[found.end() :], maxsplit=1)[0])
            if source is not None and (is_database(source.file) or source.file.lower().endswith(READABLE)):
                named.append(source.file)
    return named
