"""Changes of a table's numbers, made while a text is read: before other data is computed from them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ruddock.errors import ModelError, known
from ruddock.modelling.cells import Cells
from ruddock.modelling.changes import Change
from ruddock.modelling.data import Data
from ruddock.modelling.names import UnknownNameError, split_member
from ruddock.problem import Floats


def with_data_changes(name: str, held: Data, changes: Sequence[Change]) -> Data:
    """Return data with the changes that name it."""
    for change in changes:
        base, labels = split_member(change.target)
        if base == name:
            held = _changed_by(change, held, labels)
    return held


def _changed_by(change: Change, held: Data, labels: list[str] | None) -> Data:
    """Return data with one change made."""
    if labels is None:
        fill = None if held.fill is None else float(change.applied(np.array([held.fill]))[0])
        return Data(held.cells, _finite(change, change.applied(held.values)), held.unit, fill)
    names = [f"{change.target.partition('[')[0]}[{text}]" for text in held.cells.texts()]
    known_labels = len(labels) == len(held.axes) and all(
        label in axis.places for axis, label in zip(held.axes, labels, strict=True)
    )
    if not known_labels:
        raise UnknownNameError(f"{change}: the data holds no number there; {known(change.target, names)}")
    codes = [axis.places[label] for axis, label in zip(held.axes, labels, strict=True)]
    at = held.cells.position_of(codes)
    if at < 0 and (held.fill is not None or change.op == "="):
        # a number where there was none, or where a fill stood for it
        cells = Cells(
            held.axes, [np.append(own, np.int32(code)) for own, code in zip(held.cells.codes, codes, strict=True)]
        )
        held = Data(cells, np.append(held.values, held.fill or 0.0), held.unit, held.fill)
        at = cells.size - 1
    if at < 0:
        raise UnknownNameError(f"{change}: the data holds no number there; {known(change.target, names)}")
    values = held.values.copy()
    values[at : at + 1] = _finite(change, change.applied(values[at : at + 1]))
    return Data(held.cells, values, held.unit, held.fill)


def _finite(change: Change, values: Floats) -> Floats:
    """Return changed numbers, which must be such."""
    if np.isnan(values).any():
        raise ModelError(f"{change}: the result is not a number")
    return values
