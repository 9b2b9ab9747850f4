"""Numbers as people type them: thousands, decimal commas, percent, currency, read by what a whole column shows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import Decimal
from typing import NamedTuple

import numpy as np

from ruddock.errors import listed
from ruddock.problem import Floats

MONEY = "£€$¥₹₽₩₺₴"
TYPED = re.compile(
    rf"(?P<open>\()?\s*(?P<sign>[-+])?\s*(?P<before>[{MONEY}]|[A-Z]{{3}})?\s*(?P<inner>[-+])?\s*"
    r"(?P<digits>\d[\d.,' ]*|[.,]\d+)(?P<power>[eE][-+]?\d+)?\s*"
    rf"(?P<after>%|‰|[{MONEY}]|[A-Z]{{3}})?\s*(?P<close>\))?\Z",
    re.ASCII,
)
LONGEST = 400  # characters of a number: the largest one has 309 digits
GROUPED = re.compile(r"\d{1,3}(?:(?P<mark>[.,' ])\d{3})(?:(?P=mark)\d{3})*\Z", re.ASCII)
MINUS = str.maketrans({"−": "-", "–": "-", "\xa0": " ", "\u202f": " ", "\u2009": " ", "’": "'"})
SHARES = {"%": Decimal("0.01"), "‰": Decimal("0.001")}


class Numerals(NamedTuple):
    """The numbers of a column.

    Attributes
    ----------
    values : one for each text, NaN for a blank one
    wrong : position and message of each text that is not a number
    notes : how the column was understood, where it is not plain
    """

    values: Floats
    wrong: list[tuple[int, str]]
    notes: list[str]


class _Typed(NamedTuple):
    """The parts of one number: its digits with marks between, and what is around them."""

    digits: str
    negative: bool
    power: int
    money: str
    share: str


def read_numerals(texts: Sequence[str], *, separator: str = "", unit: str | None = None) -> Numerals:
    """Read a column of texts as numbers.

    Which mark is the decimal one is decided by the whole column: ``1,234.5`` and ``60.5`` show a point, ``1.234,5`` and
    ``60,5`` a comma. Where no number shows it and it matters, as in ``1,200``, the column is refused, not guessed at.

    Parameters
    ----------
    texts : blank ones are no numbers, and no errors
    separator : str
        Between the columns of the file, if it is text: a file that has commas there has no decimal commas.
    unit : str, optional
        Of the data: money of another currency is refused.
    """
    values = np.full(len(texts), np.nan)
    wrong: list[tuple[int, str]] = []
    typed: dict[int, _Typed] = {}
    for k, text in enumerate(texts):
        text = text.strip().translate(MINUS)
        if not text:
            continue
        if is_endless(text):
            values[k] = float(text)
            continue
        parts = _parts(text)
        if isinstance(parts, str):
            wrong.append((k, parts))
        else:
            typed[k] = parts
    point, column_wrong = _decimal_mark(typed, texts, separator)
    wrong += column_wrong + _mixed(typed, texts, unit)
    if not column_wrong:
        for k, parts in typed.items():
            values[k] = _value(parts, point)
            if not np.isfinite(values[k]):
                wrong.append((k, too_large(texts[k].strip())))
    return Numerals(values, sorted(wrong), [] if wrong else _notes(typed, texts, point))


def is_numeral(text: str) -> bool:
    """Return whether a text is a number, however it is typed."""
    text = text.strip().translate(MINUS)
    return (len(text) <= LONGEST and TYPED.match(text) is not None) or is_endless(text)


def too_large(number: str | int) -> str:
    """Return what is said of a number beyond all that a computer calculates with."""
    text = number if isinstance(number, str) else f"{Decimal(number):.3e}"
    return f"{text[:40]!r} is too large a number; write inf for unlimited"


def is_endless(text: str) -> bool:
    """Return whether a text is the word for unlimited."""
    return text.strip().lower().removeprefix("-").removeprefix("+") in ("inf", "infinity")


def _parts(text: str) -> _Typed | str:
    """Return the parts of a number, or what is wrong with it."""
    found = TYPED.match(text) if len(text) <= LONGEST else None
    if found is None or bool(found["open"]) != bool(found["close"]):
        return f"{text!r} is not a number{_hint(text)}"
    digits = found["digits"].strip()
    if (found["sign"] and (found["inner"] or found["open"])) or (found["before"] and _is_money(found["after"])):
        return f"{text!r} is not a number"
    if re.search(r"[.,' ]{2}|[.,']$", digits) and not re.fullmatch(r"\d+\.", digits):
        return f"{text!r} is not a number: digits are missing between or after its marks"
    return _Typed(
        digits,
        "-" in (found["sign"], found["inner"]) or bool(found["open"]),
        int((found["power"] or "e0")[1:]),
        found["before"] or (found["after"] if _is_money(found["after"]) else "") or "",
        found["after"] if found["after"] in SHARES else "",
    )


def _is_money(mark: str | None) -> bool:
    return mark is not None and mark not in SHARES


def _hint(text: str) -> str:
    if text.startswith("#"):
        return ": the cell shows an error"
    if text.lower() == "nan":
        return "; leave the cell empty, or give the number"
    if re.match(r"[-+]?[\d.,]+\s*[^\W\d_]", text):
        return "; write the unit after the name, not in the column"
    return ""


def _decimal_mark(typed: dict[int, _Typed], texts: Sequence[str], separator: str) -> tuple[str, list[tuple[int, str]]]:
    """Return the decimal mark of a column, and what contradicts it."""
    shown = {k: _shows(parts.digits) for k, parts in typed.items()}
    marks = {mark for mark in shown.values() if mark in (".", ",")}
    if len(marks) == 2:
        comma, point = (next(k for k in shown if shown[k] == mark) for mark in (",", "."))
        message = (
            f"{texts[comma].strip()!r} has a decimal comma, {texts[point].strip()!r} a decimal point: "
            "write all numbers of a column alike"
        )
        return ".", [(max(comma, point), message)]
    mark = marks.pop() if marks else "." if separator == "," else ""
    if mark:
        return mark, [
            (k, f"{texts[k].strip()!r} is not a number: groups of thousands have three digits")
            for k, parts in typed.items()
            if not _fits(parts.digits, mark)
        ]
    # a point before three digits reads as in any program, but for the files of those who write decimal commas
    doubtful = [k for k, parts in typed.items() if shown[k] == "?" and ("," in parts.digits or separator == ";")]
    if not doubtful:
        return ".", []
    k = doubtful[0]
    other = re.sub(r"[.,]", "", typed[k].digits), typed[k].digits.replace(",", ".")
    return ".", [
        (
            k,
            f"{texts[k].strip()!r} can be {other[0]} or {other[1]}, and no number of the column shows which: write "
            f"{other[0]} or {other[1]}0",
        )
    ]


def _shows(digits: str) -> str:
    """Return the decimal mark that a number shows for sure, ``?`` where it could be either, or nothing."""
    marks = [sign for sign in digits if sign in ".,"]
    if not marks:
        return ""
    last = marks[-1]
    if len(set(marks)) == 2:
        return last
    if len(marks) > 1:
        return "," if last == "." else "."  # a mark that repeats separates thousands
    if re.search(r"[' ]", digits):
        return last
    return "?" if GROUPED.match(digits) and not digits.startswith("0") else last


def _fits(digits: str, point: str) -> bool:
    """Return whether digits are well grouped, given the decimal mark."""
    whole, _, rest = digits.partition(point)
    return not re.search(r"\D", rest) and (whole.isdigit() or not whole or bool(GROUPED.match(whole)))


def _mixed(typed: dict[int, _Typed], texts: Sequence[str], unit: str | None) -> list[tuple[int, str]]:
    """Return what is wrong with a column whose numbers are of different sorts."""
    wrong = []
    shares = {k: bool(parts.share) for k, parts in typed.items()}
    if len(set(shares.values())) == 2:
        plain, share = (next(k for k in shares if shares[k] == sort) for sort in (False, True))
        if any(typed[k].digits.strip("0.,") for k in shares if not shares[k]):
            message = (
                f"{texts[share].strip()!r} is a percentage and {texts[plain].strip()!r} is not: write them all alike"
            )
            wrong.append((max(plain, share), message))
    money: dict[str, int] = {}
    for k, parts in typed.items():
        if parts.money:
            money.setdefault(parts.money, k)
    if len(money) > 1:
        wrong.append((max(money.values()), f"several currencies in one column: {listed(money)}"))
    own = re.match(rf"[{MONEY}]|[A-Z]{{3}}\b", unit or "")
    if own is not None and len(money) == 1 and own[0] not in money:
        mark, k = next(iter(money.items()))
        wrong.append((k, f"{texts[k].strip()!r} is in {mark}, and the data in {own[0]}"))
    return wrong


def _value(parts: _Typed, point: str) -> float:
    """Return a number to the last digit."""
    whole, _, rest = parts.digits.partition(point)
    plain = f"{'-' if parts.negative else ''}{re.sub(r'[^0-9]', '', whole) or '0'}.{rest or '0'}e{parts.power}"
    return float(Decimal(plain) * SHARES[parts.share]) if parts.share else float(plain)


def _notes(typed: dict[int, _Typed], texts: Sequence[str], point: str) -> list[str]:
    """Return how a column was understood, where it is not plain."""
    notes = []
    sorts = (
        ("decimal commas", lambda parts: point == "," and "," in parts.digits),
        ("separators of thousands", lambda parts: bool(re.search(r"[.,' ]", parts.digits.partition(point)[0]))),
        ("percentages", lambda parts: bool(parts.share)),
        ("signs of money", lambda parts: bool(parts.money)),
    )
    for what, has in sorts:
        at = next((k for k, parts in typed.items() if has(parts)), None)
        if at is not None:
            notes.append(f"{what}: {texts[at].strip()!r} is {_value(typed[at], point):.12g}")
    return notes
