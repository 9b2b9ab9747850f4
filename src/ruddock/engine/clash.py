"""Irreducible clashes: limits, bounds and whole-number marks that cannot all hold, none of them dispensable.

A proof of infeasibility names a first set; what it does not use is given up at once. Then one member
after another is given up on trial: what stays infeasible without it loses it, together with all that the
new proof does not use (Chinneck 2008, chapter 6; Gleeson and Ryan 1990). A short chain of implied bounds
that ends in a contradiction, where there is one, is a first set at next to no cost. Members tried first are more
likely to go: bounds before limits, so that a clash speaks of what can be changed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from fractions import Fraction
from math import ceil, floor, gcd, lcm
from typing import Literal

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.certificates import feasible
from ruddock.engine.implied import Chain, contradiction_chain
from ruddock.engine.outcome import FEASIBILITY, Limits, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.engine.tree.domain import Domain
from ruddock.problem import INTEGER, Floats, Problem

Kind = Literal["row lower", "row upper", "lower", "upper", "integer"]
MOST_NODES = 5000  # of a trial with whole numbers; beyond, the member tried stays
SHORT = 6  # members of a clash that is not made shorter
UNUSED = 1e-9  # relative: weights of a proof below this are none


@dataclass(frozen=True, order=True)
class Member:
    """One side of a row, one bound of a column, or the whole-number mark of a column."""

    kind: Kind
    index: int


@dataclass(frozen=True)
class Clash:
    """An irreducible set: without any one of its members, the others can be met.

    Attributes
    ----------
    members : limits of rows first, then bounds, then whole-number marks
    whole : whether it takes whole numbers to clash; the limits alone could be met in fractions
    proven : whether irreducibility was proven for every member
    helpers : the first of the columns whose bounds and marks always count, being no members of their own
    """

    members: tuple[Member, ...]
    whole: bool
    proven: bool
    helpers: int | None = None

    def alone(self, problem: Problem) -> Problem:
        """Return the problem with no other limits, bounds and marks, and without costs."""
        kept = _Kept(problem, helpers=self.helpers)
        kept.only(self.members)
        return kept.relaxed()


class _Kept:
    """Which limits, bounds and marks of a problem still count; those of helper columns always do."""

    def __init__(self, problem: Problem, without: frozenset[Member] = frozenset(), helpers: int | None = None) -> None:
        self.problem, self.helpers = problem, problem.n if helpers is None else helpers
        self.row_sizes = np.bincount(problem.indices, minlength=problem.m)
        p = problem
        self.masks: dict[Kind, np.ndarray] = {
            "row lower": np.isfinite(p.row_lower),
            "row upper": np.isfinite(p.row_upper),
            "lower": np.isfinite(p.lower),
            "upper": np.isfinite(p.upper),
            "integer": (p.kinds & INTEGER) != 0,
        }
        for member in without:
            self.masks[member.kind][member.index] = False

    def members(self, *kinds: Kind) -> list[Member]:
        found = []
        for kind in kinds:
            which = np.flatnonzero(self.masks[kind])
            found += [Member(kind, int(i)) for i in (which if kind.startswith("row") else which[which < self.helpers])]
        return found

    def longest_first(self, members: list[Member]) -> list[Member]:
        """Return members with long rows first: what is tried first goes, and short rows say more."""
        return sorted(members, key=lambda m: -self.row_sizes[m.index] if m.kind.startswith("row") else 0)

    def only(self, members: Iterable[Member]) -> None:
        """Keep some members alone."""
        wanted = {kind: np.zeros_like(mask) for kind, mask in self.masks.items()}
        for member in members:
            wanted[member.kind][member.index] = True
        for kind, mask in wanted.items():
            if not kind.startswith("row"):
                mask[self.helpers :] = True
            self.masks[kind] &= mask

    def follow(self, chain: Chain) -> None:
        """Keep only what a chain of implied bounds uses."""
        used: list[Member] = [Member("row upper" if upper else "row lower", row) for row, upper in chain.rows]
        used += [Member("upper" if upper else "lower", column) for column, upper in chain.bounds]
        self.only(used + [Member("integer", column) for column in chain.marks])

    def relaxed(self) -> Problem:
        """Return the problem with only what is kept, and without costs."""
        p, kept = self.problem, self.masks
        return replace(
            p,
            row_lower=np.where(kept["row lower"], p.row_lower, -np.inf),
            row_upper=np.where(kept["row upper"], p.row_upper, np.inf),
            lower=np.where(kept["lower"], p.lower, -np.inf),
            upper=np.where(kept["upper"], p.upper, np.inf),
            kinds=np.where(kept["integer"], p.kinds, 0).astype(np.uint8),
            costs=np.zeros(p.n),
        )


def find_clash(
    problem: Problem,
    limits: Limits | None = None,
    without: frozenset[Member] = frozenset(),
    helpers: int | None = None,
) -> Clash | None:
    """Return an irreducible clash of a problem; None if it has a plan, or its limits end the search.

    Parameters
    ----------
    without : members that do not count
    helpers : the first of the columns whose bounds and marks always count
    """
    limits = limits or Limits()
    kept = _Kept(problem, without, helpers)
    clash = _LinearClash(kept, limits).find()
    if clash is not None or not problem.discrete:
        return clash
    return _WholeClash(kept, limits).find()


def find_clashes(
    problem: Problem, most: int = 5, limits: Limits | None = None, helpers: int | None = None
) -> list[Clash]:
    """Return clashes that share no limit: after each, its limits (or bounds, where it has none) no longer count."""
    found: list[Clash] = []
    without: set[Member] = set()
    while len(found) < most:
        clash = find_clash(problem, limits, frozenset(without), helpers)
        if clash is None:
            break
        found.append(clash)
        rows = {member for member in clash.members if member.kind.startswith("row")}
        without |= rows or set(clash.members)
    return found


class _LinearClash:
    """A clash of the linear relaxation, by proofs and warm starts."""

    def __init__(self, kept: _Kept, limits: Limits) -> None:
        self.kept, self.limits = kept, limits

    def find(self) -> Clash | None:
        crossed = self._crossed()
        if crossed is not None:
            return crossed
        everything = {kind: mask.copy() for kind, mask in self.kept.masks.items()}
        outcome = self._first()
        if outcome.status != "infeasible" or outcome.proof is None:
            return None
        clash = self._irreducible(outcome)
        if len(clash.members) <= SHORT or not any(member.kind in ("lower", "upper") for member in clash.members):
            return clash
        self.kept.masks = everything
        shorter = self._of_rows_alone()
        return shorter if shorter is not None and len(shorter.members) < len(clash.members) else clash

    def _of_rows_alone(self) -> Clash | None:
        """Return a clash without any bounds, where there is one: a long one with many bounds says little."""
        for kind in ("lower", "upper"):
            self.kept.masks[kind][: self.kept.helpers] = False
        self.solver = LinearSolver(replace(self.kept.relaxed(), kinds=np.zeros_like(self.kept.problem.kinds)))
        outcome = self.solver.solve(self.limits)
        return self._irreducible(outcome) if outcome.status == "infeasible" and outcome.proof is not None else None

    def _irreducible(self, outcome: Outcome) -> Clash:
        """Give up one member after another, as far as the rest stays infeasible."""
        self._shrink(outcome)
        proven = True
        tried: set[Member] = set()
        while True:
            member = self._next(tried)
            if member is None:
                break
            tried.add(member)
            self._set(member, counts=False)
            outcome = self.solver.solve(self.limits)
            if outcome.status == "infeasible" and outcome.proof is not None:
                self._shrink(outcome)
            else:
                proven &= outcome.status in ("optimal", "unbounded")
                self._set(member, counts=True)
        members = tuple(self.kept.members("row lower", "row upper", "lower", "upper"))
        return Clash(members, False, proven, self.kept.helpers)

    def _first(self) -> Outcome:
        """Solve what a chain of implied bounds leaves, or all where there is none or it does not hold up."""
        everything = {kind: mask.copy() for kind, mask in self.kept.masks.items()}
        relaxed = replace(self.kept.relaxed(), kinds=np.zeros_like(self.kept.problem.kinds))
        chain = contradiction_chain(relaxed)
        if chain is not None:
            self.kept.follow(chain)
            self.solver = LinearSolver(replace(self.kept.relaxed(), kinds=relaxed.kinds))
            outcome = self.solver.solve(self.limits)
            if outcome.status == "infeasible":
                return outcome
            self.kept.masks = everything
        self.solver = LinearSolver(relaxed)
        return self.solver.solve(self.limits)

    def _crossed(self) -> Clash | None:
        """Return the clash of two limits of one row or column that cross."""
        p, kept = self.kept.problem, self.kept.masks
        for low, high, lower, upper in (
            ("row lower", "row upper", p.row_lower, p.row_upper),
            ("lower", "upper", p.lower, p.upper),
        ):
            both = kept[low] & kept[high] & (lower > upper)  # type: ignore[index]
            if both.any():
                at = int(np.argmax(both))
                return Clash((Member(low, at), Member(high, at)), False, True, self.kept.helpers)  # type: ignore[arg-type]
        return None

    def _next(self, tried: set[Member]) -> Member | None:
        """Return the next member to try: bounds first, then rows."""
        rows = self.kept.longest_first(self.kept.members("row lower", "row upper"))
        for member in (*self.kept.members("lower", "upper"), *rows):
            if member not in tried:
                return member
        return None

    def _shrink(self, outcome: Outcome) -> None:
        """Give up all that the proof does not use."""
        assert outcome.proof is not None
        y, p = outcome.proof, self.kept.problem
        combined = p.priced(y)
        size = np.abs(y).max()
        noise = abs(p.matrix()).T @ np.abs(y) * UNUSED
        uses: dict[Kind, np.ndarray] = {
            "row lower": y > UNUSED * size,
            "row upper": y < -UNUSED * size,
            "lower": combined < -noise,
            "upper": combined > noise,
        }
        for kind, used in uses.items():
            unused = np.flatnonzero(self.kept.masks[kind] & ~used)
            if not kind.startswith("row"):
                unused = unused[unused < self.kept.helpers]
            for index in unused.tolist():
                self._set(Member(kind, index), counts=False)

    def _set(self, member: Member, counts: bool) -> None:
        """Let a member count or not, here and in the solver."""
        self.kept.masks[member.kind][member.index] = counts
        p, kept, i = self.kept.problem, self.kept.masks, member.index
        if member.kind.startswith("row"):
            low = p.row_lower[i] if kept["row lower"][i] else -np.inf
            self.solver.change_limits(i, low, p.row_upper[i] if kept["row upper"][i] else np.inf)
        else:
            low = p.lower[i] if kept["lower"][i] else -np.inf
            self.solver.change_bounds(i, low, p.upper[i] if kept["upper"][i] else np.inf)


class _WholeClash:
    """A clash that takes whole numbers, by trials of the tree search; many members are tried at once first."""

    def __init__(self, kept: _Kept, limits: Limits) -> None:
        self.kept, self.limits = kept, limits
        self.proven = True
        self.plans: list[Floats] = []  # of trials so far; one may do for a later trial as well

    def find(self) -> Clash | None:
        clash = self._indivisible()
        if clash is not None:
            return clash
        self._follow_chain()
        if self._status() != "infeasible":
            return None
        order: tuple[tuple[Kind, ...], ...] = (("row lower", "row upper"), ("integer",), ("lower", "upper"))
        for kinds in order:
            self._thin(self.kept.longest_first(self.kept.members(*kinds)))
        members = self.kept.members("row lower", "row upper", "lower", "upper", "integer")
        return Clash(tuple(members), True, self.proven, self.kept.helpers)

    def _follow_chain(self) -> None:
        """Keep only what a chain of implied bounds uses, where there is one and it holds up."""
        chain = contradiction_chain(self.kept.relaxed())
        if chain is None:
            return
        everything = {kind: mask.copy() for kind, mask in self.kept.masks.items()}
        self.kept.follow(chain)
        if self._status() != "infeasible":
            self.kept.masks = everything

    def _indivisible(self) -> Clash | None:
        """Return the clash of a row of whole numbers whose limits hold no multiple of its common divisor.

        The tree search alone would need the bounds of its columns to see this.
        """
        p, kept = self.kept.problem, self.kept.masks
        rows = csr_matrix(p.matrix())
        for i in np.flatnonzero(kept["row lower"] & kept["row upper"]).tolist():
            part = slice(rows.indptr[i], rows.indptr[i + 1])
            columns, values = rows.indices[part], rows.data[part]
            if not len(columns) or not kept["integer"][columns].all():
                continue
            entries = [Fraction(float(v)) for v in values]
            shared = Fraction(gcd(*(e.numerator for e in entries)), lcm(*(e.denominator for e in entries)))
            if ceil(Fraction(float(p.row_lower[i])) / shared) > floor(Fraction(float(p.row_upper[i])) / shared):
                marks = [Member("integer", int(j)) for j in np.sort(columns)]
                pair = Member("row lower", i), Member("row upper", i)
                return Clash((*pair, *marks), True, True, self.kept.helpers)
        return None

    def _thin(self, members: list[Member]) -> None:
        """Give up members in halves, as far as the rest stays infeasible."""
        if not members:
            return
        for member in members:
            self.kept.masks[member.kind][member.index] = False
        status = self._status()
        if status == "infeasible":
            return
        for member in members:
            self.kept.masks[member.kind][member.index] = True
        if len(members) == 1:
            self.proven &= status in ("optimal", "unbounded")
            return
        half = len(members) // 2
        self._thin(members[:half])
        self._thin(members[half:])

    def _status(self) -> str:
        left = self.kept.relaxed()
        if any(_keeps(left, x) for x in self.plans):
            return "optimal"
        seconds = self.limits.seconds - self.limits.elapsed()
        trial = Limits(seconds=max(0.0, seconds), nodes=MOST_NODES, interrupted=self.limits.interrupted)
        outcome = solve(left, trial)
        if outcome.status == "optimal" and outcome.x is not None:
            self.plans.append(outcome.x)
        return outcome.status


def _keeps(problem: Problem, x: Floats) -> bool:
    """Say whether values keep all limits, bounds and whole-number marks of a problem."""
    domain = Domain(problem)
    allowed = bool((domain.distance(x) <= FEASIBILITY).all())
    return allowed and feasible(problem, x, problem.activity(x), domain.lower, domain.upper)
