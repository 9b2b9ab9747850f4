"""A model as a JSON document, format ``ruddock-model/1``: everything as written, nothing lost."""

from __future__ import annotations

import json
import re
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from ruddock.characters import escaped
from ruddock.errors import DataError, FormatError, ModelError
from ruddock.files import read_text, write_text
from ruddock.formats.labels_json import axis_of, labels_document
from ruddock.formats.schemas.model import SCHEMA
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.curves import Curve
from ruddock.modelling.decisions import Decisions, goes_by_label, kinds_of
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Quantity, Ruled
from ruddock.modelling.model import Model
from ruddock.modelling.relation import Sides
from ruddock.modelling.rules import Either, Implication, Rule, Run, When
from ruddock.modelling.terms import Terms
from ruddock.problem import Floats

FORMAT = "ruddock-model/1"
HALF = re.compile(r"\\u[dD][89a-fA-F]")  # of a character that JSON may write in two parts
PLAIN: dict[str, tuple[type, ...]] = {  # exactly these: True is not taken for an integer
    "number": (int, float), "integer": (int,), "null": (type(None),), "string": (str,), "boolean": (bool,),
}  # fmt: skip


def write_model_json(model: Model, path: Path) -> None:
    """Write a model as JSON, whole or not at all.

    Raises
    ------
    FormatError
        If a label has no form in JSON.
    """
    write_text(path, escaped(json.dumps(model_document(model), ensure_ascii=False, allow_nan=False, indent=1)) + "\n")


def model_document(model: Model) -> dict[str, Any]:
    """Return a model as plain data; an infinite number is null."""
    return _Writer(model.formulation()).document()


class _Writer:
    def __init__(self, formulation: Formulation) -> None:
        self.formulation = formulation
        self.axes: dict[str, Axis] = {}

    def document(self) -> dict[str, Any]:
        """Return the whole document."""
        f = self.formulation
        parts = {
            "decisions": [self.decisions(family) for family in f.decisions],
            "curves": [
                {
                    "name": c.name, "unit": c.unit, **self.cells(c.cells), "x": self.terms(c.x), "at": c.at.tolist(),
                    "values": c.values.tolist(),
                }
                for c in f.curves
            ],
            "objectives": [
                {
                    "name": goal.name, "maximize": goal.maximize, "unit": goal.unit, "single": goal.single,
                    "parts": {name: self.terms(part) for name, part in goal.parts.items()},
                }
                for goal in f.objectives
            ],
            "constraints": [
                {
                    "name": c.name, "unit": c.unit, "listed": c.listed, **self.cells(c.cells),
                    "sides": self.sides(c.sides),
                }
                for c in f.constraints
            ],
            "rules": [
                {"name": r.name, "unit": r.unit, **self.cells(r.cells), "rule": self.rule(r.rule)} for r in f.rules
            ],
            "quantities": [
                {"name": q.name, "unit": q.unit, **self.cells(q.cells), "terms": self.terms(q.terms)}
                for q in f.quantities
            ],
        }  # fmt: skip
        axes = {name: labels_document(axis) for name, axis in self.axes.items()}
        return {"format": FORMAT, "model": f.name, "axes": axes, **parts}

    def decisions(self, family: Decisions) -> dict[str, Any]:
        return {
            "name": family.name, "kind": family.kind, "kinds": kinds_of(family).tolist(), "unit": family.unit,
            "listed": goes_by_label(family), **self.cells(family.cells), "lower": _limits(family.lower),
            "upper": _limits(family.upper),
        }  # fmt: skip

    def cells(self, cells: Cells) -> dict[str, Any]:
        self.axes |= {axis.name: axis for axis in cells.axes}
        codes = None if cells.full else [part.tolist() for part in cells.codes]
        return {"axes": list(cells.names), "codes": codes}

    def terms(self, terms: Terms) -> dict[str, Any]:
        columns = self.formulation.columns_for(terms.columns, "the model")
        return {
            "rows": terms.rows.tolist(), "columns": columns.tolist(), "values": terms.values.tolist(),
            "constants": terms.constants.tolist(),
        }  # fmt: skip

    def sides(self, sides: Sides) -> dict[str, Any]:
        left = self.terms(_in_cells(sides.left, sides.cells))
        if sides.right is None:
            assert sides.low is not None
            assert sides.high is not None
            limits = {"low": _limits(sides.low), "high": _limits(sides.high)}
            return {"sense": sides.sense, "left": left, "right": None, **limits}
        right = _in_cells(sides.right, sides.cells)
        if not np.isfinite(right.constants).all():
            # JSON has no infinity: such a limit is written as a range, which says the same
            lower, upper = sides.bounds
            shift = sides.left.constants
            return {
                "sense": "between", "left": left, "right": None, "low": _limits(lower + shift),
                "high": _limits(upper + shift),
            }  # fmt: skip
        return {"sense": sides.sense, "left": left, "right": self.terms(right)}

    def rule(self, rule: Rule) -> dict[str, Any]:
        if isinstance(rule, When):
            condition = {"terms": self.terms(rule.condition), **self.cells(rule.condition.cells)}
            return {"rule": "if", "condition": condition, "relation": self.sides(rule.relation)}
        if isinstance(rule, Implication):
            condition = self.sides(rule.condition)
            relation = self.sides(rule.relation)
            return {"rule": "if relation", "condition": condition, "strict": rule.strict, "relation": relation}
        if isinstance(rule, Either):
            return {"rule": "either", "relations": [self.sides(relation) for relation in rule.relations]}
        assert isinstance(rule, Run)
        on = self.terms(rule.on)
        return {
            "rule": rule.word,
            "on": on,
            "axis": rule.axis.name,
            "least": int(rule.least),
            "before": int(rule.before),
        }


