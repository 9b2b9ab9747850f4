"""Checks of what was written: sizes of numbers, units, names, data left out, objectives."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from ruddock.document.numbers import number, plural
from ruddock.errors import listed
from ruddock.insight.check_view import ORDERS, SHOWN, View
from ruddock.insight.findings import Finding
from ruddock.modelling.decisions import goes_by_label
from ruddock.modelling.units import same_unit


def many_orders(view: View) -> Iterator[Finding]:
    """Coefficients over many orders of magnitude."""
    size = np.abs(view.problem.values)
    if not len(size) or size.max() < ORDERS * size.min():
        return
    small, large = int(np.argmin(size)), int(np.argmax(size))
    p = view.problem
    names = []
    for e in (small, large):
        held = number(float(size[e]))
        names.append(f"{held} for {view.column(int(view.owner[e]))} in {view.row(int(p.indices[e]))}")
    yield Finding(
        "warning",
        "many-orders",
        view.row(int(p.indices[large])),
        f"coefficients from {names[0]} to {names[1]}",
        "Over that many orders of magnitude, rounding can decide what counts as feasible",
        "Change units, such as grams to tonnes",
    )


def unit_mismatches(view: View) -> Iterator[Finding]:
    """Look for sums of different units, and sums whose unit is not the one stated."""
    stated: list[tuple[str, frozenset[str], str | None]] = []
    for objective in view.formulation.objectives:
        stated += [(name, part.units.known, objective.unit) for name, part in objective.parts.items()]
    stated += [(c.name, c.row.units.known, c.unit) for c in view.formulation.constraints]
    stated += [(q.name, q.terms.units.known, q.unit) for q in view.formulation.quantities]
    for name, units, unit in stated:
        found: list[str] = []
        for one in sorted(units) + ([unit] if unit and units else []):
            if not any(same_unit(one, other) for other in found):
                found.append(one)
        if len(found) > 1:
            yield Finding(
                "warning",
                "units",
                name,
                f"{listed(found)} are added or compared",
                "Different units cannot be added",
                "Multiply by the rate that converts one to the other, or correct the unit",
            )


def similar_names(view: View) -> Iterator[Finding]:
    """Names that differ only in case."""
    groups: dict[str, list[str]] = defaultdict(list)
    names = [f.name for f in view.formulation.decisions if not goes_by_label(f)]
    names += [c.name for c in view.formulation.constraints if not c.listed]
    names += [n for f in view.formulation.decisions if goes_by_label(f) for n in f.members()]
    for name in names:
        groups[name.lower()].append(name)
    for same in groups.values():
        if len(set(same)) > 1:
            yield Finding(
                "warning",
                "similar-names",
                listed(same, SHOWN),
                "names that differ only in case",
                "One may be a slip for the other",
                "Rename one, or use one of them throughout",
            )


def undeclared(view: View) -> Iterator[Finding]:
    """Names that were taken as decisions: an error unless the file says that it may be."""
    names = view.model.taken
    if names:
        said = not view.model.undeclared
        yield Finding(
            "note" if said else "error",
            "undeclared",
            listed(names),
            f"taken as {plural(len(names), 'continuous decision')} of 0 or more, since "
            + ("the file says decisions open" if said else "the file has no decisions heading"),
            "A misspelt name would be a decision of its own",
            "Add a decisions heading that lists them"
            + ("" if said else ", or write decisions open; then it is solved"),
        )


def left_out(view: View) -> Iterator[Finding]:
    """Find combinations that a family does not have because a number that says which there are is 0."""
    for family in view.formulation.decisions:
        names = family.left_out
        if names:
            yield Finding(
                "note",
                "left-out",
                family.name,
                f"has no decision for {listed(names, SHOWN)}, where the data that says which there are is 0",
                "A cost or distance of 0 may have been meant as one",
                "If so, keep the combinations by a table of their own, or by a list of labels",
            )


def nothing_to_do(view: View) -> Iterator[Finding]:
    """Objectives that are best where every decision is 0, while all limits allow that."""
    p, f = view.problem, view.formulation
    goal = f.first_objective
    if goal is None or f.curves or not p.costs.any():
        return
    still = (p.costs == 0) | ((p.costs > 0) & (view.lower == 0)) | ((p.costs < 0) & (view.upper == 0))
    nothing = np.zeros(p.n)
    allowed = (view.lower <= 0).all() and (view.upper >= 0).all()
    allowed = allowed and (p.row_lower <= 0).all() and (p.row_upper >= 0).all()
    if not (still.all() and allowed):
        return
    if any(ruled.rule.violation(lambda terms: f.evaluate(terms, nothing)).any() for ruled in f.rules):
        return
    turned = np.flatnonzero(np.isfinite(p.row_upper) & (p.row_upper > 0) & np.isneginf(p.row_lower))
    ask = f"Check whether <= should be >= in {view.some_rows(turned)}" if len(turned) else "Add what must be done"
    yield Finding(
        "warning",
        "nothing-to-do",
        goal.name,
        "best where every decision is 0, which all limits allow: the plan is to do nothing",
        "A limit that should ask for something may be missing, or its sense turned round",
        f"{ask}, and whether {goal.sense} is meant",
    )


def no_objective(view: View) -> Iterator[Finding]:
    """Look for a model without an objective."""
    if not view.formulation.objectives:
        yield Finding(
            "note",
            "no-objective-at-all",
            view.model.name,
            "the model has no objective",
            "Any plan that meets the constraints is as good as another",
            "Add minimize or maximize if one is better",
        )
