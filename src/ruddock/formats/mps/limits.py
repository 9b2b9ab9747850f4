"""The sections RHS, RANGES and BOUNDS."""

from __future__ import annotations

import numpy as np
import pandas as pd

from ruddock.errors import known
from ruddock.formats.mps.sections import Sections
from ruddock.formats.mps.source import OddFieldsError, Source
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats

BOUND_KINDS = ("UP", "LO", "FX", "FR", "MI", "PL", "BV", "LI", "UI", "SC")
NO_VALUE = ("FR", "MI", "PL", "BV")


def limits(kinds: np.ndarray) -> tuple[Floats, Floats]:
    """Return row limits before right sides: zero on the sides that the kind limits."""
    lower = np.where((kinds == "G") | (kinds == "E"), 0.0, -np.inf)
    upper = np.where((kinds == "L") | (kinds == "E"), 0.0, np.inf)
    return lower, upper


def right_sides(
    source: Source,
    sections: Sections,
    names: pd.Index[str],
    kinds: np.ndarray,
    objective: int,
    lower: Floats,
    upper: Floats,
) -> float:
    """Fill in right sides and ranges; return the objective's constant."""
    rows, values = pairs(source, sections, "RHS", names)
    # the convention of the form: the constant is the negated right side
    offset = -float(values[rows == objective].sum()) + 0.0
    limited = kinds[rows] != "N"
    rows, values = rows[limited], values[limited]
    lower[rows] = np.where(np.isfinite(lower[rows]), values, lower[rows])
    upper[rows] = np.where(np.isfinite(upper[rows]), values, upper[rows])
    rows, values = pairs(source, sections, "RANGES", names)
    unlimited = {str(name) for name in names[rows[kinds[rows] == "N"]]}
    for number, text in sections.lines("RANGES") if unlimited else []:
        for name in unlimited.intersection(source.fields(number, text)):
            source.warn(number, f"row {name!r} has no limit, so its range means nothing")
    kind, width = kinds[rows], np.abs(values)
    down = (kind == "L") | ((kind == "E") & (values <= 0))
    up = (kind == "G") | ((kind == "E") & (values > 0))
    lower[rows[down]] = upper[rows[down]] - width[down]
    upper[rows[up]] = lower[rows[up]] + width[up]
    return offset


def pairs(source: Source, sections: Sections, section: str, names: pd.Index[str]) -> tuple[np.ndarray, Floats]:
    """Return rows and numbers of RHS or RANGES, whose set's name may be left out."""
    body = sections.bodies.get(section)
    if body is None:
        return np.zeros(0, int), np.zeros(0)
    scanned = sections.scanned.sides(body) if sections.scanned is not None else None
    return scanned or pairs_one_by_one(source, sections, section, names)


def pairs_one_by_one(
    source: Source, sections: Sections, section: str, names: pd.Index[str]
) -> tuple[np.ndarray, Floats]:
    """Return the same line by line, so that an error can be told with its line."""
    place = {name: i for i, name in enumerate(names)}
    word = "right side" if section == "RHS" else "range"
    found: dict[int, float] = {}
    chosen: str | None = None
    for number, text in sections.lines(section):
        parts = source.fields(number, text)
        if source.fixed:
            parts = parts[1:]
        if not source.fixed and len(parts) in (2, 4):
            parts = ["", *parts]
        if len(parts) not in (3, 5):
            raise OddFieldsError(number, f"a line of {section} holds one or two pairs of row and number")
        if chosen is None:
            chosen = parts[0]
        if parts[0] not in (chosen, ""):
            source.warn(number, f"the second {section} set {parts[0]!r} is not used, only {chosen!r}")
            continue
        for row, value in zip(parts[1::2], parts[2::2], strict=True):
            if row not in place:
                raise OddFieldsError(number, f"row {row!r} is not defined; {known(row, place)}")
            if place[row] in found:
                raise source.error(number, f"row {row!r} has a second {word}")
            found[place[row]] = source.number(number, value)
    return np.array(list(found), int), np.array(list(found.values()), float)


def bounds(
    source: Source, sections: Sections, columns: pd.Index[str], lower: Floats, upper: Floats, kinds: np.ndarray
) -> None:
    """Apply the BOUNDS section."""
    if "BOUNDS" not in sections.bodies:
        return
    place = {name: j for j, name in enumerate(columns)}
    with_lower: set[int] = set()
    chosen: str | None = None
    for number, text in sections.lines("BOUNDS"):
        parts = source.fields(number, text)
        kind = parts[0].upper() if parts else ""
        if kind not in BOUND_KINDS:
            raise source.error(number, f"the kind of a bound is one of {', '.join(BOUND_KINDS)}, not {kind!r}")
        least = 3 if kind in NO_VALUE else 4
        if not source.fixed and (
            len(parts) == least - 1
            or (kind in NO_VALUE and len(parts) == 3 and parts[1] in place and parts[2] not in place)
        ):
            parts = [parts[0], "", *parts[1:]]  # the set's name is left out
        if kind == "SC" and len(parts) == 3:
            parts.append("inf")
        if len(parts) < least:
            raise OddFieldsError(
                number, f"a bound {kind} needs a column" + ("" if kind in NO_VALUE else " and a number")
            )
        if chosen is None:
            chosen = parts[1]
        if parts[1] not in (chosen, ""):
            source.warn(number, f"the second BOUNDS set {parts[1]!r} is not used, only {chosen!r}")
            continue
        if parts[2] not in place:
            raise OddFieldsError(number, f"column {parts[2]!r} is not defined; {known(parts[2], place)}")
        j = place[parts[2]]
        value = source.number(number, parts[3]) if kind not in NO_VALUE else 0.0
        bound(source, number, kind, j, value, str(columns[j]), lower, upper, kinds, with_lower)


def bound(
    source: Source,
    number: int,
    kind: str,
    j: int,
    value: float,
    name: str,
    lower: Floats,
    upper: Floats,
    kinds: np.ndarray,
    with_lower: set[int],
) -> None:
    """Apply one bound."""
    if kind in ("LI", "UI", "BV"):
        kinds[j] |= INTEGER
    if kind in ("LO", "LI"):
        lower[j] = value
        with_lower.add(j)
    elif kind in ("UP", "UI"):
        upper[j] = value
        if value < 0 and lower[j] == 0 and j not in with_lower:
            lower[j] = -np.inf
            source.warn(number, f"column {name!r} has a negative upper bound and no lower one: read as unlimited below")
    elif kind == "FX":
        lower[j] = upper[j] = value
        with_lower.add(j)
    elif kind == "FR":
        lower[j], upper[j] = -np.inf, np.inf
    elif kind == "MI":
        lower[j] = -np.inf
        with_lower.add(j)
    elif kind == "PL":
        upper[j] = np.inf
    elif kind == "BV":
        lower[j], upper[j] = 0.0, 1.0
        with_lower.add(j)
    else:  # SC
        kinds[j] |= SEMICONTINUOUS
        upper[j] = value
