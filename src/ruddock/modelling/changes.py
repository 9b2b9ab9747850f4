"""Changes of single numbers of a model: ``supply[Fell]=140``, ``need*=1.1``, ``shelf=off``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from numbers import Real
from typing import NamedTuple

import numpy as np

from ruddock.errors import ModelError
from ruddock.modelling.names import outside_brackets
from ruddock.problem import Floats

WORDS = ("off", "continuous", "integer", "binary")
SHORT = re.compile(r"(?P<op>[*+-])\s*(?P<value>.+)")
PERCENT = re.compile(r"(?P<sign>[+-])\s*(?P<value>[\d.]+)\s*%")
TABLE = re.compile(r"\S.*\.(csv|csv\.gz|tsv|txt|xlsx|xlsm|ods|parquet|db|sqlite3?)(\s.*)?", re.IGNORECASE)
HOW = "write a change as NAME=NUMBER, NAME*=NUMBER, NAME+=NUMBER, NAME=+10% or NAME=off"


class Change(NamedTuple):
    """One change.

    Attributes
    ----------
    target : what is changed, by name: a limit, ``NAME.lower`` or ``.upper``, ``NAME.kind``, ``ROW.DECISION`` or data
    op : ``=``, or ``*=``, ``+=``, ``-=``
    value : a number, one of the words ``off``, ``continuous``, ``integer``, ``binary``, or a table (``june.csv``)
    """

    target: str
    op: str
    value: float | str

    def __str__(self) -> str:
        value = self.value if isinstance(self.value, str) else f"{self.value:.12g}"
        return f"{self.target} {self.op} {value}"

    @property
    def table(self) -> str | None:
        """The table that takes the place of data, if the change is one of that sort."""
        return self.value if isinstance(self.value, str) and self.value not in WORDS else None

    def applied(self, old: Floats) -> Floats:
        """Return changed numbers."""
        if isinstance(self.value, str):
            raise ModelError(f"{self}: a number is needed here")
        if self.op == "=":
            return np.full_like(old, self.value)
        return old * self.value if self.op == "*=" else old + self.value if self.op == "+=" else old - self.value


def _change(target: str, op: str, text: str) -> Change:
    target, word = target.strip(), text.strip()
    if op == "=" and word in WORDS:
        return Change(target, op, word)
    if op == "=" and TABLE.fullmatch(word):
        return Change(target, op, word)
    share = PERCENT.fullmatch(word)
    if op == "=" and share:
        return Change(target, "*=", 1.0 + float(share["sign"] + share["value"]) / 100.0)
    try:
        value = float(word)
    except ValueError:
        raise ModelError(
            f"{target}{op}{word}: write a number, a share such as +10%, or one of {', '.join(WORDS)}, such as "
            "supply[Fell]=140 or need*=1.1"
        ) from None
    if np.isnan(value):
        raise ModelError(f"{target}{op}{word}: NaN is not a number to solve with")
    if np.isinf(value) and "inf" not in word.lower():
        raise ModelError(f"{target}{op}{word[:40]}: too large a number; write inf for unlimited")
    return Change(target, op, value)


def parse_changes(given: Mapping[str, float | str] | Iterable[str]) -> list[Change]:
    """Read changes from a mapping (``{"need": "*1.1", "supply[Fell]": 140}``) or from words (``need*=1.1``).

    Raises
    ------
    ModelError
        If one cannot be read.
    """
    if isinstance(given, Mapping):
        return [_of_pair(target, value) for target, value in given.items()]
    if not isinstance(given, Iterable):
        raise ModelError(
            f"changes are a dict such as {{'need': '*1.1'}}, or words such as ['need*=1.1'], not {given!r}"
        )
    return [_of_word(word) for word in ([given] if isinstance(given, str) else given)]


def _of_pair(target: object, value: object) -> Change:
    if not isinstance(target, str):
        raise ModelError(f"a change is headed by a name, not by {target!r}")
    if isinstance(value, str):
        short = None if PERCENT.fullmatch(value.strip()) else SHORT.fullmatch(value.strip())
        op, text = (short["op"] + "=", short["value"]) if short else ("=", value)
        return _change(target, op, text)
    if not isinstance(value, (Real, np.bool_)):
        raise ModelError(f"{target}: a change is a number or text such as '*1.1' or 'off', not {value!r}")
    return _change(target, "=", repr(float(value)))


def _of_word(word: object) -> Change:
    if not isinstance(word, str):
        raise ModelError(f"{word!r}: {HOW}")
    signs = outside_brackets(word, "=")
    if not signs or signs[0] == 0:
        raise ModelError(f"{word!r}: {HOW}")
    at = signs[0]
    begin = at - 1 if word[at - 1] in "*+-" else at
    return _change(word[:begin], word[begin : at + 1], word[at + 1 :])
