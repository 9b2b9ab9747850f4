"""A model as a JSON document, format ``ruddock-model/1``: families, axes and terms, nothing lost."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from ruddock.errors import DataError, FormatError, ModelError
from ruddock.formats.files import read_text, write_text
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.decisions import Decisions
from ruddock.modelling.expression import Expression
from ruddock.modelling.formulation import Constraints, Objective, Quantity
from ruddock.modelling.model import Model

FORMAT = "ruddock-model/1"


def write_model_json(model: Model, path: Path) -> None:
    """Write a model as JSON, whole or not at all."""
    write_text(path, json.dumps(model_document(model), ensure_ascii=False, allow_nan=False, indent=1) + "\n")


def model_document(model: Model) -> dict[str, Any]:
    """Return a model as plain data; an infinite number is null."""
    formulation = model.formulation()
    families: tuple[Any, ...] = (*formulation.decisions, *formulation.constraints)
    families += tuple(quantity.expression for quantity in formulation.quantities)
    axes = {axis.name: axis for family in families for axis in family.cells.axes}
    place = formulation.column_of
    return {
        "format": FORMAT,
        "model": formulation.name,
        "axes": {name: _labels(axis) for name, axis in axes.items()},
        "decisions": [
            {
                "name": family.name, "kind": family.kind, "unit": family.unit, "listed": family.listed,
                **_cells_document(family.cells), "lower": _plain(family.lower), "upper": _plain(family.upper),
                "marks": family.marks.tolist(),
            }
            for family in formulation.decisions
        ],
        "objectives": [
            {
                "name": goal.name, "maximize": goal.maximize, "unit": goal.unit, "single": goal.single,
                "parts": {name: _terms(part, place) for name, part in goal.parts.items()},
            }
            for goal in formulation.objectives
        ],
        "constraints": [
            {
                "name": family.name, "sense": family.sense, "unit": family.unit, "listed": family.listed,
                **_cells_document(family.cells), "lower": _plain(family.lower), "upper": _plain(family.upper),
                **_terms(family.expression, place, constants=False),
            }
            for family in formulation.constraints
        ],
        "quantities": [
            {"name": q.name, "unit": q.unit, **_cells_document(q.expression.cells), **_terms(q.expression, place)}
            for q in formulation.quantities
        ],
    }  # fmt: skip


def _labels(axis: Axis) -> dict[str, Any]:
    if isinstance(axis.labels, pd.DatetimeIndex):
        return {"dates": [label.isoformat() for label in axis.labels]}
    return {"labels": [label.item() if isinstance(label, np.generic) else label for label in axis.labels]}


def _cells_document(cells: Cells) -> dict[str, Any]:
    codes = None if cells.full else [part.tolist() for part in cells.codes]
    return {"axes": list(cells.names), "codes": codes}


def _plain(values: Any) -> list[float | None]:
    return [value if np.isfinite(value) else None for value in values.tolist()]


def _terms(expr: Expression, place: Any, *, constants: bool = True) -> dict[str, Any]:
    terms = {"rows": expr.rows.tolist(), "columns": place[expr.columns].tolist(), "values": expr.values.tolist()}
    return terms | {"constants": expr.constants.tolist()} if constants else terms


def read_model_json(path: Path) -> Model:
    """Read a model from JSON.

    Raises
    ------
    FormatError
        If it is no JSON, no model of ours, or inconsistent.
    """
    text = read_text(path)
    try:
        document = json.loads(text)
    except json.JSONDecodeError as error:
        lines = text.splitlines()
        shown = lines[error.lineno - 1][:100] if error.lineno <= len(lines) else None
        message = f"this is no JSON: {error.msg}"
        raise FormatError(message, path=str(path), line=error.lineno, column=error.colno, text=shown) from None
    except RecursionError:
        raise FormatError("this is nested too deep to be a model", path=str(path)) from None
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise FormatError(f'this is JSON, but no model: "format": "{FORMAT}" is missing', path=str(path))
    try:
        return _model(document)
    except (LookupError, TypeError, ValueError, OverflowError, AttributeError, ModelError, DataError) as error:
        message = f"a part of the model is missing or wrong: {type(error).__name__}: {error}"
        raise FormatError(message, path=str(path)) from None


def _model(document: dict[str, Any]) -> Model:
    model = Model(document["model"])
    axes = {}
    for name, held in document["axes"].items():
        axes[name] = Axis(name, pd.DatetimeIndex(held["dates"]) if "dates" in held else held["labels"])
    for part in document["decisions"]:
        cells = _cells(part, axes)
        low, high = _numbers(part["lower"], -np.inf), _numbers(part["upper"], np.inf)
        marks = np.array(part["marks"], np.uint8)
        if not len(low) == len(high) == len(marks) == cells.size:
            raise ValueError(f"{part['name']} has {cells.size} members and other numbers of bounds")
        model._parts[part["name"]] = Decisions(
            model, part["name"], cells, low, high, part["kind"], part["unit"],
            first=model.columns, listed=bool(part["listed"]), marks=marks,
        )  # fmt: skip
        model.columns += cells.size
    for part in document["objectives"]:
        parts = {name: _expression(model, terms, Cells(())) for name, terms in part["parts"].items()}
        model._parts[part["name"]] = Objective(
            part["name"], bool(part["maximize"]), parts, part["unit"], bool(part["single"])
        )
    for part in document["constraints"]:
        expr = _expression(model, part, _cells(part, axes))
        low, high = _numbers(part["lower"], -np.inf), _numbers(part["upper"], np.inf)
        if not len(low) == len(high) == expr.cells.size:
            raise ValueError(f"{part['name']} has {expr.cells.size} members and other numbers of limits")
        model._parts[part["name"]] = Constraints(
            part["name"], expr, low, high, part["sense"], part["unit"], bool(part["listed"])
        )
    for part in document["quantities"]:
        model._parts[part["name"]] = Quantity(part["name"], _expression(model, part, _cells(part, axes)), part["unit"])
    model.axes.update(axes)
    return model


def _cells(part: dict[str, Any], axes: dict[str, Axis]) -> Cells:
    chosen = [axes[name] for name in part["axes"]]
    if part["codes"] is None:
        return Cells(chosen)
    codes = [np.array(column, np.int32) for column in part["codes"]]
    for axis, column in zip(chosen, codes, strict=True):
        if len(column) and not (column.min() >= 0 and column.max() < len(axis)):
            raise ValueError(f"a code of axis {axis.name} is outside its labels")
    return Cells(chosen, codes)


def _numbers(values: list[Any], absent: float) -> Any:
    return np.array([absent if value is None else value for value in values], np.float64)


def _expression(model: Model, part: dict[str, Any], cells: Cells) -> Expression:
    rows, columns = np.array(part["rows"], np.intp), np.array(part["columns"], np.int64)
    values = np.array(part["values"], np.float64)
    if not len(rows) == len(columns) == len(values):
        raise ValueError("rows, columns and values differ in length")
    if len(rows) and not (
        rows.min() >= 0 and rows.max() < cells.size and columns.min() >= 0 and columns.max() < model.columns
    ):
        raise ValueError("a term stands outside the rows or the decisions")
    constants = np.array(part["constants"], np.float64) if "constants" in part else None
    if constants is not None and len(constants) != cells.size:
        raise ValueError("constants differ in number from the members")
    return Expression(model, cells, (rows, columns, values), constants, summed=True)
