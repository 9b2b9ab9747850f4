"""Data out of a table: labels become places on axes; whatever is wrong is reported at once, each at its place."""

from __future__ import annotations

import re
from datetime import date

import numpy as np

from ruddock.errors import MOST_ERRORS, FormatError, known
from ruddock.formats.tables.layout import Layout, Wanted, is_total
from ruddock.formats.tables.sheets import Body, Labels, Sheet, by_row, cell_text
from ruddock.modelling.axis import ISO_DATE, Axis
from ruddock.modelling.cells import Cells, Mask, Positions
from ruddock.modelling.data import Data
from ruddock.problem import Floats, Ints

BLANK, UNKNOWN, TOTAL = -1, -2, -3  # codes of labels that are none
DATE = re.compile(r"(\d{1,2})([./-])(\d{1,2})\2(\d{4})\Z")


def read_data(sheet: Sheet, layout: Layout, wanted: Wanted, unit: str | None) -> tuple[Data, list[str]]:
    """Return data from a table, and notes on how it was understood.

    Raises
    ------
    FormatError
        With all wrong labels and numbers, each at its line or cell.
    """
    table = _Table(sheet, layout, sheet.body(layout.header, layout.labels, layout.numbers, unit))
    if layout.across is None:
        codes, values, rows = table.long(wanted.axes)
    else:
        codes, values, rows = table.wide(wanted.axes)
    held = _in_order(table, wanted.axes, codes, values, rows, unit)
    return held, [*layout.notes, *table.notes]


class _Table:
    """The body of a table while it is read."""

    def __init__(self, sheet: Sheet, layout: Layout, body: Body) -> None:
        self.sheet, self.layout, self.body = sheet, layout, body
        self.errors: list[tuple[int, FormatError]] = list(body.refused)
        self.notes: list[str] = []

    def error(self, row: int, column: int | None, message: str) -> None:
        """Note an error at a cell of the body."""
        self.errors.append((row, self.sheet.error(self.layout.header + 1 + row, column, message)))

    def long(self, axes: tuple[Axis, ...]) -> tuple[list[Ints], Floats, Positions]:
        """Return places on each axis, numbers, and their rows in the body."""
        columns = [self.places(axis, k) for axis, k in zip(axes, range(len(axes)), strict=True)]
        values = self.body.numbers[0].values
        wrong = dict(self.body.numbers[0].wrong)
        filled: Mask = ~np.isnan(values)
        used = self.judged(columns, axes, filled, [wrong])
        self.raised()
        self.notes += self.body.numbers[0].notes
        if used is filled:
            return columns, values, np.arange(len(values))
        rows = np.flatnonzero(used & filled)
        return [column[rows] for column in columns], values[rows], rows

    def wide(self, axes: tuple[Axis, ...]) -> tuple[list[Ints], Floats, Positions]:
        """Return the same of a table with one axis across."""
        layout, numbers = self.layout, self.body.numbers
        assert layout.across is not None
        filled = np.zeros(self.body.rows, bool)
        for part in numbers:
            filled |= ~np.isnan(part.values)
        wrong = [dict(part.wrong) for part in numbers]
        if layout.down is None:
            return self.one_line(filled, wrong)
        down = self.places(layout.down, 0)
        used = self.judged([down], (layout.down,), filled, wrong)
        self.raised()
        self.notes += list(dict.fromkeys(note for part in numbers for note in part.notes))
        grid = np.column_stack([part.values for part in numbers])
        rows, columns = np.nonzero(used[:, None] & ~np.isnan(grid))
        found = {layout.down.name: down[rows], layout.across.name: np.array(layout.codes, np.int32)[columns]}
        return [found[axis.name] for axis in axes], grid[rows, columns], rows

    def one_line(self, filled: Mask, wrong: list[dict[int, str]]) -> tuple[list[Ints], Floats, Positions]:
        """Return the numbers of the one line below labels."""
        rows = np.flatnonzero(filled)
        bad = sorted({row for column in wrong for row in column})
        if len(rows) != 1 or bad:
            for row in bad[:1]:
                column = next(k for k, part in enumerate(wrong) if row in part)
                self.error(row, self.layout.numbers[column], wrong[column][row])
            if not bad:
                at = int(rows[1]) if len(rows) else 0
                self.error(
                    at, self.layout.labels[0], f"one line of numbers is expected below the labels, not {len(rows)}"
                )
            self.raised()
        row = int(rows[0])
        values = np.array([part.values[row] for part in self.body.numbers])
        there = np.flatnonzero(~np.isnan(values))
        self.notes += list(dict.fromkeys(note for part in self.body.numbers for note in part.notes))
        return [np.array(self.layout.codes, np.int32)[there]], values[there], np.full(len(there), row)

    # ------------------------------------------------------------------ labels

    def places(self, axis: Axis, k: int) -> Ints:
        """Return the places of a column's labels on an axis; negative ones are none."""
        labels = self.body.labels[k]
        places = [axis.places.get(text, TOTAL if is_total(text) else UNKNOWN) for text in labels.texts]
        unknown = [i for i, place in enumerate(places) if place == UNKNOWN]
        if unknown:
            order, dates = _as_dates([labels.texts[i] for i in unknown], axis)
            for i, place in zip(unknown, dates, strict=True):
                places[i] = place
            if order:
                self.notes.append(f"dates of {axis.name} are written {order}")
        return np.array([*places, BLANK], np.int32)[labels.codes]

    def judged(self, columns: list[Ints], axes: tuple[Axis, ...], filled: Mask, wrong: list[dict[int, str]]) -> Mask:
        """Return which rows are rows of the table; what is wrong with others is an error, or noted as left out.

        A row without a number and without known labels is a remark if nothing but such rows follow a blank one.
        """
        if filled.all() and not any(wrong) and min((column.min(initial=0) for column in columns), default=0) >= 0:
            return filled
        places = np.column_stack(columns)
        good: Mask = np.all(places >= 0, axis=1)
        total: Mask = np.any(places == TOTAL, axis=1) & np.all(places != UNKNOWN, axis=1)
        bad_number = np.zeros(len(good), bool)
        for part in wrong:
            bad_number[list(part)] = True
        blank: Mask = np.all(places == BLANK, axis=1) & ~filled & ~bad_number
        last = int(np.flatnonzero(good & (filled | bad_number))[-1]) if (good & (filled | bad_number)).any() else -1
        gap = np.flatnonzero(blank[last + 1 :])
        below = np.zeros(len(good), bool)
        if len(gap):
            below[last + 1 + int(gap[0]) :] = True
        remark = ~good & ~filled & ~blank & (below | ~bad_number) & ~total
        self._left_out(total & (filled | bad_number), "with a total")
        self._left_out(remark, "without a number")
        doubtful = ~good & ~blank & ~remark & ~total
        for row in np.flatnonzero(doubtful)[:1000].tolist():
            self._wrong_labels(row, places[row], axes)
        for part, column in zip(wrong, self.layout.numbers, strict=True):
            for row, message in part.items():
                if not remark[row] and not total[row]:
                    self.error(row, column, message)
        self.errors = [(row, error) for row, error in self.errors if not remark[row]]
        unfilled = good & ~filled & ~bad_number
        if unfilled.any() and not (good & filled).any() and not self.errors:
            column = self.layout.numbers[0]
            self.error(-1, column, f"column {self.sheet.head[self.layout.header][column]!r} holds no number")
        self._left_out(unfilled, "with a label and no number")
        return good

    def _wrong_labels(self, row: int, places: Ints, axes: tuple[Axis, ...]) -> None:
        for k, (axis, place) in enumerate(zip(axes, places.tolist(), strict=True)):
            column = self.layout.labels[k]
            if place == BLANK:
                self.error(row, column, f"the label of {axis.name} is missing: fill it in on every line")
            elif place < 0:
                labels: Labels = self.body.labels[k]
                text = labels.texts[int(labels.codes[row])]
                hint = f"; {known(text, axis.texts)}" if len(self.errors) < MOST_ERRORS else ""
                self.error(row, column, f"{text!r} is not a label of axis {axis.name}{hint}")

    def _left_out(self, rows: Mask, what: str) -> None:
        at = np.flatnonzero(rows)
        if len(at):
            first = self.layout.header + 1 + int(at[0])
            shown = next((text for text in self.sheet.row_texts(first) if text), "")
            count = "1 line" if len(at) == 1 else f"{len(at):,} lines"
            self.notes.append(f"{count} {what} left out (line {first + 1}: {shown[:40]!r})")

    def raised(self) -> None:
        """Raise all errors together, in the order of the rows."""
        if self.errors:
            raise by_row(self.errors)