def _limits(values: Floats) -> list[float | None]:
    return [value if np.isfinite(value) else None for value in values.tolist()]


def _in_cells(terms: Terms, cells: Cells) -> Terms:
    """Return terms row by row as the cells are: both sides of a relation are in the same order."""
    if terms.cells is cells or terms.cells.size != cells.size:
        return terms
    place = terms.cells.lookup(cells)
    return terms if place is None or (place == np.arange(len(place))).all() else terms.gather(cells, place)


# ---------------------------------------------------------------------- reading


def read_model_json(path: Path) -> Model:
    """Read a model from JSON.

    Raises
    ------
    FormatError
        If it is not JSON, not a model of ours, or inconsistent.
    """
    text = read_text(path)
    try:
        document = json.loads(text, object_pairs_hook=_different_names, parse_constant=_no_number)
    except json.JSONDecodeError as error:
        lines = text.splitlines()
        shown = lines[error.lineno - 1][:100] if error.lineno <= len(lines) else None
        message = f"this is not JSON: {error.msg}"
        raise FormatError(message, path=str(path), line=error.lineno, column=error.colno, text=shown) from None
    except RecursionError:
        raise FormatError("this is nested too deep to be a model", path=str(path)) from None
    except ValueError as error:  # a name given twice, or a number of thousands of digits
        raise FormatError(f"this is not a model: {error}", path=str(path)) from None
    if HALF.search(text):
        try:
            json.dumps(document, ensure_ascii=False).encode()
        except UnicodeEncodeError as error:
            message = f"{error.object[error.start]!r} is half a character"
            raise FormatError(message, path=str(path)) from None
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise FormatError(f'this is JSON, but not a model: "format": "{FORMAT}" is missing', path=str(path))
    _check_schema(document, path)
    try:
        return _Reader(document).model()
    except (LookupError, TypeError, ValueError, OverflowError, AttributeError, ModelError, DataError) as error:
        raise FormatError(f"a part of the model does not fit the rest: {error}", path=str(path)) from None


