"""Units as text: products and quotients such as ``£/crate`` times ``crate``, and the units of a sum."""

from __future__ import annotations

import re
from typing import NamedTuple

from ruddock.document.numbers import singular

TOKENS = re.compile(r"\s*(\bper\b|[*/·()]|(?:(?!\bper\b)[^*/·()])+)")


class _Powers:
    """A unit as words with powers, each word also as it was written first."""

    def __init__(self, unit: str = "") -> None:
        self.powers: dict[str, int] = {}
        self.words: dict[str, str] = {}
        sign, signs = 1, [1]
        for token in TOKENS.findall(unit):
            word = token.strip()
            if word in ("/", "per"):
                sign = -1
            elif word in ("*", "·", ""):
                continue
            elif word == "(":
                signs.append(signs[-1] * sign)
                sign = 1
            elif word == ")":
                signs = signs[:-1] or [1]
                sign = 1
            else:
                if word != "1":
                    self.take(word, sign * signs[-1])
                sign = 1

    def take(self, word: str, power: int) -> None:
        """Multiply by a power of a word."""
        one = singular(word)
        self.words.setdefault(one, word)
        self.powers[one] = self.powers.get(one, 0) + power
        if not self.powers[one]:
            del self.powers[one]

    def text(self) -> str:
        """Return the unit in writing; empty where everything cancels."""
        above = [self.words[one] for one, power in self.powers.items() for _ in range(power)]
        below = [one for one, power in self.powers.items() for _ in range(-power)]
        if not below:
            return "*".join(above)
        return f"{'*'.join(above) or '1'}/{below[0] if len(below) == 1 else '(' + '*'.join(below) + ')'}"


def combine(a: str | None, b: str | None, sign: int = 1) -> str | None:
    """Return the unit of a product (``sign`` 1) or a quotient (-1); None when either is not known.

    >>> combine("hours per crate", "crates"), combine("£/(crate*day)", "crates"), combine("kg", "m²/day", -1)
    ('hours', '£/day', 'kg*day/m²')
    """
    if a is None or b is None:
        return None
    result, other = _Powers(a), _Powers(b)
    for one, power in other.powers.items():
        result.take(other.words[one], sign * power)
    return result.text() or None


def same_unit(a: str, b: str) -> bool:
    """Say whether two texts are the same unit, in whatever number and order."""
    return _Powers(a).powers == _Powers(b).powers


class Units(NamedTuple):
    """What the summands of an expression are counted in, as far as that is known.

    Attributes
    ----------
    stated : units that follow from units of data, or of decisions multiplied by such data
    bare : units of decisions that stand without a coefficient
    open : whether there are summands of unknown units; a bare decision among them, as in ``2 tables + chairs`` hours,
        has a coefficient of 1 whose unit nobody wrote
    """

    stated: frozenset[str] = frozenset()
    bare: frozenset[str] = frozenset()
    open: bool = False

    @property
    def known(self) -> frozenset[str]:
        """The units that are certain."""
        return self.stated if self.open else self.stated | self.bare

    def __or__(self, other: Units) -> Units:
        return Units(self.stated | other.stated, self.bare | other.bare, self.open or other.open)

    def times(self, unit: str | None) -> Units:
        """Return the units of a product with data of a unit; a factor without one, such as 0.5, leaves them open."""
        if unit is None:
            return Units(open=True)
        return Units(frozenset(combine(own, unit) or "1" for own in self.stated | self.bare), open=self.open)


def data_units(unit: str | None) -> Units:
    """Return the units of data, which may be added to anything while it has none."""
    return Units() if unit is None else Units(frozenset((unit,)))


def decision_units(unit: str | None) -> Units:
    """Return the units of a family of decisions."""
    return Units(open=True) if unit is None else Units(bare=frozenset((unit,)))


NONE = Units()
