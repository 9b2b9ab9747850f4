"""Numbers as people read them: thousands separated, units in the plural, money with two decimals, no dust."""

from __future__ import annotations

import re
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_UP, Decimal
from math import floor, isfinite, isnan, log10
from typing import Literal

Toward = Literal["", "up", "down"]  # how what must not be overstated is rounded
MONEY = ("£", "€", "$", "¥")
DUST = 1e-6  # nearer to 0 than any answer is exact
WHOLE_DIGITS = 1e15  # beyond which a float does not hold every integer
IRREGULAR = {"person": "people", "man": "men", "woman": "women", "child": "children", "foot": "feet", "half": "halves"}
ALIKE = {"gas", "lens", "bus", "bias", "canvas", "plus", "series", "species", "sheep", "swiss"}  # an s of their own
# short for a word, so without a plural
ABBREVIATIONS = frozenset(
    [
        "min",
        "sec",
        "mol",
        "bar",
        "gal",
        "cal",
        "rpm",
        "ppm",
        "pct",
        "qty",
        "doz",
        "lit",
        "approx",
        "avg",
        "max",
        "kwh",
        "mwh",
        "gwh",
        "teu",
        "fte",
        "usd",
        "eur",
        "gbp",
        "per",
        "cent",
    ]
)
WORD = re.compile(r"[a-z][a-z]{2,}\Z")


def number(value: float | None, toward: Toward = "") -> str:
    """Write a number for people: thousands separated, at most six significant digits, or all of a whole part.

    What must not be overstated is rounded ``up`` or ``down``: a limit that is at least needed, the end of a range.

    >>> number(1234.5), number(6.9e-07), number(-0.0), number(0.01234567), number(None)
    ('1,234.5', '0', '0', '0.0123457', '')
    >>> number(586.42341, "up"), number(586.42341, "down"), number(640.0000000001, "up")
    ('586.424', '586.423', '640')
    """
    if value is None or isnan(value):
        return ""
    if not isfinite(value):
        return "unlimited" if value > 0 else "-unlimited"
    return "0" if abs(value) < DUST else _digits(value, 6, toward)


def as_written(value: float) -> str:
    """Write a number of a model: with all its digits, and one close to 0 stays what it is.

    >>> as_written(2.5e-08), as_written(1234.567891)
    ('2.5e-08', '1,234.567891')
    """
    return number(value) if value == 0 or not isfinite(value) else _digits(value, 12)


def _digits(value: float, most: int, toward: Toward = "") -> str:
    size = abs(value)
    if size >= WHOLE_DIGITS or size < 1e-4:
        return f"{value:.{most}g}"
    decimals = max(most - 1 - floor(log10(size)), 0)
    text = f"{_rounded(value, decimals, toward):,.{decimals}f}"
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return "0" if text == "-0" else text


def _rounded(value: float, decimals: int, toward: Toward) -> float | Decimal:
    """Return a number rounded to some decimals; the noise of floating point decides nothing.

    A half goes up in size, so that 471.825 and 471.82499999999999, one number to a reader, read the same.
    """
    value = float(value)
    if abs(value - round(value, decimals)) <= 1e-9 * max(1.0, abs(value)):
        return value
    mode = {"up": ROUND_CEILING, "down": ROUND_FLOOR, "": ROUND_HALF_UP}[toward]
    exact = Decimal(value) if toward else Decimal(repr(round(value, decimals + 6)))
    return exact.quantize(Decimal(1).scaleb(-decimals), rounding=mode)


def amount(value: float | None, unit: str | None, toward: Toward = "") -> str:
    """Write a number with its unit; money to the penny, its sign in front; other units in the plural.

    >>> amount(-1234.5, "£"), amount(640, "hour"), amount(1, "hour"), amount(2.25, "£/crate")
    ('-£1,234.50', '640 hours', '1 hour', '£2.25/crate')
    """
    text = number(value, toward)
    if not unit or not text or value is None:
        return text
    if not isfinite(value):
        return text
    if is_money(unit):
        held = _rounded(value, 2, toward) if abs(value) >= 0.01 or abs(value) < DUST else value
        text = f"{abs(held):,.2f}" if abs(value) >= 0.01 or abs(value) < DUST else number(abs(value))
        sign = "-" if value < 0 and float(text.replace(",", "")) != 0 else ""
        return f"{sign}{unit[0]}{text}{unit[1:]}"
    return f"{text}{'' if unit == '%' or unit[0] == '°' else ' '}{counted(unit, one=text in ('1', '-1'))}"


