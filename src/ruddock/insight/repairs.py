"""The least changes of limits that leave a plan, among those that may move; each proven by solving again."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from math import isnan
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.elastic import Room, fewest_rows, least_changes
from ruddock.engine.outcome import FEASIBILITY
from ruddock.errors import ModelError, listed
from ruddock.modelling.changing import as_range
from ruddock.modelling.decisions import changed, kinds_of
from ruddock.modelling.names import names_of
from ruddock.modelling.options import Clock
from ruddock.modelling.plan import Plan
from ruddock.modelling.relation import Sides
from ruddock.modelling.solve import solve_formulation
from ruddock.modelling.values import completed, plan_of_values
from ruddock.modelling.written import limit_of
from ruddock.problem import INTEGER, Floats, Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Constraints, Formulation
    from ruddock.modelling.lowering import Lowered

MOST_OTHERS = 3  # further repairs of least total, each leaving one more limit as it is
MOST_TRIED = 6  # limits of a repair that are held in place one by one to find the next
ALLOWED = re.compile(
    r"(?P<name>.+?)(?:\s+(?P<way>up|down))?(?:\s+by\s+(?P<far>[\d.]+(?:e[+-]?\d+)?)(?P<percent>\s*%)?)?"
    r"(?:\s+at\s+(?P<price>[\d.]+(?:e[+-]?\d+)?))?"
)


@dataclass(frozen=True)
class Move:
    """How one limit or bound moves.

    Attributes
    ----------
    name, relation : as written
    old, new : the limit before and after; None of a constraint with decisions on both sides, whose right side moves
    by : how far
    """

    name: str
    relation: str
    old: float | None
    new: float | None
    by: float


@dataclass(frozen=True, eq=False)
class Repair:
    """Changes of limits that leave a plan, proven by solving.

    Attributes
    ----------
    aim : what the changes are the least in
    changes : the limits and bounds that move
    total : what the aim comes to
    plan : the best plan of the repaired model
    least : whether it is proven that no smaller change will do
    """

    aim: str
    changes: tuple[Move, ...]
    total: float
    plan: Plan
    least: bool


@dataclass(frozen=True, eq=False)
class Search:
    """What the search for repairs found.

    Attributes
    ----------
    repairs : changes that lead to a plan
    outcome : ``found``; ``none``: proven that no change of what may move leaves a plan; ``too little``: none within how
        far things may move, ``needed`` says how far would do; ``stopped``: not found in time, whether there is one is
        not known; ``unproven``: none found, where rules depend on limits that may move
    needed : the least moves that would do, where they may not move so far
    """

    repairs: tuple[Repair, ...]
    outcome: Literal["found", "none", "too little", "stopped", "unproven"]
    needed: tuple[Move, ...] | None = None


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
        If one cannot be read, or a price is not a positive number.
    """
    if isinstance(given, str):
        given = [given]
    pairs: list[tuple[str, float | None]] = (
        list(given.items()) if isinstance(given, Mapping) else [(text, None) for text in given]
    )
    result = []
    for text, price in pairs:
        if not isinstance(text, str):
            raise ModelError(f"may_change: names are text, not {text!r}")
        read = ALLOWED.fullmatch(text.strip())
        if read is None:
            raise ModelError(f"may_change: {text!r} cannot be read; write NAME [up|down] [by HOW FAR[%]] [at PRICE]")
        try:
            far = float(read["far"]) if read["far"] else np.inf
            cost = float(read["price"]) if read["price"] else 1.0
        except ValueError:
            raise ModelError(f"may_change: {text!r} holds something that is not a number") from None
        cost = cost if price is None else price
        if not 0 < cost < np.inf:
            raise ModelError(f"may_change: the price of changing {read['name']} is a positive number, not {cost:g}")
        relative = read["percent"] is not None
        result.append(Allowed(read["name"], read["way"] or "", far / 100 if relative else far, relative, cost))
    return result


def find_repairs(formulation: Formulation, whole: Lowered, sure: bool, may_change: Any, clock: Clock) -> Search:
    """Return the least changes: in total with others near to it, in parts of each limit, in number, the least worst."""
    return _Repairs(formulation, whole, sure, may_change, clock).search()