def _different_names(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    """Return an object of a document; of a name given twice one value would be lost."""
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        raise ValueError(f"{next(name for name in names if names.count(name) > 1)!r} is given twice in one object")
    return found


def _no_number(word: str) -> float:
    raise ValueError(f"{word} is not a number in JSON")


def _check_schema(document: dict[str, Any], path: Path) -> None:
    """Raise `FormatError` with the place of the first part that the schema does not allow."""
    from jsonschema.exceptions import best_match

    error = best_match(_validator().iter_errors(document))
    if error is not None:
        place = "".join(f"[{part}]" if isinstance(part, int) else f".{part}" for part in error.absolute_path)
        message = error.message if len(error.message) < 200 else f"{error.message[:200]}..."
        raise FormatError(f"at {place.removeprefix('.') or 'the top'}: {message}", path=str(path))


@cache
def _validator() -> Any:
    """Return a validator that looks at a list of plain values as a whole, and one by one only if one is none."""
    from jsonschema import Draft202012Validator
    from jsonschema.validators import extend

    one_by_one = Draft202012Validator.VALIDATORS["items"]

    def items(validator: Any, each: Any, instance: Any, schema: Any) -> Any:
        return () if _plain_values(each, instance) else one_by_one(validator, each, instance, schema)

    return extend(Draft202012Validator, {"items": items})(SCHEMA)


def _plain_values(each: Any, instance: Any) -> bool:
    """Say whether this is a list of what a schema of nothing but types and a range of numbers allows."""
    if (
        not isinstance(instance, list)
        or not isinstance(each, dict)
        or not each.keys() <= {"type", "minimum", "maximum"}
    ):
        return False
    if "type" not in each:
        return False
    types = [each["type"]] if isinstance(each["type"], str) else each["type"]
    allowed = {python for name in types for python in PLAIN.get(name, ())}
    if not set(map(type, instance)) <= allowed:
        return False
    bounded = "minimum" in each or "maximum" in each
    return not bounded or not instance or (min(instance) >= each["minimum"] and max(instance) <= each["maximum"])


class _Reader:
    def __init__(self, document: dict[str, Any]) -> None:
        self.document = document
        self.read = Model(document["model"])
        self.registry = self.read._registry
        self.axes = {name: axis_of(name, held) for name, held in document["axes"].items()}

    def model(self) -> Model:
        """Return the whole model."""
        d = self.document
        sizes = [self.cells(part).size for part in d["decisions"]] + [self.cells(part).size for part in d["curves"]]
        self.registry.columns = sum(sizes)
        starts = np.cumsum([0, *sizes])
        for part, first in zip(d["decisions"], starts, strict=False):
            self.keep(self.decisions(part, int(first)))
        for part, first in zip(d["curves"], starts[len(d["decisions"]) :], strict=False):
            self.keep(self.curve(part, int(first)))
        for part in d["objectives"]:
            parts = {name: self.terms(terms, Cells(())) for name, terms in part["parts"].items()}
            self.keep(Objective(part["name"], part["maximize"], parts, part["unit"], part["single"]))
        for part in d["constraints"]:
            self.keep(
                Constraints(part["name"], self.sides(part["sides"], self.cells(part)), part["unit"], part["listed"])
            )
        for part in d["rules"]:
            self.keep(Ruled(part["name"], self.rule(part["rule"], self.cells(part)), part["unit"]))
        for part in d["quantities"]:
            self.keep(Quantity(part["name"], self.terms(part["terms"], self.cells(part)), part["unit"]))
        return self.read

    def keep(self, part: Any) -> None:
        if part.name in self.read:
            raise ValueError(f"the name {part.name!r} is given twice")
        self.read._keep(part, () if isinstance(part, Objective) else part.cells.axes)

    def decisions(self, part: dict[str, Any], first: int) -> Decisions:
        cells = self.cells(part)
        low, high = _numbers(part["lower"], -np.inf), _numbers(part["upper"], np.inf)
        kinds = np.array(part["kinds"], np.uint8)
        if not len(low) == len(high) == len(kinds) == cells.size:
            raise ValueError(f"{part['name']} has {cells.size} members and another number of bounds or kinds")
        if part["listed"] and len(cells.axes) != 1:
            raise ValueError(f"{part['name']} goes by its labels alone and needs one axis")
        if (low > high).any():
            raise ValueError(f"{part['name']} has a lower bound above the upper one")
        numbers = np.arange(first, first + cells.size, dtype=np.int64)
        return Decisions(
            self.registry, part["name"], cells, low, high, part["kind"], part["unit"], numbers=numbers,
            listed=part["listed"], kinds=kinds,
        )  # fmt: skip

    def curve(self, part: dict[str, Any], first: int) -> Curve:
        cells = self.cells(part)
        at, values = np.array(part["at"], np.float64), np.array(part["values"], np.float64)
        if at.ndim != 2 or at.shape != values.shape or at.shape[0] != cells.size or at.shape[1] < 2:
            raise ValueError(f"{part['name']} needs two or more corners for each of its {cells.size} members")
        if (np.diff(at, axis=1) < 0).any():
            raise ValueError(f"{part['name']}: x of the corners rises")
        numbers = np.arange(first, first + cells.size, dtype=np.int64)
        return Curve(part["name"], self.terms(part["x"], cells), at, values, numbers, part["unit"])

    def cells(self, part: dict[str, Any]) -> Cells:
        chosen = [self.axes[name] for name in part["axes"]]
        if len({axis.name for axis in chosen}) < len(chosen):
            raise ValueError("an axis is named twice")
        if part["codes"] is None:
            return Cells(chosen)
        codes = [np.array(column, np.int32) for column in part["codes"]]
        if len(codes) != len(chosen) or len({len(column) for column in codes}) > 1 or not chosen:
            raise ValueError("there are not as many codes for each axis")
        for axis, column in zip(chosen, codes, strict=True):
            if len(column) and column.max() >= len(axis):
                raise ValueError(f"a code of axis {axis.name} is outside its labels")
        cells = Cells(chosen, codes)
        if len(np.unique(cells.keys())) < cells.size:
            raise ValueError("a combination of labels is given twice")
        return cells

    def terms(self, part: dict[str, Any], cells: Cells) -> Terms:
        rows, columns = np.array(part["rows"], np.intp), np.array(part["columns"], np.int64)
        values, constants = np.array(part["values"], np.float64), np.array(part["constants"], np.float64)
        if not len(rows) == len(columns) == len(values):
            raise ValueError("rows, columns and values differ in length")
        if len(rows) and not (rows.max() < cells.size and columns.max() < self.registry.columns):
            raise ValueError("a term is outside the members or the decisions")
        if len(constants) != cells.size:
            raise ValueError("constants differ in number from the members")
        if not (np.isfinite(values).all() and np.isfinite(constants).all()):
            raise ValueError("a coefficient or constant is not finite")
        return Terms(self.registry, cells, rows, columns, values, constants, summed=True)

    def sides(self, part: dict[str, Any], cells: Cells) -> Sides:
        left = self.terms(part["left"], cells)
        if (part["sense"] == "between") != (part["right"] is None):
            raise ValueError("a range has no right side, and everything else has one")
        if part["right"] is not None:
            return Sides(left, part["sense"], self.terms(part["right"], cells))
        low, high = _numbers(part["low"], -np.inf), _numbers(part["high"], np.inf)
        if not len(low) == len(high) == cells.size:
            raise ValueError("limits differ in number from the members")
        return Sides(left, "between", None, low, high)

    def rule(self, part: dict[str, Any], cells: Cells) -> Rule:
        if part["rule"] == "if":
            condition = self.terms(part["condition"]["terms"], self.cells(part["condition"]))
            return When(condition, self.sides(part["relation"], cells))
        if part["rule"] == "if relation":
            return Implication(
                self.sides(part["condition"], cells), part["strict"], self.sides(part["relation"], cells)
            )
        if part["rule"] == "either":
            return Either([self.sides(relation, cells) for relation in part["relations"]])
        return Run(
            self.terms(part["on"], cells), self.axes[part["axis"]], part["least"], part["rule"] == "run", part["before"]
        )


def _numbers(values: list[Any], absent: float) -> Floats:
    return np.array([absent if value is None else value for value in values], np.float64)
