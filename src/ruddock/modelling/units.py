"""Units as text: products and quotients such as ``£/crate`` times ``crate``."""

from __future__ import annotations

import re
from collections import Counter


def _parts(unit: str) -> Counter[str]:
    counts: Counter[str] = Counter()
    sign = 1
    for token in re.split(r"([*/·])", unit):
        token = token.strip()
        if token == "/":
            sign = -1
        elif token in ("*", "·"):
            sign = 1
        elif token and token != "1":
            counts[token] += sign
    return counts


def _text(counts: Counter[str]) -> str:
    above = [name for name, power in counts.items() for _ in range(max(power, 0))]
    below = [name for name, power in counts.items() for _ in range(max(-power, 0))]
    return "/".join([" ".join(above) if above else "1", *below]) if below else "*".join(above)


def combine(a: str | None, b: str | None, sign: int = 1) -> str | None:
    """Return the unit of a product (``sign`` 1) or a quotient (-1); None when either is not known.

    >>> combine("£/crate", "crate")
    '£'
    """
    if a is None or b is None:
        return None
    counts = _parts(a)
    for name, power in _parts(b).items():
        counts[name] += sign * power
    return _text(Counter({name: power for name, power in counts.items() if power})) or None
