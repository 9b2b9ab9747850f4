"""The check before trust: what looks wrong in a model, found before any solve.

Every check is a pass over arrays, so that all of them together take time about linear in the model's size.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.document.numbers import number, plural
from ruddock.errors import listed
from ruddock.insight.findings import ORDER, Finding, Findings, Severity
from ruddock.modelling.decisions import goes_by_label
from ruddock.modelling.formulation import Formulation
from ruddock.modelling.lowering import lowered
from ruddock.modelling.model import Model
from ruddock.modelling.terms import Terms
from ruddock.modelling.units import same_unit
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem, reaching_zero

SHOWN = 4  # members named in one finding
FAR = 1e4  # a bound this many times what constraints allow is far beyond it
ORDERS = 1e9  # ratio of largest to smallest coefficient that invites rounding trouble
CLOSE = 1e-9


def check_model(model: Model) -> Findings:
    """Return what looks wrong in a model; see `Model.check`."""
    view = _View(model)
    found: list[Finding] = []
    for look in CHECKS:
        found.extend(look(view))
    found.sort(key=lambda item: ORDER[item.severity])
    return Findings(model.name, tuple(found))


class _View:
    """A model as arrays, with what several checks need."""

    def __init__(self, model: Model) -> None:
        self.model = model
        self.formulation: Formulation = model.formulation()
        self.problem: Problem = written_problem(self.formulation)
        p = self.problem
        self.rows = csr_matrix(p.matrix())
        self.owner = np.repeat(np.arange(p.n), np.diff(p.starts))
        self.lower, self.upper = reaching_zero(p.lower, p.upper, p.kinds)
        positive = p.values > 0
        low, high = self.lower[self.owner], self.upper[self.owner]
        self.least = p.values * np.where(positive, low, high)  # each entry's least and greatest contribution
        self.most = p.values * np.where(positive, high, low)
        self.row_least, self.least_open = _sums(self.least, p.indices, p.m)
        self.row_most, self.most_open = _sums(self.most, p.indices, p.m)
        self.down_locks, self.up_locks = p.locks()
        f = self.formulation
        self.in_objective = self._used([part for goal in f.objectives for part in goal.parts.values()])
        ruled = [part for ruled in f.rules for part in ruled.rule.parts()]
        self.in_rules = self._used([*ruled, *(curve.x for curve in f.curves)])

    def _used(self, expressions: list[Terms]) -> np.ndarray:
        """Say of each column whether an expression holds it."""
        used = np.zeros(self.problem.n, dtype=bool)
        for terms in expressions:
            columns = self.formulation.columns_for(terms.columns, "the model")
            used[columns[columns < self.problem.n]] = True
        return used

    def column(self, j: int) -> str:
        """Return the name of a column."""
        family, at = self.formulation.member_at(j)
        return family.member(at)

    def row(self, i: int) -> str:
        """Return the name of a row."""
        family, at = self.formulation.constraint_at(i)
        return family.member(at)

    def columns(self, which: np.ndarray) -> str:
        """Name some columns, by family where they are many."""
        return _named([self.formulation.member_at(int(j)) for j in which], len)

    def some_rows(self, which: np.ndarray) -> str:
        """Name some rows, by family where they are many."""
        return _named([self.formulation.constraint_at(int(i)) for i in which], lambda family: family.cells.size)


def written_problem(formulation: Formulation) -> Problem:
    """Return the problem of the first objective as far as it was written: without what rules and curves need."""
    if not formulation.curves:
        return lowered(formulation.changed(rules=())).problems[0]
    whole = lowered(formulation.changed(rules=())).problems[0]
    n, m = formulation.size, formulation.rows
    return Problem.build(
        whole.matrix()[:m, :n], whole.row_lower[:m], whole.row_upper[:m], whole.lower[:n], whole.upper[:n],
        whole.costs[:n], whole.kinds[:n], whole.offset,
    )  # fmt: skip


def _named(members: list[tuple[Any, int]], size: Callable[[Any], int]) -> str:
    """Name members: a few by themselves, many by their families."""
    if len(members) <= SHOWN:
        return ", ".join(family.member(at) for family, at in members)
    families: dict[str, list[tuple[Any, int]]] = {}
    for family, at in members:
        families.setdefault(family.name, []).append((family, at))
    texts = []
    for name, own in list(families.items())[:SHOWN]:
        family, at = own[0]
        if len(own) == 1:
            texts.append(family.member(at))
        elif len(own) == size(family):
            texts.append(f"{name} (all {len(own):,})")
        else:
            texts.append(f"{name} ({len(own):,} of {size(family):,}, such as {family.member(at)})")
    return _capped(texts, len(families))


def _capped(names: list[str], count: int) -> str:
    return ", ".join(names) + (f" and {count - len(names):,} more" if count > len(names) else "")


def _sums(values: Floats, index: np.ndarray, m: int) -> tuple[Floats, np.ndarray]:
    """Return sums by row of the finite values, and how many infinite ones each row has."""
    finite = np.isfinite(values)
    sums = np.bincount(index[finite], values[finite], m)
    return np.asarray(sums, np.float64), np.bincount(index[~finite], minlength=m)


def _when(
    which: np.ndarray,
    name: Callable[[np.ndarray], str],
    severity: Severity,
    kind: str,
    what: str,
    why: str,
    remedy: str,
) -> Iterator[Finding]:
    if len(which):
        yield Finding(severity, kind, name(which), what, why, remedy)


# ---------------------------------------------------------------------- decisions


def unused(view: _View) -> Iterable[Finding]:
    """Decisions in no constraint, or in no objective while they only loosen constraints."""
    p = view.problem
    alone = (np.diff(p.starts) == 0) & ~view.in_rules
    nowhere = np.flatnonzero(alone & ~view.in_objective)
    yield from _when(
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
    yield from _when(
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
    yield from _when(
        free,
        view.columns,
        "warning",
        "no-objective",
        "in no objective, and more of it only loosens constraints",
        "Using it is free, so its limits mean little",
        "Give it its cost in the objective",
    )


def runaway(view: _View) -> Iterable[Finding]:
    """Decisions that improve the objective and that nothing stops."""
    p = view.problem
    up = (p.costs < 0) & np.isposinf(view.upper) & (view.up_locks == 0)
    down = (p.costs > 0) & np.isneginf(view.lower) & (view.down_locks == 0)
    return _when(
        np.flatnonzero(up | down),
        view.columns,
        "error",
        "runaway",
        "improves the objective and no bound or constraint stops it",
        "The model is unbounded",
        "Add the missing limit, or check the sense and the sign of its coefficient",
    )


def fractional_bounds(view: _View) -> Iterable[Finding]:
    """Integer decisions with fractional bounds."""
    p = view.problem
    whole = (p.kinds & INTEGER) != 0
    odd = np.zeros(p.n, dtype=bool)
    for bound in (p.lower, p.upper):
        finite = np.where(np.isfinite(bound), bound, 0.0)
        odd |= np.abs(finite - np.round(finite)) > CLOSE
    return _when(
        np.flatnonzero(whole & odd),
        view.columns,
        "warning",
        "fractional-bound",
        "integers with a fractional bound",
        "The bound that counts is the next integer inside",
        "Round the bound, or make the decision continuous",
    )


def fixed(view: _View) -> Iterable[Finding]:
    """Decisions fixed by their bounds."""
    p = view.problem
    semi = (p.kinds & SEMICONTINUOUS) != 0
    return _when(
        np.flatnonzero((p.lower == p.upper) & ~semi),
        view.columns,
        "note",
        "fixed",
        "fixed, since its bounds are equal",
        "It decides nothing",
        "Widen a bound if it should",
    )


def free_siblings(view: _View) -> Iterator[Finding]:
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


def far_bounds(view: _View) -> Iterable[Finding]:
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


def _implied_upper(view: _View) -> Floats:
    """Return for each column the least upper bound that a single row implies."""
    p = view.problem
    value = p.values
    row = p.indices
    # of the row's other entries: their least sum for a <= side, their most for a >= side
    open_least = view.least_open[row] - ~np.isfinite(view.least)
    open_most = view.most_open[row] - ~np.isfinite(view.most)
    rest_least = view.row_least[row] - np.where(np.isfinite(view.least), view.least, 0.0)
    rest_most = view.row_most[row] - np.where(np.isfinite(view.most), view.most, 0.0)
    with np.errstate(invalid="ignore", divide="ignore"):
        by_upper = np.where((value > 0) & (open_least == 0), (p.row_upper[row] - rest_least) / value, np.inf)
        by_lower = np.where((value < 0) & (open_most == 0), (p.row_lower[row] - rest_most) / value, np.inf)
    result = np.full(p.n, np.inf)
    np.minimum.at(result, view.owner, np.fmin(by_upper, by_lower))
    return result


# ---------------------------------------------------------------------- constraints


def empty_families(view: _View) -> Iterator[Finding]:
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


def one_sided(view: _View) -> Iterator[Finding]:
    """Constraints that alone cannot be met, or that no plan can break."""
    p = view.problem
    slack = CLOSE * np.maximum(1.0, np.where(np.isfinite(p.row_upper), np.abs(p.row_upper), 1.0))
    above = (view.least_open == 0) & (view.row_least > p.row_upper + slack)
    slack = CLOSE * np.maximum(1.0, np.where(np.isfinite(p.row_lower), np.abs(p.row_lower), 1.0))
    below = (view.most_open == 0) & (view.row_most < p.row_lower - slack)
    impossible = above | below
    yield from _when(
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
    yield from _when(
        np.flatnonzero(low_ok & high_ok & ~free & ~impossible),
        view.some_rows,
        "note",
        "redundant",
        "holds whatever the plan, given the bounds of its decisions",
        "It limits nothing, so it may not say what was meant",
        "Check its limit and its sense, or drop it",
    )


def parallel(view: _View) -> Iterator[Finding]:
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


def _makes_a_range(view: _View, rows: list[int]) -> bool:
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


def large_switches(view: _View) -> Iterator[Finding]:
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
    with np.errstate(invalid="ignore"):
        most = p.values * np.where(positive, high, low)
    row_most, opened = _sums(most, p.indices, p.m)
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


def _implied_upper_without(view: _View, binary: np.ndarray) -> Floats:
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


def odd_equalities(view: _View) -> Iterator[Finding]:
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
    return _when(
        np.array(bad, dtype=np.int64),
        view.some_rows,
        "error",
        "odd-equality",
        "no integers add up to exactly this",
        "The model is infeasible",
        "Was <= or >= meant instead of ==?",
    )


# ---------------------------------------------------------------------- the whole


def many_orders(view: _View) -> Iterator[Finding]:
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


def unit_mismatches(view: _View) -> Iterator[Finding]:
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


def similar_names(view: _View) -> Iterator[Finding]:
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


def undeclared(view: _View) -> Iterator[Finding]:
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


def left_out(view: _View) -> Iterator[Finding]:
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


def nothing_to_do(view: _View) -> Iterator[Finding]:
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


def no_objective(view: _View) -> Iterator[Finding]:
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


CHECKS: tuple[Callable[[_View], Iterable[Finding]], ...] = (
    unused,
    runaway,
    fractional_bounds,
    fixed,
    free_siblings,
    far_bounds,
    empty_families,
    one_sided,
    parallel,
    large_switches,
    odd_equalities,
    many_orders,
    unit_mismatches,
    similar_names,
    undeclared,
    left_out,
    nothing_to_do,
    no_objective,
)
