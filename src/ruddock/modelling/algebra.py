"""A model written out as algebra: data filled in, long families and long rows elided in the middle."""

from __future__ import annotations

import numpy as np

from ruddock.document.numbers import as_written, plural
from ruddock.modelling.axis import quoted
from ruddock.modelling.decisions import Decisions
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Ruled
from ruddock.modelling.names import names_of
from ruddock.modelling.relation import Sides
from ruddock.modelling.rules import Curve, Either, Run, When
from ruddock.modelling.terms import Terms

FAMILY = 4  # members shown of a family
TERMS = 8  # terms shown of a row
RULE_TERMS = 4  # of a rule in one line
WIDTH = 108


def algebra(formulation: Formulation, name: str | None = None) -> str:
    """Return the algebra of a whole model, or in full of one family or member; see `Model.algebra`."""
    if name is not None:
        return "\n".join(_one(formulation, name))
    lines = [formulation.name]
    for objective in formulation.objectives:
        lines += ["", f"{objective.sense} {objective.name}{_unit(objective.unit)}"]
        for part, terms in objective.parts.items():
            lines += _part(formulation, objective, part, terms, TERMS)
    if formulation.quantities or formulation.curves:
        lines += ["", "quantities"]
        for quantity in formulation.quantities:
            lines += _members(formulation, quantity, FAMILY, TERMS)
        for curve in formulation.curves:
            lines += _members(formulation, curve, FAMILY, TERMS)
    lines += ["", "require"] if formulation.constraints or formulation.rules else []
    for family in (*formulation.constraints, *formulation.rules):
        lines += _members(formulation, family, FAMILY, TERMS)
    lines += ["", "decisions", *_decisions(formulation)]
    return "\n".join(lines)


def _one(formulation: Formulation, name: str) -> list[str]:
    found = names_of(formulation).need(name, ("constraints", "rules", "quantities", "objectives", "parts"))
    part = found.part
    if found.what in ("objectives", "parts"):
        chosen = [found.piece] if found.what == "parts" else list(part.parts)
        return [line for piece in chosen for line in _part(formulation, part, piece, part.parts[piece], None, True)]
    curve = next((c for c in formulation.curves if c.name == part.name), None)
    if curve is not None:
        part = curve
    if found.whole or not part.cells.axes:
        return _members(formulation, part, None, None)
    at = int(found.members[0])
    return _wrapped(f"  {part.members()[at]}{_unit(part.unit)} : ", _body(formulation, part, at, None))


def _unit(unit: str | None) -> str:
    return f" ({unit})" if unit else ""


def _part(
    formulation: Formulation, goal: Objective, part: str, terms: Terms, most: int | None, named: bool = False
) -> list[str]:
    label = f"{part} : " if named or not goal.single else ""
    return _wrapped(f"  {label}", _terms(formulation, terms, 0, most))


def _members(formulation: Formulation, part: object, most: int | None, terms: int | None) -> list[str]:
    """Return the members of a family, the middle of a long one left out."""
    if isinstance(part, Ruled) and isinstance(part.rule, Run):
        return _sequences(formulation, part, part.rule, most)
    names = part.members()  # type: ignore[attr-defined]
    size = len(names)
    shown = list(range(size))
    if most is not None and size > most + 1:
        shown = [*range(most - 1), size - 1]
    lines: list[str] = []
    for place, i in enumerate(shown):
        if place and i != shown[place - 1] + 1:
            lines.append(f"  ... {i - shown[place - 1] - 1:,} more of {part.name}")  # type: ignore[attr-defined]
        lines += _wrapped(f"  {names[i]}{_unit(part.unit)} : ", _body(formulation, part, i, terms))  # type: ignore[attr-defined]
    return lines or [f"  {part.name} : no members"]  # type: ignore[attr-defined]


def _sequences(formulation: Formulation, ruled: Ruled, rule: Run, most: int | None) -> list[str]:
    """Return a line for each sequence of labels that a run goes along."""
    cells = rule.cells
    at = cells.position(rule.axis.name)
    groups: dict[tuple[str, ...], list[int]] = {}
    for i in range(cells.size):
        key = tuple(
            axis.texts[c[i]] for k, (axis, c) in enumerate(zip(cells.axes, cells.codes, strict=True)) if k != at
        )
        groups.setdefault(key, []).append(i)
    lines = []
    for key, members in list(groups.items())[: most or None]:
        members.sort(key=lambda i: int(cells.codes[at][i]))
        name = ruled.name + (f"[{','.join(map(quoted, key))}]" if key else "")
        ends = ["".join(_terms(formulation, rule.on, i, None)) for i in (members[0], members[-1])]
        before = f", {rule.before}" if rule.before else ""
        span = ends[0] if len(members) == 1 else f"{ends[0]} to {ends[1]}"
        lines += _wrapped(f"  {name} : ", [f"{rule.word}({span}, {rule.axis.name}{before}) >= {rule.least}"])
    more = len(groups) - len(lines)
    return [*lines, *([f"  ... {more:,} more of {ruled.name}"] if more > 0 else [])]


