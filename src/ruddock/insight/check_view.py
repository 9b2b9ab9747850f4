"""A model as arrays, with what several checks need, and how a finding names its members."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.insight.findings import Finding, Severity
from ruddock.modelling.formulation import Formulation
from ruddock.modelling.lowering import lowered
from ruddock.modelling.model import Model
from ruddock.modelling.terms import Terms
from ruddock.problem import Floats, Problem, reaching_zero

SHOWN = 4  # members named in one finding
FAR = 1e4  # a bound this many times what constraints allow is far beyond it
ORDERS = 1e9  # ratio of largest to smallest coefficient that invites rounding trouble
CLOSE = 1e-9


class View:
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
        self.row_least, self.least_open = sums(self.least, p.indices, p.m)
        self.row_most, self.most_open = sums(self.most, p.indices, p.m)
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
        return named([self.formulation.member_at(int(j)) for j in which], len)

    def some_rows(self, which: np.ndarray) -> str:
        """Name some rows, by family where they are many."""
        return named([self.formulation.constraint_at(int(i)) for i in which], lambda family: family.cells.size)


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


def named(members: list[tuple[Any, int]], size: Callable[[Any], int]) -> str:
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


def sums(values: Floats, index: np.ndarray, m: int) -> tuple[Floats, np.ndarray]:
    """Return sums by row of the finite values, and how many infinite ones each row has."""
    finite = np.isfinite(values)
    sums = np.bincount(index[finite], values[finite], m)
    return np.asarray(sums, np.float64), np.bincount(index[~finite], minlength=m)


def when(
    which: np.ndarray,
    name: Callable[[np.ndarray], str],
    severity: Severity,
    kind: str,
    what: str,
    why: str,
    remedy: str,
) -> Iterator[Finding]:
    """Return one finding about all members that a condition picks; none where it picks none."""
    if len(which):
        yield Finding(severity, kind, name(which), what, why, remedy)