def with_unit(name: str, unit: str | None) -> str:
    """Return a name with its unit, as headings and axes of figures have it: ``value (hours)``."""
    return f"{name} ({counted(unit)})" if unit else name


def per(unit: str | None, of: str | None) -> str | None:
    """Return the unit of a price: so much of one unit for each one of another.

    >>> per("£", "hours"), per(None, "crate"), per("£", None)
    ('£ per hour', 'per crate', '£')
    """
    return f"{unit or ''} per {counted(of, one=True)}".strip() if of else unit


def capital(words: str) -> str:
    """Return words that begin a sentence."""
    return words[:1].upper() + words[1:]


def is_money(unit: str | None) -> bool:
    """Say whether a unit begins with the sign of a currency, which stands in front of a number."""
    return bool(unit) and str(unit)[0] in MONEY


def plural(count: int, noun: str, many: str | None = None) -> str:
    """Write a count with its noun: ``1 node``, ``3,400 nodes``."""
    return f"{count:,} {noun if count == 1 else many or pluralised(noun)}"


def counted(unit: str, *, one: bool = False) -> str:
    """Return a unit as it follows a number: ``hours``, ``crates/week``; abbreviations stay as they are.

    >>> counted("hour"), counted("crate/week"), counted("kWh"), counted("hours", one=True)
    ('hours', 'crates/week', 'kWh', 'hour')
    """
    head, mark, rest = _numerator(unit)
    words = head.rsplit(" ", 1)
    last = words[-1]
    parts = re.split(r"([*·-])", last)
    parts[-1] = singular(parts[-1]) if one else pluralised(parts[-1])
    return " ".join([*words[:-1], "".join(parts)]) + mark + rest


def _numerator(unit: str) -> tuple[str, str, str]:
    for mark in ("/", " per "):
        if mark in unit:
            return unit.partition(mark)
    return unit, "", ""


def pluralised(word: str) -> str:
    """Return the plural of a noun; what is no plain word, or is one in the plural already, stays as it is.

    >>> pluralised("box"), pluralised("delivery"), pluralised("crates"), pluralised("kg")
    ('boxes', 'deliveries', 'crates', 'kg')
    """
    if word in IRREGULAR:
        return IRREGULAR[word]
    if not WORD.match(word) or word in ABBREVIATIONS or word in IRREGULAR.values():
        return word
    if word in ("bus", "gas", "lens", "plus", "bias", "canvas"):
        return f"{word}es"
    if word in ALIKE or (word.endswith("s") and not word.endswith("ss") and singular(word) != word):
        return word
    if word.endswith(("s", "x", "z", "ch", "sh")):
        return f"{word}es"
    if word.endswith("y") and word[-2] not in "aeiou":
        return f"{word[:-1]}ies"
    return f"{word}s"


def singular(word: str) -> str:
    """Return a noun as it stands for one: ``crates`` and ``crate`` are the same unit.

    >>> singular("boxes"), singular("hours"), singular("gas"), singular("glass"), singular("kg")
    ('box', 'hour', 'gas', 'glass', 'kg')
    """
    for one, many in IRREGULAR.items():
        if word == many:
            return one
    if len(word) <= 2 or word in ALIKE or word.endswith(("ss", "us", "is")):
        return word
    for many, one in (("ies", "y"), ("sses", "ss"), ("shes", "sh"), ("ches", "ch"), ("xes", "x"), ("uses", "us")):
        if word.endswith(many) and len(word) > len(many):
            return word[: -len(many)] + one
    return word.removesuffix("s")


def listed_all(items: list[str], word: str = "and") -> str:
    """Write names as a sentence does: ``mead, wax and candles``."""
    return items[0] if len(items) == 1 else f"{', '.join(items[:-1])} {word} {items[-1]}" if items else ""
