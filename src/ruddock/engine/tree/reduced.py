"""A whole-number problem in fewer rows and columns, and the way back to plans of the problem as it is."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.outcome import Counters, Limits, Moment, Options, Outcome, Solve
from ruddock.engine.presolve.chain import OF_WHOLE_NUMBERS, Presolve
from ruddock.engine.presolve.stage import Point
from ruddock.engine.tree import answer
from ruddock.engine.tree.domain import Domain
from ruddock.engine.tree.effort import Effort
from ruddock.engine.tree.incumbent import Incumbent
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats, Problem

LEAST = 500  # entries from which on it is tried


@dataclass(frozen=True, eq=False, repr=False)
class Reduced:
    """A problem and what presolve leaves of it.

    Attributes
    ----------
    problem : Problem
        As it is.
    presolve : Presolve
    """

    problem: Problem
    presolve: Presolve
    _domain: Domain
    _seconds: float

    @classmethod
    def of(cls, problem: Problem, limits: Limits, options: Options) -> Reduced | None:
        """Return what is left of a problem; None where it stays as it is.

        It does where rows may follow, where a plan is watched, and with semicontinuous columns.
        """
        begin, domain = limits.elapsed(), Domain(problem)
        if not options.presolve or options.as_it_is or problem.nonzeros < LEAST or len(domain.semis):
            return None
        if (domain.lower > domain.upper).any() or (problem.row_lower > problem.row_upper).any():
            return None
        within = replace(problem, lower=domain.lower, upper=domain.upper)
        presolve = Presolve(within, OF_WHOLE_NUMBERS, lambda: limits.exceeded(0) is not None)
        return cls(problem, presolve, domain, limits.elapsed() - begin) if presolve.steps else None

    def solve(self, work: Solve, limits: Limits, options: Options) -> Outcome:
        """Solve what is left, and come back.

        Parameters
        ----------
        work : solves a problem that is not to be made smaller
        """
        left, presolve = self.presolve.problem, self.presolve
        limits.record("presolve", rows=left.m, columns=left.n, entries=left.nonzeros, reductions=presolve.counts)
        if presolve.contradiction is not None:
            return answer.proof_or_nothing(SearchState(self.problem, limits, options))
        found = work(left, self._limits(limits), self._options(options))
        found = replace(found, counters=self._counted(found.counters))
        if found.status == "infeasible":
            state = SearchState(self.problem, limits, options)
            plain = answer.nothing(state) if found.proof is None else answer.proof_or_nothing(state)
            return replace(plain, counters=found.counters, history=found.history)
        if found.status == "unbounded":
            return work(self.problem, limits, options)
        if found.x is None:
            return found
        x = self._plan(found.x, limits, options)
        if x is None:  # what was within tolerances is not any more
            return work(self.problem, limits, replace(options, start=self._restored(found.x)))
        value = self.problem.objective(x)
        history = found.history or (Moment(limits.elapsed(), 0, value, found.bound),)  # without whole columns left
        return replace(
            found, history=history,
            x=x, activity=self.problem.activity(x), objective=value, bound=min(found.bound, value),
            y=None, reduced=None, basis=None,
        )  # fmt: skip

    def _counted(self, counters: Counters) -> Counters:
        """Return counters with what presolve took; a search counts as its own all that nobody else does."""
        parts = {"presolve": 0.0, **counters.parts}
        parts["presolve"] += self._seconds
        if "tree" in parts:
            parts["tree"] = max(0.0, parts["tree"] - self._seconds)
        return replace(counters, reductions=self.presolve.counts, parts=parts)

    def _limits(self, limits: Limits) -> Limits:
        """Return limits whose listener is told plans of the problem as it is."""
        tell = limits.on_plan
        return limits if tell is None else replace(limits, on_plan=lambda x: tell(self._restored(x)))

    def _options(self, options: Options) -> Options:
        """Return options that say the same of what is left."""
        columns, start, priorities = self.presolve.columns, options.start, options.priorities
        return replace(
            options,
            start=None if start is None else start[columns],
            priorities=None if priorities is None else priorities[columns],
        )

    def _restored(self, x: Floats) -> Floats:
        """Return a plan of the problem from one of what is left, within the bounds of columns."""
        whole = self.presolve.restore(Point(x=np.asarray(x, float))).x
        assert whole is not None
        lower, upper = self._domain.fixing(whole)
        return np.clip(whole, lower, upper)

    def _plan(self, x: Floats, limits: Limits, options: Options) -> Floats | None:
        """Return a plan of the problem from one of what is left; the continuous rest is solved anew where it is off."""
        plan, p = self._restored(x), self.problem
        if certificates.plan_holds(p, plan, p.activity(plan), self._domain.lower, self._domain.upper):
            return plan
        effort = Effort(replace(limits, on_progress=None, on_event=None))
        incumbent = Incumbent(p, self._domain, options, effort)
        incumbent.try_plan(plan)
        return incumbent.best
