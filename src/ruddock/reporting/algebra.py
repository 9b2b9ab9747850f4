"""A model written out as algebra: data filled in, long families and long rows elided in the middle."""

from __future__ import annotations

import numpy as np

from ruddock.errors import ModelError, known
from ruddock.modelling.decisions import Decisions
from ruddock.modelling.formulation import Constraints, Formulation
from ruddock.tables import number, plural

FAMILY = 4  # members shown of a family
TERMS = 8  # terms shown of a row
WIDTH = 108


def algebra(formulation: Formulation, name: str | None = None) -> str:
    """Return the algebra of a whole model, or in full of one family or member; see `Model.algebra`."""
    if name is not None:
        return "\n".join(_one(formulation, name))
    lines = [formulation.name]
    for objective in formulation.objectives:
        unit = f" ({objective.unit})" if objective.unit else ""
        lines += ["", f"{'maximize' if objective.maximize else 'minimize'} {objective.name}{unit}"]
        for part, expr in objective.parts.items():
            label = "" if objective.single else f"{part} : "
            lines += _wrapped(
                "  " + label, _terms(formulation, expr.columns, expr.values, float(expr.constants[0]), TERMS)
            )
    lines += ["", "require"] if formulation.constraints else []
    for family in formulation.constraints:
        lines += _family(formulation, family, FAMILY, TERMS)
    lines += ["", "decisions", *_decisions(formulation)]
    return "\n".join(lines)


def _one(formulation: Formulation, name: str) -> list[str]:
    for family in formulation.constraints:
        if name == family.name:
            return _family(formulation, family, None, None)
        members = family.members() if name.startswith(family.name + "[") or family.listed else []
        if name in members:
            return _row(formulation, family, members.index(name), name, None)
    for objective in formulation.objectives:
        if name == objective.name or name in objective.parts:
            lines = []
            for part, expr in objective.parts.items():
                if name in (objective.name, part):
                    terms = _terms(formulation, expr.columns, expr.values, float(expr.constants[0]), None)
                    lines += _wrapped(f"  {part} : ", terms)
            return lines
    names = [family.name for family in formulation.constraints]
    names += [part for objective in formulation.objectives for part in (objective.name, *objective.parts)]
    raise ModelError(f"there is no constraint or objective called {name!r}; {known(name, names)}")


def _family(formulation: Formulation, family: Constraints, most: int | None, terms: int | None) -> list[str]:
    size = family.cells.size
    shown = list(range(size))
    if most is not None and size > most + 1:
        shown = [*range(most - 1), size - 1]
    lines: list[str] = []
    for place, i in enumerate(shown):
        if place and i != shown[place - 1] + 1:
            lines.append(f"  ... {i - shown[place - 1] - 1:,} more of {family.name}")
        lines += _row(formulation, family, i, family.member(i), terms)
    return lines or [f"  {family.name} : no members"]


def _row(formulation: Formulation, family: Constraints, i: int, name: str, most: int | None) -> list[str]:
    expr = family.expression
    own = np.flatnonzero(expr.rows == i)
    low, high = float(family.lower[i]), float(family.upper[i])
    parts = _terms(formulation, expr.columns[own], expr.values[own], 0.0, most)
    if low == high:
        parts.append(f"= {number(low)}")
    elif np.isfinite(low) and np.isfinite(high):
        parts = [f"{number(low)} <=", *parts, f"<= {number(high)}"]
    elif np.isfinite(low):
        parts.append(f">= {number(low)}")
    elif np.isfinite(high):
        parts.append(f"<= {number(high)}")
    unit = f" ({family.unit})" if family.unit else ""
    return _wrapped(f"  {name}{unit} : ", parts)


def _terms(
    formulation: Formulation, numbers: np.ndarray, values: np.ndarray, constant: float, most: int | None
) -> list[str]:
    """Return the terms as text, each decision once, signs in front."""
    columns = formulation.columns_for(numbers, "the model")
    used, place = np.unique(columns, return_inverse=True)
    sums = np.bincount(place, values, len(used)) if len(used) else np.zeros(0)
    kept = np.flatnonzero(sums)
    shown = kept if most is None or len(kept) <= most + 1 else np.concatenate((kept[: most - 1], kept[-1:]))
    parts: list[str] = []
    for k in shown.tolist():
        if len(shown) < len(kept) and k == shown[-1]:
            parts.append(f"+ ... {len(kept) - len(shown):,} terms ...")
        family, at = formulation.member_at(int(used[k]))
        size = abs(float(sums[k]))
        factor = "" if size == 1 else f"{number(size)} "
        sign = "- " if sums[k] < 0 else "+ "
        parts.append(sign + factor + family.member(at))
    if constant or not parts:
        parts.append(f"{'-' if constant < 0 else '+'} {number(abs(constant))}")
    parts[0] = parts[0].removeprefix("+ ").replace("- ", "-", 1) if parts[0][:2] in ("+ ", "- ") else parts[0]
    return parts


def _wrapped(start: str, parts: list[str]) -> list[str]:
    """Join parts into lines of limited width, the later ones indented deeper."""
    lines, line = [], start
    for part in parts:
        if len(line) + len(part) > WIDTH and line.strip() and line != start:
            lines.append(line.rstrip())
            line = " " * 6
        line += part + " "
    return [*lines, line.rstrip()]


def _decisions(formulation: Formulation) -> list[str]:
    lines = []
    for family in formulation.decisions:
        axes = f"[{', '.join(family.cells.names)}]" if family.axes else ""
        unit = f" ({family.unit})" if family.unit else ""
        count = f"   # {plural(len(family), 'member')}" if family.axes else ""
        lines.append(f"  {family.name}{axes}{unit} {_domain(family)}{count}")
    return lines


def _domain(family: Decisions) -> str:
    kind = "" if family.kind == "continuous" else family.kind + " "
    if family.kind == "binary" or not len(family):
        return kind.strip() or "continuous"
    lows, highs = np.unique(family.lower), np.unique(family.upper)
    low = number(float(lows[0])) if len(lows) == 1 else f"{number(float(lows[0]))} to {number(float(lows[-1]))}"
    high = number(float(highs[0])) if len(highs) == 1 else f"{number(float(highs[0]))} to {number(float(highs[-1]))}"
    if np.isneginf(lows[0]) and np.isposinf(highs[0]):
        return (kind + "free").strip()
    if np.isposinf(highs[-1]) and len(highs) == 1:
        return f"{kind}>= {low}"
    return f"{kind}{low} .. {high}"
