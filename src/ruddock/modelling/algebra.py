"""A model written out as algebra: data filled in, long families and long rows elided in the middle."""

from __future__ import annotations

from ruddock.document.numbers import as_written, plural
from ruddock.modelling.axis import quoted
from ruddock.modelling.curves import Curve
from ruddock.modelling.decisions import domain_words
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Ruled
from ruddock.modelling.names import names_of
from ruddock.modelling.rules import Run
from ruddock.modelling.terms import Terms
from ruddock.modelling.writing import relation_words, terms_words

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
            lines += _part(objective, part, terms, TERMS)
    if formulation.quantities or formulation.curves:
        lines += ["", "quantities"]
        for quantity in formulation.quantities:
            lines += _members(quantity, FAMILY, TERMS)
        for curve in formulation.curves:
            lines += _members(curve, FAMILY, TERMS)
    lines += ["", "require"] if formulation.constraints or formulation.rules else []
    for family in (*formulation.constraints, *formulation.rules):
        lines += _members(family, FAMILY, TERMS)
    lines += ["", "decisions", *_decisions(formulation)]
    return "\n".join(lines)


def _one(formulation: Formulation, name: str) -> list[str]:
    found = names_of(formulation).need(name, ("constraints", "rules", "quantities", "objectives", "parts"))
    part = found.part
    if found.what in ("objectives", "parts"):
        chosen = [found.piece] if found.what == "parts" else list(part.parts)
        return [line for piece in chosen for line in _part(part, piece, part.parts[piece], None, True)]
    curve = next((c for c in formulation.curves if c.name == part.name), None)
    if curve is not None:
        part = curve
    if found.whole or not part.cells.axes:
        return _members(part, None, None)
    at = int(found.members[0])
    return _wrapped(f"  {part.members()[at]}{_unit(part.unit)} : ", _body(part, at, None))


def _unit(unit: str | None) -> str:
    return f" ({unit})" if unit else ""


def _part(goal: Objective, part: str, terms: Terms, most: int | None, named: bool = False) -> list[str]:
    label = f"{part} : " if named or not goal.single else ""
    return _wrapped(f"  {label}", terms_words(terms, 0, most))


def _members(part: object, most: int | None, terms: int | None) -> list[str]:
    """Return the members of a family, the middle of a long one left out."""
    if isinstance(part, Ruled) and isinstance(part.rule, Run):
        return _sequences(part, part.rule, most)
    names = part.members()  # type: ignore[attr-defined]
    size = len(names)
    shown = list(range(size))
    if most is not None and size > most + 1:
        shown = [*range(most - 1), size - 1]
    lines: list[str] = []
    for place, i in enumerate(shown):
        if place and i != shown[place - 1] + 1:
            lines.append(f"  ... {i - shown[place - 1] - 1:,} more of {part.name}")  # type: ignore[attr-defined]
        lines += _wrapped(f"  {names[i]}{_unit(part.unit)} : ", _body(part, i, terms))  # type: ignore[attr-defined]
    return lines or [f"  {part.name} : no members"]  # type: ignore[attr-defined]


def _sequences(ruled: Ruled, rule: Run, most: int | None) -> list[str]:
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
        ends = ["".join(terms_words(rule.on, i, None)) for i in (members[0], members[-1])]
        before = f", {rule.before}" if rule.before else ""
        span = ends[0] if len(members) == 1 else f"{ends[0]} to {ends[1]}"
        lines += _wrapped(f"  {name} : ", [f"{rule.word}({span}, {rule.axis.name}{before}) >= {rule.least}"])
    more = len(groups) - len(lines)
    return [*lines, *([f"  ... {more:,} more of {ruled.name}"] if more > 0 else [])]


def _body(part: object, i: int, most: int | None) -> list[str]:
    """Return what stands behind the colon, as written."""
    if isinstance(part, Constraints):
        return relation_words(part.sides, i, most)
    if isinstance(part, Ruled):
        return part.rule.words(i, most)
    if isinstance(part, Curve):
        corners = ", ".join(f"{as_written(x)} {as_written(y)}" for x, y in zip(part.at[i], part.values[i], strict=True))
        return ["curve(", *terms_words(part.x, i, most), f", {corners})"]
    return terms_words(part.terms, i, most)  # type: ignore[attr-defined]


def rule_in_words(formulation: Formulation, name: str) -> str:
    """Return what a rule, or a member of one, says, the middle of long expressions left out."""
    for ruled in formulation.rules:
        if ruled.name == name or name.startswith(f"{ruled.name}["):
            members = ruled.members()
            at = members.index(name) if name in members else 0
            return " ".join(ruled.rule.words(at, RULE_TERMS))
    return "as the rule says"


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
        lines.append(f"  {family.name}{axes}{unit} {domain_words(family)}{count}")
    return lines