def _as_dates(texts: list[str], axis: Axis) -> tuple[str, list[int]]:
    """Return how dates that are not written as the labels are were written, and their places.

    Day and month are told apart by what gives labels of the axis for all of them; both ways is no way.
    """
    found = [DATE.match(text) for text in texts]
    none = [UNKNOWN] * len(texts)
    if not any(found) or not ISO_DATE.match(axis.texts[0] if axis.texts else ""):
        return "", none
    ways = []
    for order, day, month in (("day first", 1, 3), ("month first", 3, 1)):
        places = []
        for match in found:
            try:
                label = cell_text(date(int(match[4]), int(match[month]), int(match[day]))) if match else ""
            except ValueError:
                label = ""
            places.append(axis.places.get(label, UNKNOWN))
        if UNKNOWN not in places:
            ways.append((order, places))
        if all("." in text for text in texts):  # dots have the day first everywhere
            break
    return ways[0] if len(ways) == 1 or (len(ways) == 2 and ways[0][1] == ways[1][1]) else ("", none)


def _in_order(
    table: _Table, axes: tuple[Axis, ...], codes: list[Ints], values: Floats, rows: Positions, unit: str | None
) -> Data:
    """Return data on these combinations, in the order of the axes; twice the same is an error at its place."""
    cells = Cells(axes, codes)
    keys = cells.keys()
    whole = Cells(axes).size
    if len(keys) == whole:
        count = np.bincount(keys, minlength=whole)
        if count.max(initial=1) == 1:
            held = np.empty(whole)
            held[keys] = values
            return Data(Cells(axes), held, unit)
    if not (np.diff(keys) > 0).all():
        order = np.argsort(keys, kind="stable")
        same = np.flatnonzero(np.diff(keys[order]) == 0)
        if len(same):
            for k in order[same + 1].tolist()[:1000]:
                table.error(int(rows[k]), None, f"{cells.text(k)} is given twice")
            table.raised()
        cells, values = cells.take(order), values[order]
    return Data(cells, values, unit)
