"""The least changes of limits that leave a plan, among those that may move; each proven by solving again."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.elastic import Room, fewest_rows, least_changes
from ruddock.engine.outcome import FEASIBILITY, Limits
from ruddock.engine.solve import solve
from ruddock.errors import ModelError, known, listed
from ruddock.modelling.decisions import members_of
from ruddock.modelling.plan import Plan
from ruddock.problem import INTEGER, Floats, Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation

MOST_OTHERS = 3  # further repairs of least total, each leaving one more limit as it is
MOST_TRIED = 6  # limits of a repair that are held in place one by one to find the next
ALLOWED = re.compile(
    r"(?P<name>.+?)(?:\s+(?P<way>up|down))?(?:\s+by\s+(?P<far>[\d.]+(?:e[+-]?\d+)?)(?P<percent>\s*%)?)?"
    r"(?:\s+at\s+(?P<price>[\d.]+(?:e[+-]?\d+)?))?"
)


@dataclass(frozen=True, eq=False)
class Repair:
    """Changes of limits that leave a plan, proven by solving.

    Attributes
    ----------
    aim : what the changes are the least in
    changes : constraint or bound, relation, old and new limit
    total : what the aim comes to
    plan : the best plan of the repaired model
    """

    aim: str
    changes: tuple[tuple[str, str, float, float], ...]
    total: float
    plan: Plan


@dataclass(frozen=True)
class Allowed:
    """Limits that may move.

    Attributes
    ----------
    name : of a constraint, a family of them, or a bound such as ``hampers.upper``
    way : ``up``, ``down``, or empty for either
    far : how far at most; a share of the limit where ``relative``
    price : of one unit
    """

    name: str
    way: str = ""
    far: float = np.inf
    relative: bool = False
    price: float = 1.0


def parse_allowed(given: Iterable[str] | Mapping[str, float]) -> list[Allowed]:
    """Read what may change: names, or ``demand down by 10 at 2.5``, or a mapping of such to prices.

    Raises
    ------
    ModelError
        If one cannot be read, or a price is no positive number.
    """
    if isinstance(given, str):
        given = [given]
    pairs: list[tuple[str, float | None]] = (
        list(given.items()) if isinstance(given, Mapping) else [(text, None) for text in given]
    )
    result = []
    for text, price in pairs:
        read = ALLOWED.fullmatch(text.strip())
        if read is None:
            raise ModelError(f"may_change: {text!r} cannot be read; write NAME [up|down] [by HOW FAR[%]] [at PRICE]")
        try:
            far = float(read["far"]) if read["far"] else np.inf
            cost = float(read["price"]) if read["price"] else 1.0
        except ValueError:
            raise ModelError(f"may_change: {text!r} holds something that is no number") from None
        cost = cost if price is None else price
        if not 0 < cost < np.inf:
            raise ModelError(f"may_change: the price of changing {read['name']} is a positive number, not {cost:g}")
        relative = read["percent"] is not None
        result.append(Allowed(read["name"], read["way"] or "", far / 100 if relative else far, relative, cost))
    return result


def find_repairs(
    formulation: Formulation, problem: Problem, goal: Any, may_change: Any, limits: Limits
) -> tuple[Repair, ...]:
    """Return the least changes: in total with others near to it, in parts of each limit, in number, the least worst."""
    return _Repairs(formulation, problem, goal, may_change, limits).all()


class _Repairs:
    """One search for repairs.

    Bounds that may change become rows of their own, below those of the model.
    """

    def __init__(self, formulation: Formulation, problem: Problem, goal: Any, may_change: Any, limits: Limits) -> None:
        self.formulation, self.problem, self.goal, self.limits = formulation, problem, goal, limits
        allowed = None if may_change is None else parse_allowed(may_change)
        self.bounds = [] if allowed is None else self._bounds(allowed)
        self.names = formulation.constraint_names + [name for name, _, _ in self.bounds]
        self.extended = self._extended()
        self.room = self._room(allowed)
        self.found: list[Repair] = []

    def all(self) -> tuple[Repair, ...]:
        """Return all repairs, those that come to the same once."""
        room = self.room
        if not np.isfinite(np.minimum(room.fall_price, room.rise_price)).any():
            return ()
        p = self.extended
        size = np.maximum(1.0, np.where(np.isfinite(p.row_lower), np.abs(p.row_lower), 0.0))
        size = np.maximum(size, np.where(np.isfinite(p.row_upper), np.abs(p.row_upper), 0.0))
        percent = replace(room, fall_price=room.fall_price * 100 / size, rise_price=room.rise_price * 100 / size)
        least = self._add("least change in total", room)
        self._add("least change in per cent", percent)
        few = fewest_rows(p, room, self.limits)
        if few is not None:
            self._add("fewest constraints", room.only(few))
        self._add("smallest largest change in per cent", percent, worst=True)
        if least is not None:
            self._add_others(least)
        return tuple(self.found)

    def _add_others(self, repair: Repair) -> None:
        """Add repairs that leave, one more each time, a limit as it is that the one before changes."""
        room, held = self.room, list[str]()
        for _ in range(MOST_OTHERS):
            # the largest changes first: to leave these as they are makes the most of a difference
            touched = [name for name, *_ in sorted(repair.changes, key=lambda change: -abs(change[3] - change[2]))]
            for name in touched[:MOST_TRIED]:
                rest = [i for i, other in enumerate(self.names) if other not in (*held, name)]
                verb = "stay" if held else "stays"
                other = self._least(f"least change in total if {listed([*held, name], 3)} {verb}", room.only(rest))
                if other is not None:
                    held.append(name)
                    repair = other
                    self._keep(other)
                    break
            else:
                return

    def _add(self, aim: str, room: Room, worst: bool = False) -> Repair | None:
        repair = self._least(aim, room, worst)
        if repair is not None:
            self._keep(repair)
        return repair

    def _keep(self, repair: Repair) -> None:
        if all(repair.changes != other.changes for other in self.found):
            self.found.append(repair)

    def _least(self, aim: str, room: Room, worst: bool = False) -> Repair | None:
        fall, rise, outcome = least_changes(self.extended, room, self.limits, worst=worst)
        if outcome.status != "optimal" or outcome.x is None:
            return None
        total = float(outcome.x[-1]) if worst else float(outcome.objective)
        return self._repaired(aim, fall, rise, total)

    # ------------------------------------------------------------------ what may change

    def _bounds(self, allowed: list[Allowed]) -> list[tuple[str, int, bool]]:
        """Return the bounds named: their names, columns, and whether they are upper ones."""
        names = self.formulation.decision_names
        result = []
        for one in allowed:
            base, _, side = one.name.rpartition(".")
            if side not in ("lower", "upper") or members_of(one.name, self.formulation.constraint_names):
                continue
            for j in members_of(base, names):
                bound = self.problem.upper[j] if side == "upper" else self.problem.lower[j]
                if not np.isfinite(bound):
                    raise ModelError(f"may_change: {names[j]} has no {side} bound")
                family, _ = self.formulation.member_at(j)
                if family.kind == "binary":
                    raise ModelError(f"may_change: {names[j]} is a yes/no decision; its bounds cannot move")
                result.append((f"{names[j]}.{side}", j, side == "upper"))
        return result

    def _extended(self) -> Problem:
        """Return the problem with the bounds that may change as rows."""
        p = self.problem
        if not self.bounds:
            return p
        columns = np.array([j for _, j, _ in self.bounds])
        upper = np.array([is_upper for *_, is_upper in self.bounds])
        unit = csr_matrix((np.ones(len(columns)), (np.arange(len(columns)), columns)), shape=(len(columns), p.n))
        low, high = p.lower.copy(), p.upper.copy()
        low[columns[~upper]], high[columns[upper]] = -np.inf, np.inf
        rows = p.with_rows(unit, np.where(upper, -np.inf, p.lower[columns]), np.where(upper, p.upper[columns], np.inf))
        return replace(rows, lower=low, upper=high)

    def _room(self, allowed: list[Allowed] | None) -> Room:
        """Return which limits may move, how far and at what price."""
        p, count = self.extended, len(self.names)
        if allowed is None:
            return Room.anywhere(np.ones(count), np.ones(count))
        fall_price, rise_price, fall_most, rise_most = np.full((4, count), np.inf)
        for one in allowed:
            own = self._named(one)
            for way, price, most, limit in (
                ("down", fall_price, fall_most, p.row_lower),
                ("up", rise_price, rise_most, p.row_upper),
            ):
                if one.way in ("", way):
                    loose = own[np.isfinite(limit[own])]
                    price[loose] = one.price
                    most[loose] = one.far * np.abs(limit[loose]) if one.relative else one.far
            if one.way and not np.isfinite((fall_price if one.way == "down" else rise_price)[own]).any():
                raise ModelError(
                    f"may_change: {one.name} {one.way} tightens it, which makes no plan possible; "
                    f"write {one.name} {'up' if one.way == 'down' else 'down'}"
                )
        return Room(fall_price, rise_price, fall_most, rise_most)

    def _named(self, one: Allowed) -> np.ndarray:
        base, _, side = one.name.rpartition(".")
        own = members_of(one.name, self.names)
        if side in ("lower", "upper") and not own:
            own = [k for k, name in enumerate(self.names) if name.endswith(f".{side}") and name.startswith(f"{base}[")]
        if own:
            return np.array(own)
        families = [family.name for family in self.formulation.constraints if not family.listed]
        hint = known(one.name, list(dict.fromkeys([*families, *self.formulation.constraint_names])))
        raise ModelError(
            f"may_change: there is no constraint called {one.name!r}; {hint} (a bound is NAME.lower or NAME.upper)"
        )

    # ------------------------------------------------------------------ solving again

    def _repaired(self, aim: str, fall: Floats, rise: Floats, total: float) -> Repair | None:
        """Return the repair with the best plan that it allows; None if solving does not confirm it."""
        p = self.extended
        fall, rise = (np.where(part > FEASIBILITY, part, 0.0) for part in (fall, rise))
        low, high = p.row_lower - fall, p.row_upper + rise
        # limits of an equation move together
        equation = p.row_lower == p.row_upper
        shift = np.where(equation, rise - fall, 0.0)
        low = np.where(equation, p.row_lower + shift, low)
        high = np.where(equation, p.row_upper + shift, high)
        m = self.problem.m
        lower, upper = self.problem.lower.copy(), self.problem.upper.copy()
        for k, (_, j, is_upper) in enumerate(self.bounds):
            if is_upper:
                upper[j] = self._rounded(j, high[m + k], np.ceil)
                high[m + k] = upper[j]
            else:
                lower[j] = self._rounded(j, low[m + k], np.floor)
                low[m + k] = lower[j]
        new = replace(self.problem, row_lower=low[:m], row_upper=high[:m], lower=lower, upper=upper)
        outcome = solve(new, self.limits)
        if outcome.status not in ("optimal", "unbounded"):
            return None
        changes = []
        for i in np.flatnonzero((fall > 0) | (rise > 0)).tolist():
            relation = "==" if equation[i] else ">=" if fall[i] > 0 else "<="
            old, now = (p.row_lower, low) if fall[i] > 0 else (p.row_upper, high)
            changes.append((self.names[i], relation, float(old[i]), float(now[i])))
        return Repair(aim, tuple(changes), total, Plan(self._changed(new), outcome, self.goal))

    def _rounded(self, column: int, bound: float, to: Any) -> float:
        """Return a bound, of a whole number a whole one, where it moved at all."""
        near = round(bound)
        if self.problem.kinds[column] & INTEGER and abs(bound - near) > FEASIBILITY:
            return float(to(bound))
        return float(near) if abs(bound - near) <= FEASIBILITY else float(bound)

    def _changed(self, new: Problem) -> Formulation:
        """Return the formulation with the limits and bounds of the repaired problem."""
        constraints, at = [], 0
        for family in self.formulation.constraints:
            own = slice(at, at + family.cells.size)
            constraints.append(replace(family, lower=new.row_lower[own], upper=new.row_upper[own]))
            at = own.stop
        decisions, at = [], 0
        for decided in self.formulation.decisions:
            own = slice(at, at + len(decided))
            decisions.append(decided.with_bounds(new.lower[own], new.upper[own]) if self.bounds else decided)
            at = own.stop
        return replace(self.formulation, constraints=tuple(constraints), decisions=tuple(decisions), arrays=None)
