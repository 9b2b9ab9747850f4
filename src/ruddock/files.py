"""Reading and writing files whole, packed or not; how much may come of a packed one is bounded."""

from __future__ import annotations

import codecs
import gzip
import io
import json
import os
import stat
import tempfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from ruddock.characters import escaped
from ruddock.errors import FormatError

MOST_UNPACKED = 64 << 20  # bytes that any packed file may unpack to
MOST_RATIO = 200  # times its size that a larger one may unpack to: text and numbers come to 5 to 50


def unpacked(path: Path) -> bytes:
    """Return a file's bytes, unpacked if it ends in ``.gz``.

    Raises
    ------
    FormatError
        If there is no such file, it is a folder, pipe or device, cannot be read, or unpacks to far more than its size.
    """
    check_regular(path)
    try:
        content = path.read_bytes()
        return _gunzipped(content, path) if path.suffix.lower() == ".gz" else content
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise FormatError(f"this is not a whole .gz file: {error}", path=str(path)) from None
    except OSError as error:
        raise FormatError(f"cannot be read: {error.strerror}", path=str(path)) from None


def check_regular(path: Path) -> None:
    """Refuse what is not a file: a folder, or a pipe or device, from which nothing may ever come.

    Raises
    ------
    FormatError
        If so, or if there is no such file.
    """
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        raise FormatError("file not found", path=str(path)) from None
    except (OSError, ValueError) as error:  # a name with NUL is a ValueError
        raise FormatError(f"cannot be read: {getattr(error, 'strerror', None) or error}", path=str(path)) from None
    if not stat.S_ISREG(mode):
        kind = "a folder" if stat.S_ISDIR(mode) else "a pipe or device"
        raise FormatError(f"this is {kind}, not a file", path=str(path))


def _gunzipped(content: bytes, path: Path) -> bytes:
    most = most_unpacked(len(content))
    with gzip.GzipFile(fileobj=io.BytesIO(content)) as file:
        held = file.read(most + 1)
    if len(held) > most:
        raise FormatError(too_large(most), path=str(path))
    return held


def most_unpacked(size: int) -> int:
    """Return how many bytes a packed file of a size may unpack to."""
    return max(MOST_UNPACKED, MOST_RATIO * size)


def too_large(most: int) -> str:
    """Return what is said of a file that unpacks to more."""
    return (
        f"unpacks to more than {most >> 20:,} MB and {MOST_RATIO} times its size, as no ordinary model or table does; "
        "if this is one, unpack it first"
    )


def as_utf8(content: bytes, path: str) -> tuple[bytes, str]:
    """Return a file's text in UTF-8, and how its encoding was understood where it is another.

    Raises
    ------
    FormatError
        If it is not text.
    """
    if content.startswith(codecs.BOM_UTF8):
        content = content[len(codecs.BOM_UTF8) :]
    for mark, name in ((codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
        if content.startswith(mark):
            return _from(content[len(mark) :], name, path), "the file is in UTF-16"
    sample = content[:1000]
    if sample.count(0) > len(sample) // 4:
        name = "utf-16-le" if sample[1::2].count(0) >= sample[::2].count(0) else "utf-16-be"
        return _from(content, name, path), "the file is in UTF-16"
    if b"\0" in content:
        raise FormatError("this is not a text file", path=path)
    if content.isascii():
        return content, ""
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        text = content.decode("cp1252", errors="replace").replace("\ufffd", "?")
        return text.encode(), "the file is not in UTF-8 and was read as Windows-1252 (Latin-1)"
    return content, ""


def _from(content: bytes, name: str, path: str) -> bytes:
    try:
        text = content.decode(name)
    except UnicodeDecodeError:
        raise FormatError(f"this is not a text file in {name.upper()}", path=path) from None
    if "\0" in text:
        raise FormatError("this is not a text file", path=path)
    return text.encode()


def read_content(path: Path) -> bytes:
    """Return the bytes of a text file in UTF-8, unpacked if it ends in ``.gz``; see `as_utf8`."""
    return as_utf8(unpacked(path), str(path))[0]


def read_text(path: Path) -> str:
    """Return a file's text; see `read_content`."""
    return read_content(path).decode("utf-8")


def json_text(document: object) -> str:
    """Return plain data as JSON that people can read, too; nothing in it acts, NaN and infinity are refused."""
    return escaped(json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False)) + "\n"


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
