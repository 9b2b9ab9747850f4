"""Checks of decisions: unused, unbounded, fixed, odd bounds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from ruddock.document.numbers import number
from ruddock.insight.check_view import CLOSE, FAR, View, when
from ruddock.insight.findings import Finding
from ruddock.modelling.decisions import goes_by_label
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats


def unused(view: View) -> Iterable[Finding]:
    """Decisions in no constraint, or in no objective while they only loosen constraints."""
    p = view.problem
    alone = (np.diff(p.starts) == 0) & ~view.in_rules
    nowhere = np.flatnonzero(alone & ~view.in_objective)
    yield from when(
        nowhere,
        view.columns,
        "warning",
        "unused",
        "in no constraint and in no objective",
        "It has no effect on the plan",
        "Use it, or drop it; a sum over it may have been forgotten",
    )
    falls = np.where(p.costs < 0, view.upper, np.where(p.costs > 0, view.lower, 0.0))
    bounded = np.flatnonzero(alone & view.in_objective & np.isfinite(falls) & (view.lower < view.upper))
    yield from when(
        bounded,
        view.columns,
        "warning",
        "no-constraint",
        "in no constraint",
        "It simply goes to its bound",
        "Add it to the constraint that limits it",
    )
    if not view.formulation.objectives:
        return
    free = np.flatnonzero(
        ~alone & ~view.in_objective & (view.up_locks == 0) & (view.down_locks > 0) & (view.lower < view.upper)
    )
    yield from when(
        free,
        view.columns,
        "warning",
        "no-objective",
        "in no objective, and more of it only loosens constraints",
        "Using it is free, so its limits mean little",
        "Give it its cost in the objective",
    )


def runaway(view: View) -> Iterable[Finding]:
    """Decisions that improve the objective and that nothing stops."""
    p = view.problem
    up = (p.costs < 0) & np.isposinf(view.upper) & (view.up_locks == 0)
    down = (p.costs > 0) & np.isneginf(view.lower) & (view.down_locks == 0)
    return when(
        np.flatnonzero(up | down),
        view.columns,
        "error",
        "runaway",
        "improves the objective and no bound or constraint stops it",
        "The model is unbounded, if it has a plan at all",
        "Add the missing limit, or check the sense and the sign of its coefficient",
    )


def fractional_bounds(view: View) -> Iterable[Finding]:
    """Integer decisions with fractional bounds."""
    p = view.problem
    whole = (p.kinds & INTEGER) != 0
    odd = np.zeros(p.n, dtype=bool)
    for bound in (p.lower, p.upper):
        finite = np.where(np.isfinite(bound), bound, 0.0)
        odd |= np.abs(finite - np.round(finite)) > CLOSE
    return when(
        np.flatnonzero(whole & odd),
        view.columns,
        "warning",
        "fractional-bound",
        "integers with a fractional bound",
        "The bound that counts is the next integer inside",
        "Round the bound, or make the decision continuous",
    )


def fixed(view: View) -> Iterable[Finding]:
    """Decisions fixed by their bounds."""
    p = view.problem
    semi = (p.kinds & SEMICONTINUOUS) != 0
    return when(
        np.flatnonzero((p.lower == p.upper) & ~semi),
        view.columns,
        "note",
        "fixed",
        "fixed, since its bounds are equal",
        "It decides nothing",
        "Widen a bound if it should",
    )


def free_siblings(view: View) -> Iterator[Finding]:
    """Members without a lower bound in a family whose others have one."""
    for family in view.formulation.decisions:
        free = np.isneginf(family.lower)
        if not goes_by_label(family) and free.any() and not free.all():
            which = np.flatnonzero(free) + view.formulation.starts[family.name]
            yield Finding(
                "warning",
                "free-sibling",
                view.columns(which),
                "may be negative while the rest of its family may not",
                "A forgotten bound often shows like this",
                "Give it its lower bound, or none to all",
            )


def far_bounds(view: View) -> Iterable[Finding]:
    """Upper bounds far beyond what the constraints allow."""
    p = view.problem
    allowed = _implied_upper(view)
    far = np.isfinite(p.upper) & np.isfinite(allowed) & (p.upper > FAR * np.maximum(np.abs(allowed), 1.0))
    which = np.flatnonzero(far)
    if len(which):
        j = int(which[0])
        given, possible = number(float(p.upper[j])), number(float(allowed[j]))
        what = f"its upper bound {given} is far beyond the {possible} that constraints allow"
        return [Finding("note", "far-bound", view.columns(which), what, "Such bounds blur scaling and hide slips",
                        "Set the bound to what is possible, or leave it out")]  # fmt: skip
    return []


def _implied_upper(view: View) -> Floats:
    """Return for each column the least upper bound that a single row implies."""
    p = view.problem
    value = p.values
    row = p.indices
    # of the row's other entries: their least sum for a <= side, their most for a >= side
    open_least = view.least_open[row] - ~np.isfinite(view.least)
    open_most = view.most_open[row] - ~np.isfinite(view.most)
    rest_least = view.row_least[row] - np.where(np.isfinite(view.least), view.least, 0.0)
    rest_most = view.row_most[row] - np.where(np.isfinite(view.most), view.most, 0.0)
    by_upper = np.where((value > 0) & (open_least == 0), (p.row_upper[row] - rest_least) / value, np.inf)
    by_lower = np.where((value < 0) & (open_most == 0), (p.row_lower[row] - rest_most) / value, np.inf)
    result = np.full(p.n, np.inf)
    np.minimum.at(result, view.owner, np.fmin(by_upper, by_lower))
    return result
