"""Changes of single numbers of a model: ``supply[Fell]=140``, ``need*=1.1``, ``shelf=off``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from ruddock.errors import ModelError
from ruddock.modelling.cells import Cells
from ruddock.problem import Floats

WORDS = ("off", "continuous", "integer", "binary")
PATTERN = re.compile(r"(?P<target>.+?)\s*(?P<op>[*+-]?=)\s*(?P<value>[^=]+)")
SHORT = re.compile(r"(?P<op>[*+-])\s*(?P<value>.+)")


@dataclass(frozen=True)
class Change:
    """One change.

    Attributes
    ----------
    target : what is changed, by name: a limit, ``NAME.lower`` or ``.upper``, ``NAME.kind``, ``ROW.DECISION`` or data
    op : ``=``, or ``*=``, ``+=``, ``-=``
    value : a number, or one of the words ``off``, ``continuous``, ``integer``, ``binary``
    """

    target: str
    op: str
    value: float | str

    def __str__(self) -> str:
        value = self.value if isinstance(self.value, str) else f"{self.value:.12g}"
        return f"{self.target} {self.op} {value}"

    @property
    def family(self) -> str:
        """The target without its labels."""
        return self.target.split("[", 1)[0]

    def members(self, name: str, cells: Cells) -> np.ndarray:
        """Mark the members of a family that the target stands for."""
        if self.target == name:
            return np.ones(cells.size, bool)
        return np.array([f"{name}[{text}]" == self.target for text in cells.texts()], bool)

    def applied(self, old: Floats) -> Floats:
        """Return changed numbers."""
        if isinstance(self.value, str):
            raise ModelError(f"{self}: a number is needed here")
        if self.op == "=":
            return np.full_like(old, self.value)
        return old * self.value if self.op == "*=" else old + self.value if self.op == "+=" else old - self.value


def _change(target: str, op: str, text: str) -> Change:
    word = text.strip()
    if op == "=" and word in WORDS:
        return Change(target.strip(), op, word)
    try:
        value = float(word)
    except ValueError:
        raise ModelError(
            f"{target}{op}{word}: write a number, or one of {', '.join(WORDS)}, such as supply[Fell]=140 or need*=1.1"
        ) from None
    if np.isnan(value):
        raise ModelError(f"{target}{op}{word}: NaN is no number to solve with")
    return Change(target.strip(), op, value)


def parse_changes(given: Mapping[str, float | str] | Iterable[str]) -> list[Change]:
    """Read changes from a mapping (``{"need": "*1.1", "supply[Fell]": 140}``) or from words (``need*=1.1``).

    Raises
    ------
    ModelError
        If one cannot be read.
    """
    changes = []
    if isinstance(given, Mapping):
        for target, value in given.items():
            if isinstance(value, str):
                short = SHORT.fullmatch(value.strip())
                op, text = (short["op"] + "=", short["value"]) if short else ("=", value)
                changes.append(_change(target, op, text))
            else:
                changes.append(_change(target, "=", repr(float(value))))
        return changes
    for word in [given] if isinstance(given, str) else given:
        found = PATTERN.fullmatch(word.strip())
        if not found:
            raise ModelError(f"{word!r}: write a change as NAME=NUMBER, NAME*=NUMBER, NAME+=NUMBER or NAME=off")
        changes.append(_change(found["target"], found["op"], found["value"]))
    return changes
