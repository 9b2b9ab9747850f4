"""Damage to files: bytes, lines, tokens, the tree of a JSON document, the parts of an archive."""

from __future__ import annotations

import gzip
import io
import json
import random
import re
import warnings
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

TOKENS = (
    "1e400", "-1e400", "1e308", "nan", "inf", "-inf", "-0", "9" * 400, "0x10", "1_000", "١٢", "½", "1e-320", "", " ",
    "\0", "\x1b[31m", "\u202e", "\u2028", "\ufeff", "\ud7ff", "é", "=1+1", "@x", "'", '"', "`", "$x$", "{{7*7}}", "<b>",
    "[bold]x[/bold]", "](x)", "../../etc/passwd", "/dev/zero", "sum", "for", "in", "where", "or", "and", "not", "if", "then",
    "between", "previous", "at", "[", "]", "(", ")", "((((", "{", "}", "<=", ">=", "==", "=", "<", "*", "/", "^", "-", "--", "+",
    ",", ";", ":", "|", "#", "\n", "\n\n", "\n ", "\n\t", "\r\n", "\t", "Total", "max", "min", "maximize", "minimize", "integer",
    "binary", "upper", "lower", "kind", "1,200", "1.200,5", "12%", "£5", "TRUE", "#N/A", "'MARKER'", "ENDATA", "RANGES", "BOUNDS",
    "RHS", "INTORG", "SC", "BV", "MI", "null", "true", "[]", "{}", "1e9", "1000000", "-1", "0", "0.5", "from x.csv", "include x",
    "axes", "data", "decisions", "require", "quantities", "model",
)  # fmt: skip
VALUES: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2, 0.5, 1e400, -1e400, 1e308, 1e-320, float("nan"), 2**31, 2**63, 10**400, "", "x", "clover",
    "\0", "\x1b[2J", "jars", "<=", "binary", "integer", [], {}, [[]], [0], [None], [0, 0], [[0]], [1, "a"], {"x": 1}, [[1, 2], [3]],
)  # fmt: skip


def damaged(content: bytes, name: str, rng: random.Random) -> bytes:
    """Return the content of a file of that name with one to five changes."""
    if rng.random() < 0.02:
        return rng.choice(
            (b"", b"\0" * 100, bytes(rng.randrange(256) for _ in range(200)), b"\xff\xfe" + content, b"PK\x03\x04")
        )
    if rng.random() < 0.02 and not name.endswith((".xlsx", ".ods", ".gz", ".db", ".parquet")):
        return content.decode("utf-8", "replace").encode(
            rng.choice(("utf-16", "utf-16-be", "utf-32", "utf-8-sig", "cp037")), "replace"
        )
    if name.endswith(".gz"):
        if rng.random() < 0.2:
            return with_bytes(content, rng)
        return gzip.compress(_tokens(gzip.decompress(content), rng), 1)
    if content[:2] == b"PK":
        return with_bytes(content, rng) if rng.random() < 0.1 else _archive(content, rng)
    if name.endswith(".json") and rng.random() < 0.8:
        return _tree(content, rng)
    return _tokens(content, rng) if rng.random() < 0.6 else with_bytes(content, rng)


def with_bytes(content: bytes, rng: random.Random, bits: Sequence[bytes] = ()) -> bytes:
    """Insert, remove, replace and double bytes, cut the end off, shuffle lines; ``bits`` are inserted, too."""
    held = bytearray(content)
    for _ in range(rng.choice((1, 1, 2, 5))):
        at, other = rng.randrange(len(held) + 1), rng.randrange(len(held) + 1)
        change = rng.randrange(7 if bits else 6)
        if change == 0:
            held[at:at] = bytes([rng.randrange(256)])
        elif change == 1:
            del held[at : at + rng.choice((1, 1, 3, 20, 200))]
        elif change == 2 and held:
            held[min(at, len(held) - 1)] = rng.choice(b',;"\n\t.-%0123456789<>=()\xa3\xff\x00')
        elif change == 3:
            held[at:at] = held[min(at, other) : max(at, other)][:200]
        elif change == 4:
            held = held[:at]
        elif change == 6:
            held[at:at] = rng.choice(bits)
        else:
            lines = bytes(held).split(b"\n")
            rng.shuffle(lines)
            held = bytearray(b"\n".join(lines))
    return bytes(held)