def _body(formulation: Formulation, part: object, i: int, most: int | None) -> list[str]:
    """Return what stands behind the colon, as written."""
    if isinstance(part, Constraints):
        return _relation(formulation, part.sides, i, most)
    if isinstance(part, Ruled):
        return _rule(formulation, part, i, most)
    if isinstance(part, Curve):
        corners = ", ".join(f"{as_written(x)} {as_written(y)}" for x, y in zip(part.at[i], part.values[i], strict=True))
        return ["curve(", *_terms(formulation, part.x, i, most), f", {corners})"]
    return _terms(formulation, part.terms, i, most)  # type: ignore[attr-defined]


def _relation(formulation: Formulation, sides: Sides, i: int, most: int | None) -> list[str]:
    left = _terms(formulation, sides.left, i, most)
    if sides.right is not None:
        sign = {"<=": "<=", ">=": ">=", "==": "="}[sides.sense]
        return [*left, sign, *_terms(formulation, sides.right, i, most)]
    assert sides.low is not None
    assert sides.high is not None
    low, high = float(sides.low[i]), float(sides.high[i])
    if low == high:
        return [*left, f"= {as_written(low)}"]
    if np.isfinite(low) and np.isfinite(high):
        return [f"{as_written(low)} <=", *left, f"<= {as_written(high)}"]
    if np.isfinite(low):
        return [*left, f">= {as_written(low)}"]
    return [*left, f"<= {as_written(high)}"] if np.isfinite(high) else left


def _rule(formulation: Formulation, ruled: Ruled, i: int, most: int | None) -> list[str]:
    rule = ruled.rule
    if isinstance(rule, When):
        condition = rule.condition.spread(rule.cells)
        word = "unless" if condition.constants[i] else "if"
        own = condition if word == "if" else condition.scaled(-1.0).without_constants()
        return [word, *_terms(formulation, own, i, most), "then", *_relation(formulation, rule.relation, i, most)]
    if isinstance(rule, Either):
        told = ["either"]
        for k, relation in enumerate(rule.relations):
            told += [*(["or"] if k else []), *_relation(formulation, relation, i, most)]
        return told
    assert isinstance(rule, Run)
    before = f", {rule.before}" if rule.before else ""
    on = "".join(_terms(formulation, rule.on, i, most))
    return [f"{rule.word}({on}, {rule.axis.name}{before}) >= {rule.least}"]


def rule_in_words(formulation: Formulation, name: str) -> str:
    """Return what a rule, or a member of one, says, the middle of long expressions left out."""
    for ruled in formulation.rules:
        if ruled.name == name or name.startswith(f"{ruled.name}["):
            members = ruled.members()
            at = members.index(name) if name in members else 0
            return " ".join(_rule(formulation, ruled, at, RULE_TERMS))
    return "as the rule says"


def _terms(formulation: Formulation, terms: Terms, row: int, most: int | None) -> list[str]:
    """Return one row as text, each decision once, signs in front."""
    own = np.flatnonzero(terms.rows == row)
    columns = formulation.columns_for(terms.columns[own], "the model")
    used, place = np.unique(columns, return_inverse=True)
    sums = np.bincount(place, terms.values[own], len(used)) if len(used) else np.zeros(0)
    constant = float(terms.constants[row])
    kept = np.flatnonzero(sums)
    shown = kept if most is None or len(kept) <= most + 1 else np.concatenate((kept[: most - 1], kept[-1:]))
    parts: list[str] = []
    for k in shown.tolist():
        if len(shown) < len(kept) and k == shown[-1]:
            parts.append(f"+ ... {len(kept) - len(shown):,} terms ...")
        size = abs(float(sums[k]))
        factor = "" if size == 1 else f"{as_written(size)} "
        sign = "- " if sums[k] < 0 else "+ "
        parts.append(sign + factor + column_name(formulation, int(used[k])))
    if constant or not parts:
        parts.append(f"{'-' if constant < 0 else '+'} {as_written(abs(constant))}")
    parts[0] = parts[0].removeprefix("+ ").replace("- ", "-", 1) if parts[0][:2] in ("+ ", "- ") else parts[0]
    return parts


def column_name(formulation: Formulation, column: int) -> str:
    """Return the name of a decision, or of the value of a curve."""
    if column < formulation.size:
        family, at = formulation.member_at(column)
        return family.member(at)
    return formulation.column_names[column]


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
    low = (
        as_written(float(lows[0]))
        if len(lows) == 1
        else f"{as_written(float(lows[0]))} to {as_written(float(lows[-1]))}"
    )
    high = (
        as_written(float(highs[0]))
        if len(highs) == 1
        else f"{as_written(float(highs[0]))} to {as_written(float(highs[-1]))}"
    )
    if np.isneginf(lows[0]) and np.isposinf(highs[0]):
        return (kind + "free").strip()
    if np.isposinf(highs[-1]) and len(highs) == 1:
        return f"{kind}>= {low}"
    return f"{kind}{low} .. {high}"
