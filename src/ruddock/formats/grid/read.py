"""Reading a coefficient grid: rows are recognised by their words, and what was recognised is reported."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pandas as pd

from ruddock.document.numbers import plural
from ruddock.errors import FormatError, known, together
from ruddock.formats.grid.find import Grid, find_grid, which_grid
from ruddock.formats.grid.own import read_own
from ruddock.formats.grid.parts import Parts
from ruddock.formats.grid.words import (
    ENDLESS,
    KIND,
    KINDS,
    LOWER,
    SIGNS,
    UNUSED,
    UPPER,
    goal_of,
    means,
    unquoted,
)
from ruddock.formats.tables.layout import is_total, plain
from ruddock.formats.tables.numerals import is_numeral, read_numerals, too_large
from ruddock.formats.tables.sheets import FrameSheet, Sheet, address
from ruddock.formats.tables.sources import TableSource
from ruddock.formats.tables.tables import Tables, name_of
from ruddock.modelling.model import Model


def read_grid(path: Path, sheet: str | None = None) -> Model:
    """Read a coefficient grid from a text file or a workbook.

    Parameters
    ----------
    path : Path
    sheet : str, optional
        Of a workbook with several grids.

    Raises
    ------
    FormatError
        If no grid is found, or with the cells of all that is wrong in it.
    """
    return _model(list(Tables().candidates(TableSource(str(path), sheet=sheet))), str(path), path.stem)


def from_frame(frame: pd.DataFrame, name: str) -> Model:
    """Return the model of a coefficient grid held as a DataFrame; its index names the rows."""
    held = frame.rename_axis("") if frame.index.name is None else frame
    return _model([FrameSheet("table", held.reset_index())], "table", name)


def read_cells(sheets: list[Sheet], path: str) -> Reading:
    """Return the grid of a file with the cells that it was read from."""
    return Reading(_grid(sheets, path))


def _model(sheets: list[Sheet], path: str, name: str) -> Model:
    own = read_own(sheets)
    if own is not None:
        return own.model(name)
    grid = _grid(sheets, path)
    reading = Reading(grid)
    return reading.parts.model(name, notes=reading.notes(len(sheets) > 1))


def _grid(sheets: list[Sheet], path: str) -> Grid:
    found, errors = [], []
    for sheet in sheets:
        try:
            grid = find_grid(sheet)
        except FormatError as error:
            errors.append(error)
            continue
        if grid is not None:
            found.append(grid)
    if len(found) > 1:
        raise which_grid(found, path)
    if found:
        return found[0]
    if errors:
        raise errors[0]
    if not any(any(row) for sheet in sheets for row in sheet.head):
        raise FormatError("the table is empty", path=path)
    raise FormatError(
        "no coefficient grid found: it has a name over each column of coefficients, then a column of relations "
        "(<=, >=, =) and one of limits",
        path=path,
    )


class Reading:
    """A grid while it is read."""

    def __init__(self, grid: Grid) -> None:
        self.grid = grid
        self.errors: list[tuple[int, int, FormatError]] = []
        self.rows: dict[str, int] = {}  # constraints
        self.objective: int | None = None
        self.left_out: list[str] = []
        self.last = grid.header
        names = [unquoted(grid.text(grid.header, k)) for k in grid.columns]
        first: dict[str, int] = {}
        for k, name in zip(grid.columns, names, strict=True):
            if first.setdefault(name, k) != k:
                self.error(grid.header, k, f"the decision {name!r} appears twice")
        self.parts = Parts(names)
        self._refused()
        self.numbers = self._numbers()
        for row in range(grid.header + 1, len(grid.cells)):
            if any(value not in (None, "") for value in grid.cells[row]):
                self._row(row)
        self._crossed()
        if self.errors:
            raise together([error for _, _, error in sorted(self.errors, key=lambda found: found[:2])])

    def error(self, row: int, column: int, message: str) -> None:
        """Note an error at a cell."""
        self.errors.append((row, column, self.grid.sheet.cell_error(row, column, message)))

    def _refused(self) -> None:
        """Refuse cells of the rectangle that look blank and are not."""
        used = [*self.grid.columns, self.grid.label, self.grid.sign, self.grid.limit]
        for row, error in self.grid.sheet.refused(self.grid.header, used):
            self.errors.append((row + self.grid.header, -1, error))

    def _numbers(self) -> dict[tuple[int, int], float]:
        """Return the numbers of the rectangle; how decimals are written is decided by all of them."""
        grid = self.grid
        numbers: dict[tuple[int, int], float] = {}
        typed: list[tuple[int, int]] = []
        texts: list[str] = []
        for row in range(grid.header + 1, len(grid.cells)):
            held = grid.cells[row]
            for column in (*grid.columns, grid.limit):
                value = held[column] if column < len(held) else None
                if isinstance(value, bool):
                    self.error(row, column, f"{value} is not a number; write {int(value)}")
                elif isinstance(value, (int, float)):
                    if isinstance(value, int) and abs(value) > sys.float_info.max:
                        self.error(row, column, too_large(value))
                    elif value == value:
                        numbers[row, column] = float(value)
                elif isinstance(value, str) and is_numeral(value):
                    typed.append((row, column))
                    texts.append(value)
        found = read_numerals(texts, separator=grid.sheet.separator)
        for k, message in found.wrong:
            self.error(*typed[k], message)
        self.left_out += found.notes
        numbers.update(zip(typed, found.values.tolist(), strict=True))
        return numbers

    def number(self, row: int, column: int, absent: float = 0.0) -> float:
        """Return the number of a cell; a blank one is ``absent``."""
        value = self.numbers.get((row, column))
        if value is not None:
            return value
        text = self.grid.text(row, column)
        if text and text != "-":
            self.error(row, column, f"{text!r} is not a number")
        return absent

    # ------------------------------------------------------------------ rows

    def _row(self, row: int) -> None:
        """Read a row for what its words say that it is."""
        grid, parts = self.grid, self.parts
        label, sign = grid.text(row, grid.label), grid.text(row, grid.sign)
        relation = SIGNS.get(sign.casefold())
        filled = [k for k in grid.columns if grid.text(row, k)]
        goal = goal_of(label) or goal_of(sign)
        last, self.last = self.last, row
        if relation is not None:
            self._constraint(row, unquoted(label) or f"row_{row + 1}", relation)
        elif label and is_total(label):
            self.left_out.append(f"line {row + 1} with a total left out")
        elif goal is not None:
            if self.objective is not None:
                self.error(row, max(grid.label, 0), f"a second objective; the first is in line {self.objective + 1}")
            self.objective = row
            own = unquoted(label) if goal_of(label) is None else goal[1]
            parts.goal(goal[0], own, [self.number(row, k) for k in grid.columns], self.number(row, grid.limit))
        elif means(label, LOWER):
            parts.lower = np.array([self._bound(row, k, 0.0, -np.inf) for k in grid.columns])
        elif means(label, UPPER):
            parts.upper = np.array([self._bound(row, k, np.inf, np.inf) for k in grid.columns])
        elif means(label, KIND):
            self._kinds(row)
        elif means(label, UNUSED):
            pass
        elif sign:
            self.error(row, grid.sign, f"{sign!r} is not a relation; write <=, >= or =")
        elif any((row, k) in self.numbers for k in filled):
            if grid.text(row, grid.limit):
                self.error(row, grid.sign, "the relation is missing")
            else:
                objective = f"an objective is headed maximize {label} or minimize {label}"
                message = f"{label!r} has numbers and no relation: {objective}" if label else "the relation is missing"
                self.error(row, max(grid.label, 0), message)
        elif label or filled:
            self.last = last
            self.left_out.append(f"line {row + 1} not used: {(label or grid.text(row, filled[0]))[:40]!r}")

    def _constraint(self, row: int, name: str, relation: str) -> None:
        grid = self.grid
        if not grid.text(row, grid.limit):
            self.error(row, grid.limit, "the limit is missing")
        if name in self.rows:
            self.error(
                row,
                max(grid.label, 0),
                f"the constraint {name!r} appears twice; it is in line {self.rows[name] + 1} already",
            )
        self.rows[name] = row
        limit = self.number(row, grid.limit)
        self.parts.row(
            name,
            ((at, self.number(row, k)) for at, k in enumerate(grid.columns)),
            -np.inf if relation == "<=" else limit,
            np.inf if relation == ">=" else limit,
        )

    def _bound(self, row: int, column: int, absent: float, none: float) -> float:
        """Return a bound; a word such as ``none`` takes it away."""
        text = self.grid.text(row, column)
        if text and plain(text) in ENDLESS:
            return none
        return self.number(row, column, absent)

    def _kinds(self, row: int) -> None:
        for k, column in enumerate(self.grid.columns):
            word = self.grid.text(row, column)
            kind = KINDS.get(plain(word), KINDS.get(word.strip().casefold()))
            if kind is None:
                self.error(row, column, f"{word!r} is not a kind; {known(word, [w for w in KINDS.values() if w])}")
            else:
                self.parts.kind(k, kind)

    def _crossed(self) -> None:
        for k, column in enumerate(self.grid.columns):
            low, high = self.parts.lower[k], self.parts.upper[k]
            if low > high:
                self.error(self.grid.header, column, f"the lower bound {low:g} is above the upper bound {high:g}")

    def notes(self, several: bool) -> list[str]:
        """Return what was recognised, in sentences."""
        grid, parts = self.grid, self.parts
        where = f"{address(grid.header, grid.columns[0])}:{address(self.last, grid.limit)}"
        place = f"sheet {name_of(grid.sheet)}, " if several else ""
        goal = "no objective" if self.objective is None else (
            f"{'maximize' if parts.maximize else 'minimize'} {parts.objective} in line {self.objective + 1}"
        )  # fmt: skip
        size = f"{plural(len(parts.names), 'decision')} across, {plural(len(parts.rows), 'constraint')} down"
        return [f"grid in {place}{where}: {size}, {goal}", *grid.notes, *self.left_out]
