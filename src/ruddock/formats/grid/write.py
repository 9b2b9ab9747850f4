"""Writing a model as a grid in our own form, which reads back to the last digit."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, Literal

import numpy as np

from ruddock.errors import FormatError
from ruddock.files import write_text, written_whole
from ruddock.formats.grid.own import CONSTRAINTS, DECISIONS, NONE
from ruddock.formats.grid.words import CODES, quoted
from ruddock.formats.grid.xml import copied, with_cells
from ruddock.formats.limits import refuse_unwritable
from ruddock.modelling.model import Model

MOST_CELLS = 5_000_000
MOST_CHARACTERS = 32_767  # in a cell, as spreadsheets have it
OTHER_SEPARATORS = "\t;|"
Rows = list[list[Any]]


def write_grid(model: Model, path: Path) -> None:
    """Write a model as a coefficient grid, ``.csv``, ``.xlsx`` or ``.ods``.

    Raises
    ------
    FormatError
        If the model is too wide, has what a grid cannot say, or a name is too long for a cell.
    """
    constraints, decisions = blocks(model, str(path))
    if path.suffix.lower() == ".csv":
        rows = [*constraints, [], *decisions]
        held = io.StringIO()
        if any(sign in cell for row in rows for cell in row if isinstance(cell, str) for sign in OTHER_SEPARATORS):
            held.write("sep=,\n")  # a name must not be taken for several columns
        csv.writer(held, lineterminator="\n").writerows(rows)
        write_text(path, held.getvalue())
        return
    for text in (cell for row in (*constraints, *decisions) for cell in row if isinstance(cell, str)):
        if len(text) > MOST_CHARACTERS:  # which would be cut
            message = f"{text[:40]}... has {len(text):,} characters, a cell of a workbook holds {MOST_CHARACTERS:,}"
            raise FormatError(f"{message}: write .csv or .json", path=str(path))
    with written_whole(path, path.suffix) as temporary:
        _write_book(temporary, {CONSTRAINTS: constraints, DECISIONS: decisions})


def _write_book(path: Path, sheets: dict[str, Rows]) -> None:
    import pandas as pd

    engine: Literal["odf", "openpyxl"] = "odf" if path.suffix.lower() == ".ods" else "openpyxl"
    held = io.BytesIO()  # an archive on a disk that is full could not even be closed
    with pd.ExcelWriter(held, engine=engine) as book:
        for name, rows in sheets.items():
            pd.DataFrame(rows).to_excel(book, sheet_name=name, index=False, header=False, freeze_panes=(1, 1))
            if engine == "openpyxl":
                for row in book.sheets[name].iter_rows():
                    for cell in row:
                        if isinstance(cell.value, str):
                            cell.data_type = "s"  # names stay text, whatever they begin with
    path.write_bytes(held.getvalue())
    if engine == "openpyxl":
        _to_the_last_digit(path, list(sheets.values()))


def _to_the_last_digit(path: Path, sheets: list[Rows]) -> None:
    """Write numbers again that the package rounded to 16 digits."""
    changes: dict[str, Callable[[bytes], bytes]] = {}
    for number, rows in enumerate(sheets, 1):
        rounded = {
            (i, j): value
            for i, row in enumerate(rows)
            for j, value in enumerate(row)
            if isinstance(value, float) and float(f"{value:.16g}") != value
        }
        if rounded:
            changes[f"xl/worksheets/sheet{number}.xml"] = partial(with_cells, cells=rounded)
    if changes:
        copied(path, path, changes)


def blocks(model: Model, path: str = "grid") -> tuple[Rows, Rows]:
    """Return the rows of both blocks: constraints, and decisions."""
    formulation = model.formulation()
    refuse_unwritable(formulation, "a grid", path)
    problem = model.problem()
    if problem.m * problem.n > MOST_CELLS:
        raise FormatError(f"a grid of {problem.m:,} x {problem.n:,} is too large; write .mps or .json", path=path)
    names = [quoted(name) for name in formulation.decision_names]
    dense = problem.matrix().toarray()
    constraints: Rows = [[CONSTRAINTS, *names, "at least", "at most"]]
    for i, name in enumerate(formulation.constraint_names):
        low, high = float(problem.row_lower[i]), float(problem.row_upper[i])
        constraints.append([quoted(name), *map(_shown, dense[i].tolist()), _limit(low), _limit(high)])
    goal = formulation.objectives[0] if formulation.objectives else None
    sign = -1.0 if goal is not None and goal.maximize else 1.0
    heads = [] if goal is None else [f"{'maximize' if goal.maximize else 'minimize'} {goal.name}"]
    words = {code: word for word, code in CODES.items() if word not in ("free", "binary")}
    decisions: Rows = [[DECISIONS, *heads, "lower", "upper", "kind"]]
    for j, name in enumerate(names):
        costs = [] if goal is None else [_shown(sign * float(problem.costs[j]) + 0.0)]
        lower = float(problem.lower[j])
        bounds = [NONE if np.isinf(lower) else _number(lower), _limit(float(problem.upper[j]))]
        decisions.append([name, *costs, *bounds, words[int(problem.kinds[j])]])
    if goal is not None and problem.offset:
        decisions.append(["constant", sign * problem.offset, "", "", ""])
    return constraints, decisions


def _shown(value: float) -> float | int | str:
    return _number(value) if value else ""


def _limit(value: float) -> float | int | str:
    return "" if np.isinf(value) else _number(value)


def _number(value: float) -> float | int:
    """Return a number as it is typed: without decimals where it has none."""
    return int(value) if value.is_integer() and abs(value) < 2**53 else value