class _Repairs:
    """One search for repairs.

    Bounds that may change become rows of their own, below those of the model; rows of rules never move.
    """

    def __init__(self, formulation: Formulation, whole: Lowered, sure: bool, may_change: Any, clock: Clock) -> None:
        self.formulation, self.whole, self.sure, self.clock = formulation, whole, sure, clock
        self.problem = whole.problems[0]
        allowed = None if may_change is None else parse_allowed(may_change)
        self.bounds = [] if allowed is None else self._bounds(allowed)
        self.extended = self._extended()
        self.room = self._room(allowed)
        self.limited = allowed is not None and any(np.isfinite(one.far) for one in allowed)
        self.found: list[Repair] = []
        self.ended: set[str] = set()  # how least-change problems without a repair ended

    def search(self) -> Search:
        """Return all repairs, those that come to the same once, and what is known where there are none."""
        room = self.room
        if not np.isfinite(np.minimum(room.fall_price, room.rise_price)).any():
            return Search((), "none")
        p = self.extended
        size = np.maximum(1.0, np.where(np.isfinite(p.row_lower), np.abs(p.row_lower), 0.0))
        size = np.maximum(size, np.where(np.isfinite(p.row_upper), np.abs(p.row_upper), 0.0))
        percent = replace(room, fall_price=room.fall_price * 100 / size, rise_price=room.rise_price * 100 / size)
        least = self._add("least change in total", room)
        if least is None:
            return self._without(room)
        self._add("least change in per cent", percent)
        rows = self._rows_by_name
        preferred = {rows[move.name] for move in least.changes if move.name in rows}
        few = fewest_rows(p, room, preferred, self._limits()) if self.clock.out() is None else None
        if few is not None:
            self._add("fewest constraints", room.only(few))
        self._add("smallest maximum change in per cent", percent, worst=True)
        self._add_others(least)
        return Search(tuple(self.found), "found")

    def _without(self, room: Room) -> Search:
        """Say why no repair was found, and how far limits would have to move where they may not move so far."""
        if self.ended != {"infeasible"}:
            return Search((), "stopped")
        if self.limited:
            far = np.full(len(room.fall_most), np.inf)
            wide = replace(room, fall_most=far, rise_most=far)
            fall, rise, outcome = least_changes(self.extended, wide, self._limits())
            if outcome.x is not None:
                return Search((), "too little", self._moves(*_clean(fall, rise), *self._moved(*_clean(fall, rise))))
            if outcome.status == "stopped":
                return Search((), "stopped")
        return Search((), "none" if self.sure else "unproven")

    def _limits(self) -> Any:
        return self.clock.for_part("looking for repairs")

    def name(self, row: int) -> str:
        """Return the name of a row, of the model or of a bound that may change."""
        m = self.problem.m
        return self.whole.row_name(row) if row < m else self.bounds[row - m][0]

    @cached_property
    def _rows_by_name(self) -> dict[str, int]:
        """The rows of the model's own constraints, and of bounds that may change."""
        return {self.name(i): i for i in range(self.extended.m) if i < self.formulation.rows or i >= self.problem.m}

    def _add_others(self, repair: Repair) -> None:
        """Add repairs that leave, one more each time, a limit as it is that the one before changes."""
        room, held, rows = self.room, list[str](), self._rows_by_name
        for _ in range(MOST_OTHERS):
            # the largest changes first: to leave these as they are makes the most of a difference
            touched = [move.name for move in sorted(repair.changes, key=lambda move: -abs(move.by))]
            for name in touched[:MOST_TRIED]:
                if self.clock.out() is not None:
                    return
                rest = [i for other, i in rows.items() if other not in (*held, name)]
                verb = "stay" if held else "stays"
                other = self._least(f"least change in total if {listed([*held, name], 3)} {verb}", room.only(rest))
                if other is None:
                    continue
                held.append(name)
                self._keep(other)
                repair = other
                break
            else:
                return

    def _add(self, aim: str, room: Room, worst: bool = False) -> Repair | None:
        """Keep the least repair in some sense."""
        if self.clock.out() is not None and self.found:
            return None
        repair = self._least(aim, room, worst)
        return None if repair is None else self._keep(repair)

    def _keep(self, repair: Repair) -> Repair:
        """Keep a repair unless one like it is there already."""
        for other in self.found:
            same = [(m.name, m.relation) for m in other.changes] == [(m.name, m.relation) for m in repair.changes]
            if same and all(
                abs(a.by - b.by) <= 1e-6 * max(1.0, abs(a.by))
                for a, b in zip(other.changes, repair.changes, strict=True)
            ):
                return other
        self.found.append(repair)
        return repair

    def _least(self, aim: str, room: Room, worst: bool = False) -> Repair | None:
        fall, rise, outcome = least_changes(self.extended, room, self._limits(), worst=worst)
        if outcome.x is None:
            self.ended.add(outcome.status)
            return None
        total = float(outcome.x[-1]) if worst else float(outcome.objective)
        least = outcome.status == "optimal" and self.sure
        repair = self._repaired(aim, *_clean(fall, rise), total, least, outcome.x)
        if repair is None:
            self.ended.add("stopped")
        return repair

    # ------------------------------------------------------------------ what may change

    def _bounds(self, allowed: list[Allowed]) -> list[tuple[str, int, bool]]:
        """Return the bounds named: their names, columns, and whether they are upper ones."""
        names = names_of(self.formulation)
        result = []
        for one in allowed:
            for side in ("lower", "upper"):
                if not one.name.endswith(f".{side}") or names.find_anything(one.name) is not None:
                    continue
                found = names.find(one.name.removesuffix(f".{side}"), ("decisions",))
                if found is None:
                    continue
                family = found.part
                if family.kind == "binary":
                    raise ModelError(f"may_change: {family.name} is a binary decision; its bounds cannot move")
                bounds = family.upper if side == "upper" else family.lower
                for at in found.members.tolist():
                    if not np.isfinite(bounds[at]):
                        raise ModelError(f"may_change: {family.member(at)} has no {side} bound")
                    column = self.formulation.starts[family.name] + at
                    result.append((f"{family.member(at)}.{side}", column, side == "upper"))
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
        p, count = self.extended, self.extended.m
        if allowed is None:
            price = np.where(np.arange(count) < self.formulation.rows, 1.0, np.inf)
            return Room.anywhere(price, price)
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

    def _named(self, one: Allowed) -> np.ndarray[Any, Any]:
        """Return the rows that a name means: of constraints, or of bounds that may change."""
        names = names_of(self.formulation)
        rows = names.rows(one.name)
        if rows is not None:
            return rows
        base, _, side = one.name.rpartition(".")
        m = self.problem.m
        own = [
            m + k
            for k, (name, _, upper) in enumerate(self.bounds)
            if upper == (side == "upper") and (name == one.name or name.startswith(f"{base}["))
        ]
        if own:
            return np.array(own)
        error = names.unknown(one.name, ("constraints",))
        raise ModelError(f"may_change: {error} (a bound is NAME.lower or NAME.upper)")

    # ------------------------------------------------------------------ solving again

    def _moved(self, fall: Floats, rise: Floats) -> tuple[Floats, Floats]:
        """Return the limits of all rows after changes; those of an equation move together."""
        p = self.extended
        low, high = p.row_lower - fall, p.row_upper + rise
        equation = p.row_lower == p.row_upper
        shift = np.where(equation, rise - fall, 0.0)
        low = np.where(equation, p.row_lower + shift, low)
        high = np.where(equation, p.row_upper + shift, high)
        m = self.problem.m
        for k, (_, j, is_upper) in enumerate(self.bounds):
            if is_upper:
                high[m + k] = self._rounded(j, high[m + k], np.ceil)
            else:
                low[m + k] = self._rounded(j, low[m + k], np.floor)
        return low, high

    def _moves(self, fall: Floats, rise: Floats, low: Floats, high: Floats) -> tuple[Move, ...]:
        """Return what moves, as written."""
        p, m = self.extended, self.problem.m
        moves = []
        for i in np.flatnonzero((fall > 0) | (rise > 0)).tolist():
            upper = rise[i] > 0
            by = float(high[i] - p.row_upper[i]) if upper else float(low[i] - p.row_lower[i])
            if i >= m:
                old = float(p.row_upper[i] if upper else p.row_lower[i])
                moves.append(Move(self.name(i), "<=" if upper else ">=", old, old + by, by))
                continue
            relation, old = limit_of(self.formulation, i, upper=upper)
            if p.row_lower[i] == p.row_upper[i]:
                relation = "=="
            before, after = (None, None) if isnan(old) else (old, old + by)
            moves.append(Move(self.name(i), relation, before, after, by))
        return tuple(moves)

    def _repaired(self, aim: str, fall: Floats, rise: Floats, total: float, least: bool, x: Floats) -> Repair | None:
        """Return the repair with the best plan that it allows; None if solving does not confirm it."""
        low, high = self._moved(fall, rise)
        formulation = self._changed(low, high)
        plan = solve_formulation(formulation, self.clock.options, self.clock)
        if plan.status == "stopped" and not plan.found:
            # the search for the best plan ran out of time; the one that led here is there
            plan = plan_of_values(formulation, completed(formulation, x[: formulation.size].copy()))
        if plan.status not in ("optimal", "unbounded", "stopped"):
            return None
        return Repair(aim, self._moves(fall, rise, low, high), total, plan, least)

    def _rounded(self, column: int, bound: float, to: Any) -> float:
        """Return a bound, of an integer decision a whole one, where it moved at all."""
        near = round(bound)
        if self.problem.kinds[column] & INTEGER and abs(bound - near) > FEASIBILITY:
            return float(to(bound))
        return float(near) if abs(bound - near) <= FEASIBILITY else float(bound)

    def _changed(self, low: Floats, high: Floats) -> Formulation:
        """Return the formulation with limits and bounds moved, as written."""
        p = self.extended
        constraints = []
        for family in self.formulation.constraints:
            first = self.formulation.row_starts[family.name]
            own = slice(first, first + family.cells.size)
            with np.errstate(invalid="ignore"):
                down = np.nan_to_num(low[own] - p.row_lower[own])
                up = np.nan_to_num(high[own] - p.row_upper[own])
            constraints.append(family if not (down.any() or up.any()) else _with_limits(family, down, up))
        lower = {d.name: d.lower.copy() for d in self.formulation.decisions}
        upper = {d.name: d.upper.copy() for d in self.formulation.decisions}
        for k, (_, j, is_upper) in enumerate(self.bounds):
            family_, at = self.formulation.member_at(j)
            (upper if is_upper else lower)[family_.name][at] = (high if is_upper else low)[self.problem.m + k]
        touched = {self.formulation.member_at(j)[0].name for _, j, _ in self.bounds}
        decisions = tuple(
            changed(d, lower[d.name], upper[d.name], kinds_of(d).copy()) if d.name in touched else d
            for d in self.formulation.decisions
        )
        return self.formulation.changed(constraints=tuple(constraints), decisions=decisions)


def _clean(fall: Floats, rise: Floats) -> tuple[Floats, Floats]:
    """Return changes without what rounding left."""
    return np.where(fall > FEASIBILITY, fall, 0.0), np.where(rise > FEASIBILITY, rise, 0.0)


def _with_limits(family: Constraints, down: Floats, up: Floats) -> Constraints:
    """Return a family with its limits moved where they are written."""
    sides = family.sides
    if sides.right is None:
        low, high = as_range(sides)
        return replace(family, sides=Sides(sides.left, "between", None, low + down, high + up))
    shift = np.where(up != 0, up, down)
    if sides.limit_side == "left":
        left = replace(sides.left, constants=sides.left.constants + shift)
        return replace(family, sides=replace(sides, left=left))
    right = replace(sides.right, constants=sides.right.constants + shift)
    return replace(family, sides=replace(sides, right=right))