def _tokens(content: bytes, rng: random.Random) -> bytes:
    """Replace, remove, double and swap words and marks."""
    parts = re.split(r"(\w+|[^\w\s]|\n *)", content.decode("utf-8", "surrogateescape"))
    for _ in range(rng.choice((1, 1, 2, 4))):
        at, other = rng.randrange(len(parts)), rng.randrange(len(parts))
        change = rng.randrange(10)
        if change < 4:
            parts[at] = rng.choice(TOKENS)
        elif change == 4:
            parts[at] = ""
        elif change == 5:
            parts[at] = parts[at] * rng.choice((2, 2, 3, 50))
        elif change == 6:
            parts[at], parts[other] = parts[other], parts[at]
        elif change == 7:
            parts[at] = parts[other]
        elif change == 8:
            parts[at:at] = parts[min(at, other) : max(at, other)][:60]
        elif rng.random() < 0.1:
            parts[at] = rng.choice(("(", "[", "x", "1", "-", "x+", '"', "\n a", ",", " ")) * rng.choice(
                (300, 5000, 60_000)
            )
    return "".join(parts).encode("utf-8", "surrogateescape")


def _tree(content: bytes, rng: random.Random) -> bytes:
    """Replace, remove, double and swap parts of a JSON document."""
    document = json.loads(content)
    for _ in range(rng.choice((1, 1, 2, 3))):
        places = list(_places(document))
        holder, key = rng.choice(places)
        other, near = rng.choice(places)
        change = rng.randrange(7)
        try:
            if change == 0:
                del holder[key]
            elif change == 1:
                holder[key] = other[near]
            elif change == 2 and isinstance(holder, list):
                holder.insert(key, holder[key])
            elif change == 3 and isinstance(holder, dict):
                holder[rng.choice(("x", "jars", "name", "axes", "", "\0", "terms"))] = holder.pop(key)
            elif change == 4 and isinstance(holder[key], (int, float)) and not isinstance(holder[key], bool):
                holder[key] = rng.choice((holder[key] + 1, -holder[key], holder[key] * 1e6, 0, 10**12, -1, 0.5))
            else:
                holder[key] = rng.choice(VALUES)
        except (LookupError, RecursionError):
            continue
    try:
        return json.dumps(document).encode()
    except (RecursionError, ValueError):
        return content[: rng.randrange(len(content))]


def _places(part: Any, depth: int = 0) -> Any:
    """Yield every holder and key of a tree; long lists of numbers by a few places."""
    if depth > 40:
        return
    keys = list(part) if isinstance(part, dict) else range(len(part))
    for key in keys if len(keys) < 12 else [*list(keys)[:6], *list(keys)[-6:]]:
        yield part, key
        if isinstance(part[key], (dict, list)):
            yield from _places(part[key], depth + 1)


def _archive(content: bytes, rng: random.Random) -> bytes:
    """Change a part of an archive, drop one, double one, or give one another's content."""
    with zipfile.ZipFile(io.BytesIO(content)) as old:
        parts = [(entry.filename, old.read(entry)) for entry in old.infolist()]
    chosen = [k for k, (name, _) in enumerate(parts) if "sheet" in name or name == "content.xml"]
    at = rng.choice(chosen) if chosen and rng.random() < 0.7 else rng.randrange(len(parts))
    change = rng.randrange(12)
    name, part = parts[at]
    if change == 0:
        parts.pop(at)
    elif change == 1:
        parts.append((name, b""))
    elif change == 2:
        parts[at] = name, rng.choice(parts)[1]
    elif change == 3:
        entity = b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
        parts[at] = name, part.replace(b"?>", b"?>" + entity, 1).replace(b"<v>", b"<v>&b;", 1)
    elif change == 4:
        big = rng.choice((b"99999999", b"1048576", b"2000000000", b"-1", b"0", b"x"))
        parts[at] = (
            name,
            re.sub(
                rb'(repeated|spanned|\br|rows?|count|Id|ref)="[^"]*"',
                rb'\1="' + big + b'"',
                part,
                count=rng.choice((1, 3)),
            ),
        )
    elif change < 8:
        parts[at] = name, _tokens(part, rng)
    else:
        parts[at] = name, with_bytes(part, rng)
    out = io.BytesIO()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # a name that is given twice
        with zipfile.ZipFile(out, "w") as new:
            for name, part in parts:
                new.writestr(name, part)
    return out.getvalue()


def put(path: Path, content: bytes, rng: random.Random) -> None:
    """Leave the damaged content at a path, once in a while as another kind of thing: a folder, a link to nothing."""
    if path.is_dir() and not path.is_symlink():
        path.rmdir()
    path.unlink(missing_ok=True)
    kind = rng.random()
    if kind < 0.004:
        path.mkdir()
    elif kind < 0.008:
        path.symlink_to("nowhere")
    elif kind < 0.01:
        path.symlink_to(path.name)
    else:
        path.write_bytes(content)
