"""Reading and writing files whole, packed or not."""

from __future__ import annotations

import gzip
import json
import os
import tempfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from ruddock.errors import FormatError


def unpacked(path: Path) -> bytes:
    """Return a file's bytes, unpacked if it ends in ``.gz``."""
    try:
        content = path.read_bytes()
        return gzip.decompress(content) if path.suffix.lower() == ".gz" else content
    except FileNotFoundError:
        raise FormatError("file not found", path=str(path)) from None
    except (OSError, EOFError, zlib.error) as error:
        raise FormatError(f"cannot be read: {error}", path=str(path)) from None


def read_content(path: Path) -> bytes:
    """Return a file's bytes, unpacked if it ends in ``.gz``, in UTF-8; what is not that is taken as Latin-1."""
    content = unpacked(path)
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


def json_text(document: object) -> str:
    """Return plain data as JSON that people can read, too; NaN and infinity are refused."""
    return json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False) + "\n"


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
    if path.is_dir():
        raise FormatError("this is a folder, not a file to write", path=str(path))
    try:
        handle, name = tempfile.mkstemp(dir=path.parent or Path("."), prefix=path.name + ".", suffix=f".part{ending}")
        os.close(handle)
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(path)) from None
    temporary = Path(name)
    try:
        yield temporary
        os.chmod(temporary, 0o666 & ~_umask())
        os.replace(temporary, path)
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(path)) from None
    finally:
        temporary.unlink(missing_ok=True)


def _umask() -> int:
    """Return the permissions that new files of this process do without, as the system knows them."""
    try:
        status = Path("/proc/self/status").read_text(encoding="ascii")
        return int(next(line for line in status.splitlines() if line.startswith("Umask:")).split()[1], 8)
    except (OSError, StopIteration, ValueError):
        return 0o022


def write_text(path: Path, text: str) -> None:
    """Write a file whole or not at all, packed if it ends in ``.gz``."""
    content = text.encode("utf-8")
    if path.suffix.lower() == ".gz":
        content = gzip.compress(content)
    with written_whole(path) as temporary:
        temporary.write_bytes(content)


def locked(file: IO[str]) -> bool:
    """Lock a file for this process until it is closed; False if another one holds it."""
    try:
        import fcntl
    except ImportError:  # there is no such lock here
        return True
    try:
        fcntl.flock(file.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True
