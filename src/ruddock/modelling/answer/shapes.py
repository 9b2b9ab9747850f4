"""What the values of a family look like: along which axes it runs, and whether one of several is chosen each time."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import groupby

import numpy as np
import pandas as pd

from ruddock.modelling.axis import Axis
from ruddock.problem import Ints

FEWEST, MOST = 4, 400  # labels of an axis that something runs along
NAMES_OF_TIMES = ("%b", "%B", "%a", "%A", "%H:%M")  # months, days, times


def runs_in_order(axis: Axis) -> bool:
    """Say whether labels are steps of time or size: dates, numbers that rise, or names of months or days."""
    if not FEWEST <= len(axis) <= MOST:
        return False
    if isinstance(axis.labels, (pd.DatetimeIndex, pd.PeriodIndex)):
        return True
    numbers = pd.to_numeric(pd.Series(axis.texts), errors="coerce")
    if numbers.notna().all():
        return bool(numbers.is_monotonic_increasing)
    return any(all(_reads_as(text, form) for text in axis.texts) for form in NAMES_OF_TIMES)


def _reads_as(text: str, form: str) -> bool:
    try:
        datetime.strptime(text, form)
    except ValueError:
        return False
    return True


def chosen_axis(codes: Sequence[Ints], axes: Sequence[Axis], among: Sequence[int] | None = None) -> int | None:
    """Return the axis of which at most one label is on for each combination of the others, the last one first.

    It is one of two axes or more; ``among`` are those that may be it, all by default.
    """
    if len(axes) < 2:
        return None
    for k in reversed(range(len(axes)) if among is None else among):
        keys = np.zeros(len(codes[0]), np.int64)
        for j, (code, axis) in enumerate(zip(codes, axes, strict=True)):
            if j != k:
                keys = keys * len(axis) + code
        if len(np.unique(keys)) == len(keys):
            return k
    return None


def spans(places: Sequence[int], texts: Sequence[str]) -> str:
    """Write places along an axis that runs in order as spans: ``06 to 09, 14``.

    >>> spans([0, 1, 2, 4], ["Mon", "Tue", "Wed", "Thu", "Fri"])
    'Mon to Wed, Fri'
    """
    parts = []
    for _, run in groupby(enumerate(sorted(places)), key=lambda pair: pair[1] - pair[0]):
        own = [place for _, place in run]
        if len(own) > 2:
            parts.append(f"{texts[own[0]]} to {texts[own[-1]]}")
        else:
            parts += [texts[place] for place in own]
    return ", ".join(parts)
