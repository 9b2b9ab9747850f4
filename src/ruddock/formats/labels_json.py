"""Labels of axes as JSON: text, numbers, dates, periods, durations and intervals come back as what they were."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

import numpy as np
import pandas as pd

from ruddock.errors import FormatError
from ruddock.modelling.axis import Axis

PLAIN = (str, int, float, bool)


def labels_document(axis: Axis) -> dict[str, Any]:
    """Return the labels of an axis as plain data.

    Raises
    ------
    FormatError
        If a label is something that JSON has no form for.
    """
    index: Any = axis.labels
    if isinstance(index, pd.CategoricalIndex):
        index = index.astype(index.categories.dtype)
    if isinstance(index, pd.DatetimeIndex):
        zone = None if index.tz is None else str(index.tz)
        moments = index if zone is None else index.tz_convert("UTC").tz_localize(None)
        return {"type": "datetime", "zone": zone, "labels": [moment.isoformat() for moment in moments]}
    if isinstance(index, pd.PeriodIndex):
        return {"type": "period", "step": index.freqstr, "labels": [str(period) for period in index]}
    if isinstance(index, pd.TimedeltaIndex):
        return {"type": "timedelta", "labels": [int(span.value) for span in index]}
    if isinstance(index, pd.IntervalIndex):
        ends = [[_plain(axis, span.left), _plain(axis, span.right)] for span in index]
        return {"type": "interval", "closed": index.closed, "labels": ends}
    labels = list(index)
    if labels and all(isinstance(label, date) and not isinstance(label, datetime) for label in labels):
        return {"type": "date", "labels": [label.isoformat() for label in labels]}
    return {"labels": [_plain(axis, label) for label in labels]}


def _plain(axis: Axis, label: Any) -> Any:
    value = label.item() if isinstance(label, np.generic) else label
    if not isinstance(value, PLAIN) or (isinstance(value, float) and not np.isfinite(value)):
        raise FormatError(
            f"the label {label!r} of axis {axis.name} is a {type(label).__name__}, which JSON has no form for; make it "
            "text first"
        )
    return value


def axis_of(name: str, held: dict[str, Any]) -> Axis:
    """Return the axis of labels as plain data."""
    labels, sort = held["labels"], held.get("type")
    if sort == "datetime":
        index = pd.DatetimeIndex(labels)
        zone = held.get("zone")
        return Axis(name, index if zone is None else index.tz_localize("UTC").tz_convert(zone))
    if sort == "period":
        return Axis(name, pd.PeriodIndex(labels, freq=held["step"]))
    if sort == "timedelta":
        return Axis(name, pd.TimedeltaIndex(pd.to_timedelta(labels, unit="ns")))
    if sort == "interval":
        return Axis(name, pd.IntervalIndex.from_tuples([tuple(ends) for ends in labels], closed=held["closed"]))
    if sort == "date":
        return Axis(name, pd.Index([date.fromisoformat(label) for label in labels], dtype=object))
    return Axis(name, labels)
