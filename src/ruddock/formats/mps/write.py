"""Writing MPS files in free form."""

from __future__ import annotations

import re
import warnings
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ruddock.characters import ACTING, visible
from ruddock.errors import RuddockWarning, listed
from ruddock.files import write_text
from ruddock.formats.limits import refuse_unwritable
from ruddock.modelling.lowering import lowered
from ruddock.problem import INTEGER, SEMICONTINUOUS, Problem

if TYPE_CHECKING:
    from ruddock.modelling.model import Model


def write_mps(model: Model, path: Path) -> None:
    """Write a model as an MPS file in free form, numbers to the last digit.

    Names with blanks get ``_`` for them, and a warning tells which.

    Raises
    ------
    FormatError
        If the model has what an MPS file cannot hold: rules, curves, several objectives.
    """
    formulation = model.formulation()
    refuse_unwritable(formulation, "an MPS file", str(path))
    objective = formulation.first_objective
    problem = lowered(formulation).problem(objective)
    goal = objective.name if objective else "objective"
    rows, goal = _rows_with_goal(formulation.constraint_names, goal)
    columns = _plain(formulation.decision_names)
    maximize = objective is not None and objective.maximize
    lines = [f"NAME {' '.join(visible(model.name).split())}"]
    if maximize:
        lines += ["OBJSENSE", "    MAX"]
    lines += ["ROWS", f" N {goal}", *_rows(problem, rows)]
    lines += ["COLUMNS", *_columns(problem, columns, rows, goal, -1.0 if maximize else 1.0)]
    lines += ["RHS", *_right_sides(problem, rows, goal, -1.0 if maximize else 1.0)]
    lines += _section("RANGES", _ranges(problem, rows))
    lines += _section("BOUNDS", _bounds(problem, columns))
    lines.append("ENDATA")
    write_text(path, "\n".join(lines) + "\n")


def _section(title: str, lines: list[str]) -> list[str]:
    return [title, *lines] if lines else []


def _rows_with_goal(names: list[str], goal: str) -> tuple[list[str], str]:
    plain = _plain([*names, goal])
    return plain[:-1], plain[-1]


def _plain(names: list[str]) -> list[str]:
    """Return names without blanks, still all different; tell which were changed."""
    result, taken = [], set(names)
    changed = {}
    for name in names:
        plain = re.sub(r"\s", "_", ACTING.sub("_", name)) or "_"
        if plain[0] in "*$":
            plain = "_" + plain
        if plain != name or name in changed:
            base, k = plain, 1
            while plain in taken:
                k += 1
                plain = f"{base}_{k}"
            taken.add(plain)
            changed[name] = plain
        result.append(plain)
    if len(set(result)) < len(result):  # an objective called like a constraint
        result[-1] += "_"
        while result[-1] in taken:
            result[-1] += "_"
    if changed:
        shown = listed(f"{old!r} as {new!r}" for old, new in changed.items())
        warnings.warn(
            f"names with blanks or control characters were written differently: {shown}", RuddockWarning, stacklevel=5
        )
    return result


def _kind(low: float, high: float) -> str:
    if low == high:
        return "E"
    if np.isinf(low) and np.isinf(high):
        return "N"
    return "G" if np.isinf(high) else "L"


def _rows(problem: Problem, names: list[str]) -> list[str]:
    limits = zip(problem.row_lower.tolist(), problem.row_upper.tolist(), names, strict=True)
    return [f" {_kind(low, high)} {name}" for low, high, name in limits]


def _columns(problem: Problem, columns: list[str], rows: list[str], goal: str, sign: float) -> list[str]:
    lines: list[str] = []
    starts, costs = problem.starts.tolist(), (sign * problem.costs).tolist()
    index, values = problem.indices.tolist(), problem.values.tolist()
    integer = ((problem.kinds & INTEGER) != 0).tolist()
    inside, marker = False, 0
    for j, name in enumerate(columns):
        if integer[j] != inside:
            inside = integer[j]
            lines.append(f" MARKER{marker} 'MARKER' {chr(39)}{'INTORG' if inside else 'INTEND'}{chr(39)}")
            marker += 1
        begin, end = starts[j], starts[j + 1]
        if costs[j] or begin == end:
            lines.append(f" {name} {goal} {costs[j]!r}")
        lines += [f" {name} {rows[index[k]]} {values[k]!r}" for k in range(begin, end)]
    if inside:
        lines.append(f" MARKER{marker} 'MARKER' 'INTEND'")
    return lines


def _right_sides(problem: Problem, rows: list[str], goal: str, sign: float) -> list[str]:
    lines = [f" RHS {goal} {-sign * problem.offset!r}"] if problem.offset else []
    for low, high, name in zip(problem.row_lower.tolist(), problem.row_upper.tolist(), rows, strict=True):
        limit = low if np.isinf(high) else high
        if limit and np.isfinite(limit):
            lines.append(f" RHS {name} {limit!r}")
    return lines


def _ranges(problem: Problem, rows: list[str]) -> list[str]:
    limits = zip(problem.row_lower.tolist(), problem.row_upper.tolist(), rows, strict=True)
    return [f" RANGE {name} {high - low!r}" for low, high, name in limits if np.isfinite(low + high) and low != high]


def _bounds(problem: Problem, columns: list[str]) -> list[str]:
    lines: list[str] = []
    parts = zip(columns, problem.lower.tolist(), problem.upper.tolist(), problem.kinds.tolist(), strict=True)
    for name, low, high, mark in parts:
        if mark & SEMICONTINUOUS:
            if low:
                lines.append(f" LO BOUND {name} {low!r}")
            lines.append(f" SC BOUND {name} {'1e30' if np.isinf(high) else repr(high)}")
        elif low == high:
            lines.append(f" FX BOUND {name} {low!r}")
        elif np.isneginf(low) and np.isposinf(high):
            lines.append(f" FR BOUND {name}")
        else:
            if np.isneginf(low):
                lines.append(f" MI BOUND {name}")
            elif low:
                lines.append(f" LO BOUND {name} {low!r}")
            if np.isfinite(high):
                lines.append(f" UP BOUND {name} {high!r}")
    return lines
