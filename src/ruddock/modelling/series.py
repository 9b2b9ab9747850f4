"""Names of types for signatures that are read when a program runs, too: ``typing.get_type_hints`` knows them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import pandas as pd

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    AnyIndex = pd.Index[Any]
    AnySeries = pd.Series[Any]
    FloatSeries = pd.Series[float]
else:
    Axes = Any  # Matplotlib is imported when something is drawn
    AnyIndex = pd.Index
    AnySeries = FloatSeries = pd.Series

__all__ = ["AnyIndex", "AnySeries", "Axes", "FloatSeries"]
