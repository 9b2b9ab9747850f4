"""Checks of constraints: empty, one-sided, parallel, switches too large, equations without integers."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from ruddock.document.numbers import number
from ruddock.insight.check_view import CLOSE, View, sums, when
from ruddock.insight.findings import Finding
from ruddock.problem import INTEGER, Floats


def empty_families(view: View) -> Iterator[Finding]:
    """Families without members."""
    families: list[tuple[str, int, str]] = [(f.name, len(f), "decisions") for f in view.formulation.decisions]
    families += [(f.name, f.cells.size, "constraints") for f in view.formulation.constraints]
    for name, size, kind in families:
        if not size:
            yield Finding(
                "warning",
                "empty-family",
                name,
                f"a family of {kind} without members",
                "It says nothing; a filter or an axis may have come out empty",
                "Check the labels and the mask it was made with",
            )


def one_sided(view: View) -> Iterator[Finding]:
    """Constraints that alone cannot be met, or that no plan can break."""
    p = view.problem
    slack = CLOSE * np.maximum(1.0, np.where(np.isfinite(p.row_upper), np.abs(p.row_upper), 1.0))
    above = (view.least_open == 0) & (view.row_least > p.row_upper + slack)
    slack = CLOSE * np.maximum(1.0, np.where(np.isfinite(p.row_lower), np.abs(p.row_lower), 1.0))
    below = (view.most_open == 0) & (view.row_most < p.row_lower - slack)
    impossible = above | below
    yield from when(
        np.flatnonzero(impossible),
        view.some_rows,
        "error",
        "impossible",
        "cannot be met whatever the plan, given the bounds of its decisions",
        "The model is infeasible",
        "Check its limit, its sense, and the bounds of its decisions",
    )
    free = np.isneginf(p.row_lower) & np.isposinf(p.row_upper)
    low_ok = np.isneginf(p.row_lower) | ((view.least_open == 0) & (view.row_least >= p.row_lower - CLOSE))
    high_ok = np.isposinf(p.row_upper) | ((view.most_open == 0) & (view.row_most <= p.row_upper + CLOSE))
    yield from when(
        np.flatnonzero(low_ok & high_ok & ~free & ~impossible),
        view.some_rows,
        "note",
        "redundant",
        "holds whatever the plan, given the bounds of its decisions",
        "It limits nothing, so it may not say what was meant",
        "Check its limit and its sense, or drop it",
    )


def parallel(view: View) -> Iterator[Finding]:
    """Constraints with the same or proportional left sides."""
    groups: dict[bytes, list[int]] = defaultdict(list)
    a = view.rows
    for i in range(view.problem.m):
        begin, end = a.indptr[i], a.indptr[i + 1]
        if end - begin < 2:
            continue  # bounds on one decision are not worth a word
        values = a.data[begin:end]
        scaled = np.round(values / values[0], 12)
        groups[a.indices[begin:end].tobytes() + scaled.tobytes()].append(i)
    alike: dict[tuple[str, ...], list[list[int]]] = defaultdict(list)
    for rows in groups.values():
        if len(rows) > 1 and not _makes_a_range(view, rows):
            families = dict.fromkeys(view.formulation.constraint_at(i)[0].name for i in rows)
            alike[tuple(families)].append(rows)
    for found in alike.values():
        again = f", and {len(found) - 1:,} more such" if len(found) > 1 else ""
        yield Finding(
            "warning",
            "parallel",
            view.some_rows(np.array(found[0])) + again,
            "the same left side, up to a factor",
            "All but the tightest limit nothing, or they contradict each other",
            "Keep one of them, or write the range with between",
        )


def _makes_a_range(view: View, rows: list[int]) -> bool:
    """Say whether two rows are the two ends of a range, which is a way to write one."""
    if len(rows) != 2:
        return False
    p, a = view.problem, view.rows
    sides = []
    for i in rows:
        lower, upper = np.isfinite(p.row_lower[i]), np.isfinite(p.row_upper[i])
        if lower == upper:
            return False
        sides.append(lower != (a.data[a.indptr[i]] < 0))
    return sides[0] != sides[1]


def large_switches(view: View) -> Iterator[Finding]:
    """Coefficients of binary decisions larger than needed: ``amount <= M x yes``."""
    p = view.problem
    binary = ((p.kinds & INTEGER) != 0) & (p.lower == 0) & (p.upper == 1)
    allowed = np.minimum(view.upper, _implied_upper_without(view, binary))
    switch = (
        binary[view.owner] & (p.values < 0) & np.isneginf(p.row_lower)[p.indices] & np.isfinite(p.row_upper)[p.indices]
    )
    entries = np.flatnonzero(switch)
    if not len(entries):
        return
    positive = p.values > 0
    low, high = view.lower[view.owner], allowed[view.owner]
    most = p.values * np.where(positive, high, low)
    row_most, opened = sums(most, p.indices, p.m)
    rest = row_most[p.indices[entries]] - most[entries]
    needed = rest - p.row_upper[p.indices[entries]]
    large = (opened[p.indices[entries]] == 0) & (needed > 0) & (-p.values[entries] > 2 * needed)
    families: dict[str, list[int]] = defaultdict(list)
    for e in entries[large].tolist():
        families[view.formulation.constraint_at(int(p.indices[e]))[0].name].append(e)
    for found in families.values():
        e = found[0]
        need = float(row_most[p.indices[e]] - most[e] - p.row_upper[p.indices[e]])
        yield Finding(
            "warning",
            "large-switch",
            view.some_rows(np.unique(p.indices[found])),
            f"the coefficient {number(float(-p.values[e]))} of {view.column(int(view.owner[e]))} is larger "
            f"than needed: {number(need)} is enough",
            "A switch with too large a factor makes fractions cheap and the search long",
            f"Write {number(need)} instead" if len(found) == 1 else "Write what is enough for each instead",
        )


def _implied_upper_without(view: View, binary: np.ndarray) -> Floats:
    """Return upper bounds implied by rows that hold no binary decision."""
    p = view.problem
    with_switch = np.zeros(p.m, dtype=bool)
    with_switch[p.indices[binary[view.owner]]] = True
    value, row = p.values, p.indices
    rest = view.row_least[row] - np.where(np.isfinite(view.least), view.least, 0.0)
    opened = view.least_open[row] - ~np.isfinite(view.least)
    usable = (value > 0) & (opened == 0) & ~with_switch[row] & np.isfinite(p.row_upper[row])
    result = np.full(p.n, np.inf)
    np.minimum.at(result, view.owner[usable], (p.row_upper[row[usable]] - rest[usable]) / value[usable])
    return result


def odd_equalities(view: View) -> Iterator[Finding]:
    """Equalities of integers that no integers can meet."""
    p, a = view.problem, view.rows
    whole = (p.kinds & INTEGER) != 0
    equal = np.flatnonzero(np.isfinite(p.row_lower) & (p.row_lower == p.row_upper))
    counts = np.bincount(p.indices, ~whole[view.owner], p.m)
    bad = []
    for i in equal[counts[equal] == 0]:
        values, limit = a.data[a.indptr[i] : a.indptr[i + 1]], float(p.row_lower[i])
        for scale in (1.0, 10.0, 100.0, 1000.0):
            scaled = values * scale
            if len(scaled) and (np.abs(scaled - np.round(scaled)) < CLOSE).all() and np.abs(scaled).max() < 2**50:
                step = int(np.gcd.reduce(np.abs(np.round(scaled)).astype(np.int64)))
                if abs(limit * scale / step - round(limit * scale / step)) > 1e-6:
                    bad.append(i)
                break
    return when(
        np.array(bad, dtype=np.int64),
        view.some_rows,
        "error",
        "odd-equality",
        "no integers add up to exactly this",
        "The model is infeasible",
        "Was <= or >= meant instead of ==?",
    )
