"""Binary decisions as people say them: lists of labels, item to label, schedules along time."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ruddock.document.content import Block, Label, Row, Table
from ruddock.modelling.answer.shapes import chosen_axis, runs_in_order, spans
from ruddock.modelling.axis import Axis
from ruddock.modelling.decisions import Decisions
from ruddock.problem import Floats, Ints

MOST_LABELS = 30  # named in one list
MOST_ACROSS = 31  # labels along which a schedule has a column each
WIDEST_WORD = 12  # letters of a label that stands in a cell
ON, OFF = "■", "·"


def labels_of(places: Sequence[int], axis: Axis) -> str:
    """Return labels in words, in their order; of an axis that runs in order the spans."""
    if runs_in_order(axis):
        return spans(places, axis.texts)
    names = [axis.texts[place] for place in sorted(places)]
    more = len(names) - MOST_LABELS
    return ", ".join(names[:MOST_LABELS]) + (f" and {more:,} more" if more > 0 else "")


def lists(families: Sequence[tuple[Decisions, Floats]]) -> Table | None:
    """Return families on one axis as lists of the labels that are chosen."""
    rows: list[Row] = []
    for family, values in families:
        on = np.flatnonzero(values > 0.5)
        (axis,) = family.axes
        chosen = labels_of(family.cells.codes[0][on].tolist(), axis)
        rows.append((f"{family.name}[{axis.name}]", f"{len(on):,} of {len(values):,}", chosen or "none"))
    return Table("Binary decisions", ["decision", "yes", "which"], rows) if rows else None


def choices(family: Decisions, values: Floats) -> list[Block]:
    """Return a family on several axes: a schedule, or what is chosen for each item."""
    on = np.flatnonzero(values > 0.5)
    title = f"{family.name}: {len(on):,} of {len(values):,} are yes"
    if not len(on):
        return []
    axes = list(family.axes)
    codes = [code[on] for code in family.cells.codes]
    if len(axes) == 2 and len(on) > 1:
        one_each = chosen_axis(codes, axes)
        if one_each is not None and not (one_each == 0 and runs_in_order(axes[1])):
            return [_item_to_label(title, axes, codes, one_each)]
    time = next((k for k in reversed(range(len(axes))) if runs_in_order(axes[k])), None)
    if time is not None:
        return [_schedule(title, axes, codes, time)]
    return [_by_first(title, axes, codes)]


def _item_to_label(title: str, axes: list[Axis], codes: list[Ints], chosen: int) -> Table:
    """Return which label each item has; of many items, which items each label has."""
    items, labels = axes[1 - chosen], axes[chosen]
    own, other = codes[1 - chosen], codes[chosen]
    order = np.argsort(own, kind="stable").tolist()
    if len(order) <= MOST_LABELS:
        rows: list[Row] = [(items.texts[own[i]], labels.texts[other[i]]) for i in order]
        return Table(title, [items.name, labels.name], rows)
    rows = []
    for label in np.unique(other).tolist():
        places = own[other == label].tolist()
        rows.append((labels.texts[label], f"{len(places):,}", labels_of(places, items)))
    return Table(title, [labels.name, "how many", items.name], rows)


def _by_first(title: str, axes: list[Axis], codes: list[Ints]) -> Table:
    """Return, for each label of the first axis, what is chosen on the others."""
    rows: list[Row] = []
    rest = axes[1:]
    for place in np.unique(codes[0]).tolist():
        own = np.flatnonzero(codes[0] == place)
        if len(rest) == 1:
            words = labels_of(codes[1][own].tolist(), rest[0])
        else:
            parts = [", ".join(a.texts[c[i]] for a, c in zip(rest, codes[1:], strict=True)) for i in own.tolist()]
            more = len(parts) - MOST_LABELS
            words = "; ".join(parts[:MOST_LABELS]) + (f" and {more:,} more" if more > 0 else "")
        rows.append((axes[0].texts[place], f"{len(own):,}", words))
    return Table(title, [axes[0].name, "how many", ", ".join(axis.name for axis in rest)], rows)


def _schedule(title: str, axes: list[Axis], codes: list[Ints], time: int) -> Table:
    """Return what is on along time: a column a label, or spans where there are many."""
    rest = [k for k in range(len(axes)) if k != time]
    across = axes[time]
    cell_axis = _shown_in_cells(axes, codes, rest)
    down = [k for k in rest if k != cell_axis]
    grid: dict[tuple[int, ...], dict[int, str]] = {}
    for i in np.lexsort([codes[k] for k in reversed(down)]).tolist() if down else range(len(codes[0])):
        key = tuple(int(codes[k][i]) for k in down)
        word = ON if cell_axis is None else axes[cell_axis].texts[codes[cell_axis][i]]
        grid.setdefault(key, {})[int(codes[time][i])] = word
    heads = [axes[k].name for k in down]
    if len(across) > MOST_ACROSS:
        rows: list[Row] = [
            (*(axes[k].texts[c] for k, c in zip(down, key, strict=True)), f"{len(own):,}", _spans_by_word(own, across))
            for key, own in grid.items()
        ]
        return Table(title, [*heads, "how many", across.name], rows)
    rows = [
        (
            *(Label(axes[k].texts[c]) for k, c in zip(down, key, strict=True)),
            *(own.get(place, OFF) for place in range(len(across))),
        )
        for key, own in grid.items()
    ]
    note = f"{ON} yes, {OFF} no." if cell_axis is None else f"Each cell is the {axes[cell_axis].name}; {OFF} none."
    return Table(f"{title}, by {across.name}", [*heads, *across.texts], rows, note=note)


def _shown_in_cells(axes: list[Axis], codes: list[Ints], rest: list[int]) -> int | None:
    """Return the axis whose label can be the word in a cell: of which one at most is on for all the others."""
    short = [k for k in rest if max(map(len, axes[k].texts)) <= WIDEST_WORD]
    return chosen_axis(codes, axes, short) if len(rest) > 1 else None


def _spans_by_word(own: dict[int, str], across: Axis) -> str:
    words = dict.fromkeys(own.values())
    if len(words) == 1:
        return spans(list(own), across.texts)
    return "; ".join(f"{word}: {spans([p for p, w in own.items() if w == word], across.texts)}" for word in words)
