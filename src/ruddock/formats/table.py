"""The coefficient table: one column per decision, then relation and limit; one row per constraint."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.sparse import coo_matrix

from ruddock.errors import FormatError, known, listed, together
from ruddock.formats.files import write_text, written_whole
from ruddock.formats.limits import refuse_unwritable
from ruddock.modelling.arrays import RELATIONS
from ruddock.modelling.axis import Axis
from ruddock.modelling.decisions import KIND_CODES
from ruddock.modelling.model import Model
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

GOALS = ("minimize", "minimise", "min", "maximize", "maximise", "max")
BOUNDS = ("lower", "upper", "kind")
WORDS = {"relation": ("relation", "sense", "sign"), "limit": ("limit", "rhs", "right side")}


def address(row: int, column: int) -> str:
    """Return a cell's address as in a spreadsheet; both count from 0.

    >>> address(6, 2), address(0, 27)
    ('C7', 'AB1')
    """
    letters = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(65 + rest) + letters
    return f"{letters}{row + 1}"


def read_table(path: Path) -> Model:
    """Read a coefficient table from a ``.csv`` or ``.xlsx`` file."""
    try:
        if path.suffix.lower() == ".csv":
            frame = pd.read_csv(
                path, header=None, dtype=str, keep_default_na=False, skip_blank_lines=False, encoding="utf-8-sig"
            )
        else:
            frame = pd.read_excel(path, header=None, dtype=object)
    except (ValueError, OSError, KeyError, pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        raise FormatError(f"cannot be read as a table: {str(error).splitlines()[0]}", path=str(path)) from None
    cells = [[cell_text(value) for value in row] for row in frame.itertuples(index=False)]
    return table_model(cells, str(path), path.stem)


def from_frame(frame: pd.DataFrame, name: str) -> Model:
    """Return the model of a coefficient table held as a DataFrame; its index names the rows."""
    head = ["", *(str(column) for column in frame.columns)]
    rows = zip(frame.index, frame.itertuples(index=False), strict=True)
    body = [[str(label), *(cell_text(value) for value in row)] for label, row in rows]
    return table_model([head, *body], "table", name)


def cell_text(value: Any) -> str:
    """Return what a cell holds as text; nothing for an empty one, no decimals for a integer."""
    if value is None or value is pd.NA or value != value:
        return ""
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return str(value).strip()


class _Table:
    """The cells of a table, with errors that name addresses."""

    def __init__(self, cells: list[list[str]], path: str) -> None:
        self.cells, self.path = cells, path
        self.errors: list[FormatError] = []

    def error(self, row: int, column: int, message: str) -> None:
        self.errors.append(FormatError(f"{address(row, column)}: {message}", path=self.path, line=row + 1))

    def number(self, row: int, column: int, absent: float = 0.0) -> float:
        text = self.cells[row][column]
        if text in ("", "-"):
            return absent
        try:
            value = float(text.replace("−", "-"))
        except ValueError:
            hint = "; write 1234.5 without separators" if re.fullmatch(r"[\d.,' ]+", text) else ""
            self.error(row, column, f"{text!r} is not a number{hint}")
            return absent
        if value != value:
            self.error(row, column, "NaN is not a number")
            return absent
        return value


def table_model(cells: list[list[str]], path: str, name: str) -> Model:
    """Return the model of a table of text cells; the first row that is not empty holds the headings.

    Raises
    ------
    FormatError
        With the addresses of all wrong cells.
    """
    table = _Table(cells, path)
    top = next((i for i, row in enumerate(cells) if any(row)), None)
    if top is None:
        raise FormatError("the table is empty", path=path)
    heads = [text.strip() for text in cells[top]]
    relation, limit = (_heading(heads, word, path) for word in ("relation", "limit"))
    columns = [j for j in range(1, len(heads)) if j not in (relation, limit) and heads[j]]
    names = [heads[j] for j in columns]
    for j in columns:
        if names.count(heads[j]) > 1 and j != columns[names.index(heads[j])]:
            table.error(top, j, f"the decision {heads[j]!r} appears twice")
    if not columns:
        raise FormatError("no column holds a decision", path=path)
    parts = _read_rows(table, top, columns, relation, limit)
    if table.errors:
        raise together(table.errors)
    return _assemble(name, names, parts)


def _heading(heads: list[str], word: str, path: str) -> int:
    for j, head in enumerate(heads):
        if head.lower() in WORDS[word]:
            return j
    raise FormatError(f"column {word!r} not found; the headings are {listed(filter(None, heads))}", path=path)


def _read_rows(table: _Table, top: int, columns: list[int], relation: int, limit: int) -> dict[str, Any]:
    n = len(columns)
    parts: dict[str, Any] = {
        "costs": None, "maximize": False, "lower": np.zeros(n), "upper": np.full(n, np.inf), "offset": 0.0,
        "kinds": np.zeros(n, np.uint8), "rows": [], "names": [], "low": [], "high": [], "goal": "objective",
    }  # fmt: skip
    for i in range(top + 1, len(table.cells)):
        row = table.cells[i]
        label = row[0] or f"row_{i + 1}"
        if not any(row):
            continue
        word = label.lower()
        if word in GOALS:
            if parts["costs"] is not None:
                table.error(i, 0, "a second objective")
            parts["costs"] = [table.number(i, j) for j in columns]
            parts["maximize"] = word.startswith("max")
            parts["offset"] = table.number(i, limit)
        elif word in ("lower", "upper"):
            absent = 0.0 if word == "lower" else np.inf
            parts[word] = np.array([table.number(i, j, absent) for j in columns])
        elif word == "kind":
            parts["kinds_row"] = i
        else:
            sign = row[relation]
            if sign not in RELATIONS:
                table.error(
                    i, relation, f"{sign!r} is not a relation; write <=, >= or =" if sign else "the relation is missing"
                )
                continue
            if not row[limit]:
                table.error(i, limit, "the limit is missing")
            if label in parts["names"]:
                table.error(i, 0, f"the constraint {label!r} appears twice")
            value, plain = table.number(i, limit), RELATIONS[sign]
            parts["names"].append(label)
            parts["rows"].append([table.number(i, j) for j in columns])
            parts["low"].append(-np.inf if plain == "<=" else value)
            parts["high"].append(np.inf if plain == ">=" else value)
    if "kinds_row" in parts:
        _read_kinds(table, parts, columns)
    for k, j in enumerate(columns):
        if parts["lower"][k] > parts["upper"][k]:
            table.error(top, j, f"the lower bound {parts['lower'][k]:g} is above the upper bound {parts['upper'][k]:g}")
    return parts


def _read_kinds(table: _Table, parts: dict[str, Any], columns: list[int]) -> None:
    i = parts["kinds_row"]
    for k, j in enumerate(columns):
        word = table.cells[i][j].lower() or "continuous"
        if word not in KIND_CODES:
            table.error(i, j, f"{word!r} is not a kind; {known(word, KIND_CODES)}")
            continue
        parts["kinds"][k] = KIND_CODES[word]
        if word == "binary":
            parts["lower"][k], parts["upper"][k] = 0.0, 1.0


def _assemble(name: str, names: list[str], parts: dict[str, Any]) -> Model:
    n, m = len(names), len(parts["rows"])
    sign = -1.0 if parts["maximize"] else 1.0
    costs = sign * np.array(parts["costs"] or [0.0] * n)
    matrix = np.array(parts["rows"], float).reshape(m, n)
    problem = Problem.build(
        coo_matrix(matrix), np.array(parts["low"]), np.array(parts["high"]), parts["lower"], parts["upper"],
        costs, parts["kinds"], sign * parts["offset"],
    )  # fmt: skip
    model = Model._from_problem(
        name, problem, Axis("column", names), Axis("row", parts["names"]), "objective", maximize=parts["maximize"]
    )
    if parts["costs"] is None:
        model.remove("objective")
    return model


def write_table(model: Model, path: Path) -> None:
    """Write a model as a coefficient table, ``.csv`` or ``.xlsx``.

    Raises
    ------
    FormatError
        If the model is too wide, or has what a table cannot say.
    """
    frame = to_frame(model, str(path))
    if path.suffix.lower() == ".csv":
        write_text(path, frame.to_csv(index_label="row"))
        return
    # pandas takes whatever package it finds, and some make a formula of the relation =
    with written_whole(path, ".xlsx") as temporary, pd.ExcelWriter(temporary, engine="openpyxl") as writer:
        frame.to_excel(writer, index_label="row", sheet_name="model", freeze_panes=(1, 1))
        sheet = writer.sheets["model"]
        for cell in (*sheet[1], *sheet["A"]):
            cell.data_type = "s"  # names stay text, whatever they begin with


def to_frame(model: Model, path: str = "table") -> pd.DataFrame:
    """Return the coefficient table of a model as a DataFrame."""
    formulation = model.formulation()
    refuse_unwritable(formulation, "a table", path)
    problem, names = model.problem(), formulation.decision_names
    if problem.m * problem.n > 5_000_000:
        raise FormatError(f"a table of {problem.m:,} x {problem.n:,} is too large; write .mps or .json", path=path)
    if (problem.kinds == (INTEGER | SEMICONTINUOUS)).any():
        raise FormatError("a table has no kind for semicontinuous integers; write .mps or .json", path=path)
    taken = [name for name in formulation.constraint_names if name.strip().lower() in (*GOALS, *BOUNDS, "")]
    if taken:
        raise FormatError(f"a constraint called {taken[0]!r} would be read as something else; rename it", path=path)
    headed = {word for words in WORDS.values() for word in words}
    taken = [name for name in names if name.strip().lower() in (*headed, "") or name != name.strip()]
    if taken:
        raise FormatError(f"a decision called {taken[0]!r} would be read as something else; rename it", path=path)
    twice = [name for name in formulation.constraint_names if f"{name} (upper)" in set(formulation.constraint_names)]
    if twice:
        raise FormatError(f"the two sides of {twice[0]!r} would be read as {twice[0]} (upper); rename one", path=path)
    maximize = bool(formulation.objectives) and formulation.objectives[0].maximize
    sign = -1.0 if maximize else 1.0
    rows: list[list[Any]] = []
    labels: list[str] = []
    if formulation.objectives:
        labels.append("maximize" if maximize else "minimize")
        rows.append([*(sign * problem.costs).tolist(), "", sign * problem.offset or ""])
    dense = problem.matrix().toarray()
    for i, name in enumerate(formulation.constraint_names):
        low, high = float(problem.row_lower[i]), float(problem.row_upper[i])
        if np.isinf(low) and np.isinf(high):
            continue
        values = dense[i].tolist()
        sides = [("=", low)] if low == high else [(s, v) for s, v in ((">=", low), ("<=", high)) if np.isfinite(v)]
        for place, (relation, limit) in enumerate(sides):
            labels.append(name if not place else f"{name} (upper)")
            rows.append([*values, relation, limit])
    labels += ["lower", "upper"]
    rows += [[*problem.lower.tolist(), "", ""], [*("" if np.isinf(v) else v for v in problem.upper.tolist()), "", ""]]
    if problem.discrete:
        words = {0: "continuous", INTEGER: "integer", SEMICONTINUOUS: "semicontinuous"}
        labels.append("kind")
        rows.append([*(words[int(k)] for k in problem.kinds), "", ""])
    return pd.DataFrame(rows, index=labels, columns=[*names, "relation", "limit"])


def fill_table(plan: Plan, source: Path, target: Path) -> None:
    """Write a copy of a ``.xlsx`` table with values, activity and slack filled in; the source is untouched.

    Raises
    ------
    FormatError
        If the source is no workbook, or target and source are the same file.
    """
    from openpyxl import load_workbook

    if source.suffix.lower() != ".xlsx" or target.suffix.lower() != ".xlsx":
        raise FormatError("a table is filled in as a copy of one .xlsx file in another", path=str(source))
    if source.resolve() == target.resolve():
        raise FormatError("the filled copy must be another file than the table itself", path=str(target))
    values = plan.decisions()["value"]
    rows = plan.constraints()
    activity, slack = rows["left"].to_dict(), rows["slack"].to_dict()
    book = load_workbook(source)
    sheet = book.worksheets[0]
    top = next(row for row in range(1, sheet.max_row + 1) if any(cell.value not in (None, "") for cell in sheet[row]))
    width, below = sheet.max_column, sheet.max_row + 1
    sheet.cell(top, width + 1, "activity")
    sheet.cell(top, width + 2, "slack")
    sheet.cell(below, 1, "value")
    for column in range(2, width + 1):
        name = str(sheet.cell(top, column).value or "").strip()
        if name in values.index:
            sheet.cell(below, column, float(values[name]))
    for row in range(top + 1, below):
        name = cell_text(sheet.cell(row, 1).value) or f"row_{row}"
        if name in activity:
            sheet.cell(row, width + 1, float(activity[name]))
            sheet.cell(row, width + 2, float(slack[name]))
        elif name.lower() in GOALS:
            sheet.cell(row, width + 1, plan.objective)
    with written_whole(target) as temporary:
        book.save(temporary)
