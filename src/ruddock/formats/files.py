"""Reading and writing files whole, packed or not."""

from __future__ import annotations

import gzip
import os
import tempfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ruddock.errors import FormatError


def read_content(path: Path) -> bytes:
    """Return a file's bytes, unpacked if it ends in ``.gz``, in UTF-8; what is not that is taken as Latin-1."""
    try:
        content = path.read_bytes()
        if path.suffix.lower() == ".gz":
            content = gzip.decompress(content)
    except (OSError, EOFError, zlib.error) as error:
        raise FormatError(f"cannot be read: {error}", path=str(path)) from None
    content = content.removeprefix(b"\xef\xbb\xbf")
    if content.isascii():
        return content
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        return content.decode("latin-1").encode("utf-8")
    return content


def read_text(path: Path) -> str:
    """Return a file's text; see `read_content`."""
    return read_content(path).decode("utf-8")


@contextmanager
def written_whole(path: Path, ending: str = "") -> Iterator[Path]:
    """Give a path to write to, which then takes the place of ``path``; on an error nothing is left.

    Parameters
    ----------
    ending : str
        Of the path given, for writers that go by it.

    Raises
    ------
    FormatError
        If the file cannot be written.
    """
    temporary = path.with_name(f"{path.name}.part{ending}")
    try:
        yield temporary
        os.replace(temporary, path)
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(path)) from None
    finally:
        temporary.unlink(missing_ok=True)


def write_text(path: Path, text: str) -> None:
    """Write a file whole or not at all, packed if it ends in ``.gz``."""
    content = text.encode("utf-8")
    if path.suffix.lower() == ".gz":
        content = gzip.compress(content)
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent or Path("."), prefix=path.name + ".")
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(path)) from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(temporary, 0o666 & ~umask)
        os.replace(temporary, path)
    except BaseException:
        os.unlink(temporary)
        raise
