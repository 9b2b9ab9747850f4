r"""Text that comes from names and files: what of it would act where it is shown, and how it is quoted.

Names, labels, titles and units hold any characters. Some of them act where text is shown: they move a terminal's
cursor, colour it, or turn the direction of what follows. `visible` puts signs in their place, `quote` writes them as in
JSON, which `unquote` reads again.
"""

from __future__ import annotations

import json
import re

#: Control characters but for line ends and tabs, marks of direction, and halves of characters, which no file can hold.
ACTING = re.compile(
    "[\0-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ud800-\udfff]"
)
FORMULA = ("=", "+", "-", "@")  # how text begins that a spreadsheet calculates
BREAKS = re.compile("\r\n|[\r\n\t]")
IN_QUOTES = re.compile(r"\\(u[0-9a-fA-F]{4}|.)", re.DOTALL)
MEANT = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f"}


def visible(text: str) -> str:
    r"""Return text with a sign for each character that would act; line ends and tabs stay.

    >>> visible("mead\x1b[2J")
    'mead␛[2J'
    """
    return ACTING.sub(_sign, text) if not text.isprintable() else text


def in_line(text: str) -> str:
    """Return `visible` text that stays on one line."""
    return text if text.isprintable() else BREAKS.sub(lambda found: " " if found[0] == "\t" else "↵", visible(text))


def _sign(found: re.Match[str]) -> str:
    code = ord(found.group())
    return chr(0x2400 + code) if code < 0x20 else "\u2421" if code == 0x7F else "\ufffd"


def has_acting(text: str) -> bool:
    """Return whether text holds characters that act, line ends and tabs among them."""
    return not text.isprintable() and (ACTING.search(text) or BREAKS.search(text)) is not None


def quote(text: str) -> str:
    r"""Return text in quotes as in JSON, with characters that act as ``\u001b``."""
    return escaped(json.dumps(text, ensure_ascii=False))


def escaped(text: str) -> str:
    r"""Return JSON with characters that act as ``\u001b``: the same document."""
    return ACTING.sub(lambda found: f"\\u{ord(found.group()):04x}", text)


def unquote(text: str) -> str:
    """Return text without its quotes and what is escaped in them as it was; other text as it is."""
    return unescaped(text[1:-1]) if len(text) > 1 and text[0] == text[-1] == '"' else text


def unescaped(text: str) -> str:
    """Return what stands within quotes as it was."""
    return IN_QUOTES.sub(_meant, text) if "\\" in text else text


def _meant(found: re.Match[str]) -> str:
    sign = found[1]
    return chr(int(sign[1:], 16)) if len(sign) == 5 else MEANT.get(sign, sign)
