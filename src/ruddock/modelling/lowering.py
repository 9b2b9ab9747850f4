"""From a formulation to the engine's problem: rules and curves become rows and binary decisions here, at each solve.

What a rule needs stands behind what was written: the columns are those of the decisions, then the values of curves,
then helpers; the rows are those of the constraints, then those of rules. How much room a rule must leave where it
does not hold is worked out from the bounds of today, and from what the constraints imply for them, so that no large
number is made up by hand and a changed bound is never forgotten.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import coo_matrix

from ruddock.engine.measure import measures
from ruddock.engine.tree.tighten import implied_bounds
from ruddock.errors import ModelError, listed
from ruddock.modelling.cells import Cells
from ruddock.modelling.curves import Curve
from ruddock.modelling.decisions import kinds_of
from ruddock.modelling.formulation import Formulation, Objective, Ruled, joined
from ruddock.modelling.previous import look_back
from ruddock.modelling.relation import Sides
from ruddock.modelling.rules import Either, Implication, Run, When
from ruddock.modelling.terms import NO_TERMS, Terms
from ruddock.problem import INTEGER, LARGEST, Bytes, Floats, Problem, reaching_zero

SMALLER = f"numbers from {LARGEST:g} on cannot be calculated with: use a larger unit"
ANY_ROOM = 1e6  # left to rules of a model that has no plan whatever they say
Owner = tuple[Ruled | Curve, int]  # a rule or curve, and which of its members


@dataclass(frozen=True, eq=False, repr=False)
class Lowered:
    """A formulation as arrays.

    Attributes
    ----------
    formulation : what was written
    base : Problem without costs
    row_owners, column_owners : of each row and column behind those written: the rule or curve that it belongs to
    """

    formulation: Formulation
    base: Problem
    row_owners: tuple[Owner, ...]
    column_owners: tuple[Owner, ...]

    def problem(self, objective: Objective | None) -> Problem:
        """Return the minimisation problem for one objective; none at all asks for any feasible plan."""
        formulation = self.formulation
        if formulation.arrays is not None and formulation.objectives and objective is formulation.objectives[0]:
            return formulation.arrays
        size = self.base.n
        costs, offset = np.zeros(size), 0.0
        if objective is not None:
            for name, part in objective.parts.items():
                columns = formulation.columns_for(part.columns, f"the objective {objective.name!r} ({name})")
                costs = costs + np.bincount(columns, part.values, size)
                offset += float(part.constants[0])
            costs, offset = objective.sign * costs + 0.0, objective.sign * offset
            self._refuse_large(objective, costs, offset)
        return replace(self.base, costs=costs, offset=offset)

    def _refuse_large(self, objective: Objective, costs: Floats, offset: float) -> None:
        large = np.flatnonzero(~(np.abs(costs) < LARGEST))
        if len(large):
            name = self.formulation.decision_names[int(large[0])] if large[0] < self.formulation.size else "a rule"
            raise ModelError(
                f"{objective.name}: the coefficient of {name} is {objective.sign * costs[large[0]]:.3g}; {SMALLER}"
            )
        if not abs(offset) < LARGEST:
            raise ModelError(f"{objective.name}: its constant is {objective.sign * offset:.3g}; {SMALLER}")

    @property
    def problems(self) -> list[Problem]:
        """The problems of all objectives in their order; without any, the one that asks for a feasible plan."""
        return [self.problem(objective) for objective in self.formulation.objectives or (None,)]

    def row_name(self, row: int) -> str:
        """Return the name of a constraint, or of the rule that a row was made for."""
        own = self.formulation.rows
        part, at = self.formulation.constraint_at(row) if row < own else self.row_owners[row - own]
        return part.member(at)

    def column_name(self, column: int) -> str:
        """Return the name of a decision, or of the rule or curve that a column was made for."""
        own = self.formulation.size
        part, at = self.formulation.member_at(column) if column < own else self.column_owners[column - own]
        return part.member(at)


def lowered(formulation: Formulation, *, by_bounds: bool = False) -> Lowered:
    """Return a formulation as arrays; worked out once.

    Parameters
    ----------
    by_bounds : bool
        Work out the room of rules from the bounds of decisions alone, so that it stays right whichever constraints
        are taken away.

    Raises
    ------
    ModelError
        If a part uses decisions that are not in the model, or nothing limits the decisions of a rule.
    """
    key = "lowered by bounds" if by_bounds and formulation.rules else "lowered"
    if key not in formulation.cache:
        formulation.cache[key] = _Lowering(formulation, implied=not by_bounds).run()
    result: Lowered = formulation.cache[key]
    return result


class _Lowering:
    """Collects columns and rows."""

    def __init__(self, formulation: Formulation, *, implied: bool) -> None:
        self.formulation, self.implied = formulation, implied
        self.written = _written_rows(formulation)
        lower = [family.lower for family in formulation.decisions]
        upper = [family.upper for family in formulation.decisions]
        kinds = [kinds_of(family) for family in formulation.decisions]
        self.lower, self.upper, self.kinds = lower, upper, kinds
        self.column_owners: list[Owner] = []
        self.rows: list[tuple[Terms, Floats, Floats]] = []
        self.row_owners: list[Owner] = []
        self.helpers = 0
        self._tight: tuple[Floats, Floats] | None = None

    def run(self) -> Lowered:
        """Return the whole problem."""
        formulation = self.formulation
        if formulation.arrays is not None:
            return Lowered(formulation, formulation.arrays, (), ())
        for curve in formulation.curves:
            self._values_of(curve)
        for curve in formulation.curves:
            self._curve(curve)
        for ruled in formulation.rules:
            self._rule(ruled)
        return Lowered(formulation, self.problem(), tuple(self.row_owners), tuple(self.column_owners))

    def problem(self) -> Problem:
        """Return the problem as far as it is collected."""
        rows, columns, values, low, high = self.written
        size = sum(map(len, self.lower))
        m = len(low)
        large = np.flatnonzero(~(np.abs(values) < LARGEST))
        if len(large):
            row, name = int(rows[large[0]]), self.formulation.decision_names[int(columns[large[0]])]
            part, at = self.formulation.constraint_at(row)
            raise ModelError(f"{part.member(at)}: the coefficient of {name} is {values[large[0]]:.3g}; {SMALLER}")
        all_rows, all_columns, all_values, lows, highs = [rows], [columns], [values], [low], [high]
        for terms, own_low, own_high in self.rows:
            all_rows.append((terms.rows + m).astype(np.int32))
            all_columns.append(self.columns_for(terms).astype(np.int32))
            all_values.append(terms.values)
            lows.append(own_low)
            highs.append(own_high)
            m += terms.cells.size
        triplets = joined(all_values), (joined(all_rows), joined(all_columns))
        matrix = coo_matrix(triplets, shape=(m, size))
        kinds = np.concatenate(self.kinds) if self.kinds else np.zeros(0, np.uint8)
        if self.formulation.relaxed:
            kinds = np.zeros_like(kinds)
        return Problem.build(
            matrix.tocsc(), joined(lows), joined(highs), joined(self.lower), joined(self.upper), np.zeros(size), kinds
        )

    # ------------------------------------------------------------------ columns and rows

    def columns_for(self, terms: Terms) -> np.ndarray:
        """Translate decision numbers to columns; helpers are numbered behind all others."""
        known = terms.columns < self.formulation.columns
        if known.all():
            return self.formulation.columns_for(terms.columns, "a rule")
        first = self.formulation.size + sum(len(curve.numbers) for curve in self.formulation.curves)
        result = terms.columns - self.formulation.columns + first
        result[known] = self.formulation.columns_for(terms.columns[known], "a rule")
        return result

    def _helper(self, owner: Ruled | Curve, cells: Cells, lower: Floats, upper: Floats, kind: int, of: Terms) -> Terms:
        """Add a helper for each cell; ``of`` tells the registry."""
        size = cells.size
        first = self.formulation.columns + self.helpers
        self.helpers += size
        self.lower.append(lower)
        self.upper.append(upper)
        self.kinds.append(np.full(size, kind, np.uint8))
        self.column_owners += [(owner, i) for i in range(size)]
        rows = np.arange(size, dtype=np.intp)
        return Terms(
            of.registry, cells, rows, first + rows.astype(np.int64), np.ones(size), np.zeros(size), aligned=True
        )

    def _require(
        self, owner: Ruled | Curve, terms: Terms, lower: Floats, upper: Floats, members: Iterable[int]
    ) -> None:
        """Add rows; constants go to the limits."""
        low, high = lower - terms.constants, upper - terms.constants
        self.rows.append((terms.without_constants(), low, high))
        self.row_owners += [(owner, int(i)) for i in members]
        self._tight = None

    def _bounds(self) -> tuple[Floats, Floats, Bytes]:
        """Return bounds of the relaxation, and kinds, of all columns so far."""
        kinds = np.concatenate(self.kinds) if self.kinds else np.zeros(0, np.uint8)
        lower, upper = reaching_zero(joined(self.lower), joined(self.upper), kinds)
        return lower, upper, kinds

    def _reach(self, terms: Terms) -> tuple[Floats, Floats]:
        """Return the least and most that an expression can be, constants left out."""
        lower, upper, _ = self._bounds()
        columns = self.columns_for(terms)
        ends = _ends(terms, columns, lower, upper)
        if not self.implied or (np.isfinite(ends[0]).all() and np.isfinite(ends[1]).all()):
            return ends
        if self._tight is None:
            # what was written has no plan at all where its bounds contradict each other: then any room will do
            self._tight = implied_bounds(self.problem()) or (np.maximum(lower, -ANY_ROOM), np.minimum(upper, ANY_ROOM))
        tight_lower, tight_upper = self._tight
        return _ends(terms, columns, np.maximum(lower, tight_lower), np.minimum(upper, tight_upper))

    # ------------------------------------------------------------------ rules

    def _rule(self, ruled: Ruled) -> None:
        rule = ruled.rule
        if isinstance(rule, When):
            self._check_yes_no(ruled, rule.condition)
            self._where(ruled, rule.condition.spread(rule.cells), rule.relation)
        elif isinstance(rule, Either):
            self._either(ruled, rule)
        elif isinstance(rule, Implication):
            self._either(ruled, Either(rule.alternatives(self._steps(ruled, rule))))
        else:
            assert isinstance(rule, Run)
            self._check_yes_no(ruled, rule.on)
            self._run(ruled, rule)

    def _check_yes_no(self, ruled: Ruled, condition: Terms) -> None:
        lower, upper, kinds = self._bounds()
        columns = self.columns_for(condition)
        binary = (lower[columns] >= 0) & (upper[columns] <= 1)
        if not self.formulation.relaxed:
            binary &= (kinds[columns] & INTEGER) != 0
        if not binary.all():
            name = self.formulation.column_names[int(columns[~binary][0])]
            raise ModelError(f"{ruled.name}: the condition must be a binary decision, and {name} is not one")

    def _steps(self, ruled: Ruled, rule: Implication) -> Floats:
        """Return of what the row of a condition takes only multiples, so that its opposite can be told; 0 if strict."""
        row = rule.condition.row
        if rule.strict or self.formulation.relaxed:
            return np.zeros(row.cells.size)
        kinds = np.concatenate(self.kinds)
        integer = (kinds[self.columns_for(row)] & INTEGER) != 0
        used = row.values != 0
        steps = measures(row.values[used], row.rows[used], row.cells.size)
        steps[row.rows[used & ~integer]] = 0.0
        vague = np.flatnonzero(steps == 0)
        if len(vague):
            names = self.formulation.column_names
            own = [names[j] for j in np.unique(self.columns_for(row)[(row.rows == vague[0]) & used & ~integer])]
            raise ModelError(
                f"{ruled.name}: "
                + (f"{listed(own, 3)} is no integer" if own else "the sum has no common step")
                + ", so no value comes just before the limit of the condition; write if x > limit then ..., or either "
                "x <= limit or ...: at the limit itself they leave everything open"
            )
        return steps

    def _where(self, ruled: Ruled, condition: Terms, relation: Sides) -> None:
        """Leave just enough room where the condition, 0 or 1 in each cell, is 0."""
        row, (lower, upper) = relation.row, relation.bounds
        least, most = self._reach(row)
        for limit, end, sign in ((upper, most, 1.0), (lower, least, -1.0)):
            if not np.isfinite(limit).any():
                continue
            room = np.where(np.isfinite(limit), np.maximum(sign * (end - limit), 0.0), 0.0)
            self._refuse_unlimited(ruled, row, room)
            # a relation that holds whatever the plan needs no row
            kept = np.flatnonzero(room > 0)
            if not len(kept):
                continue
            own, wide = row.take(kept), room[kept]
            switch = condition.take(kept)
            switch = replace(switch, cells=own.cells)
            moved = replace(
                switch, values=switch.values * sign * switch.by_row(wide), constants=sign * wide * switch.constants
            )
            terms = own.plus(moved)
            edge = limit[kept] + sign * wide
            free = np.full(len(kept), np.inf)
            low, high = (-free, edge) if sign > 0 else (edge, free)
            self._require(ruled, terms, low, high, kept.tolist())

    def _either(self, ruled: Ruled, rule: Either) -> None:
        """Enforce a relation where its binary decision is 1; of two, one decision says which."""
        cells, size = rule.cells, rule.cells.size
        of = rule.relations[0].left
        if len(rule.relations) == 2:
            which = self._helper(ruled, cells, np.zeros(size), np.ones(size), INTEGER, of)
            other = replace(which.scaled(-1.0), constants=np.ones(size))
            for condition, relation in zip((which, other), rule.relations, strict=True):
                self._where(ruled, condition, replace(relation, left=replace(relation.left, cells=cells)))
            return
        total: Terms | None = None
        for relation in rule.relations:
            which = self._helper(ruled, cells, np.zeros(size), np.ones(size), INTEGER, of)
            self._where(ruled, which, replace(relation, left=replace(relation.left, cells=cells)))
            total = which if total is None else total.plus(which)
        assert total is not None
        self._require(ruled, total, np.ones(size), np.full(size, np.inf), range(size))

    def _run(self, ruled: Ruled, rule: Run) -> None:
        """Count changes in a window: at most as many as there may be (Rajan and Takriti 2005)."""
        on, before = rule.on, float(rule.before)
        if not rule.value:
            on = replace(on.scaled(-1.0), constants=1.0 - on.constants)
            before = 1.0 - before
        cells, size = on.cells, on.cells.size
        change = self._helper(ruled, cells, np.zeros(size), np.ones(size), 0, on)
        before_first = Terms(on.registry, Cells(()), *NO_TERMS, constants=np.array([before]))
        none_before = Terms(on.registry, Cells(()), *NO_TERMS, constants=np.zeros(1))
        begun = change.plus(on, -1.0).plus(look_back(on, rule.axis, 1, before_first))
        self._require(ruled, begun, np.zeros(size), np.full(size, np.inf), range(size))
        window = change
        for back in range(1, rule.least):
            window = window.plus(look_back(change, rule.axis, back, none_before))
        self._require(ruled, window.plus(on, -1.0), np.full(size, -np.inf), np.zeros(size), range(size))

    def _refuse_unlimited(self, ruled: Ruled, terms: Terms, room: Floats) -> None:
        """Raise an error that names the decisions without bounds."""
        if np.isfinite(room).all():
            return
        lower, upper, _ = self._bounds()
        rows = np.flatnonzero(~np.isfinite(room))
        columns = np.unique(self.columns_for(terms)[np.isin(terms.rows, rows)])
        open_ones = [int(j) for j in columns if not (np.isfinite(lower[j]) and np.isfinite(upper[j]))]
        names = [self.formulation.column_names[j] for j in open_ones]
        raise ModelError(
            f"{ruled.name}: nothing limits {listed(names, 3)}, so no finite room can be left where the rule does not "
            "hold; give the decisions upper (or lower) bounds"
        )

    # ------------------------------------------------------------------ curves

    def _values_of(self, curve: Curve) -> None:
        """Add the values of a curve as columns; its helpers come behind those of all curves."""
        self.lower.append(curve.values.min(axis=1))
        self.upper.append(curve.values.max(axis=1))
        self.kinds.append(np.zeros(curve.cells.size, np.uint8))
        self.column_owners += [(curve, i) for i in range(curve.cells.size)]

    def _curve(self, curve: Curve) -> None:
        """Fill the pieces in their order, each only once the one before is full.

        Of all formulations with binary decisions for the pieces none is tighter (Sherali 2001). A jump is a piece
        without width that is filled wholly or not at all.
        """
        cells, size = curve.cells, curve.cells.size
        none, free = np.zeros(size), np.full(size, np.inf)
        width, height = np.diff(curve.at, axis=1), np.diff(curve.values, axis=1)
        place, worth = curve.x, curve.value
        before: Terms | None = None
        for k in range(width.shape[1]):
            jumps = (width[:, k] == 0) & (height[:, k] != 0)
            pieces = np.where((width[:, k] == 0) & ~jumps, 0.0, 1.0)  # none where the last corner is repeated
            share = self._helper(curve, cells, none, pieces, 0, curve.x)
            self.kinds[-1][jumps] = INTEGER
            place = place.plus(replace(share, values=-width[:, k], columns=share.columns))
            worth = worth.plus(replace(share, values=-height[:, k]))
            if before is not None:
                # a piece is begun only where the one before is full; a jump says so itself
                both = np.flatnonzero(~jumps & (width[:, k - 1] > 0) & (pieces > 0))
                direct = np.flatnonzero((jumps | (width[:, k - 1] == 0)) & (pieces > 0))
                if len(direct):
                    later, earlier = share.take(direct), before.take(direct)
                    self._require(
                        curve, replace(earlier, cells=later.cells).plus(later, -1.0), none[direct], free[direct], direct
                    )
                if len(both):
                    part = cells.take(both) if len(both) < size else cells
                    full = self._helper(curve, part, none[both], pieces[both], INTEGER, curve.x)
                    later, earlier = (replace(t.take(both), cells=part) for t in (share, before))
                    self._require(curve, earlier.plus(full, -1.0), none[both], free[both], both)
                    self._require(curve, full.plus(later, -1.0), none[both], free[both], both)
                    self.column_owners[-len(both) :] = [(curve, int(i)) for i in both]
            before = share
        self._require(curve, place, curve.at[:, 0], curve.at[:, 0], range(size))
        self._require(curve, worth, curve.values[:, 0], curve.values[:, 0], range(size))


def _ends(terms: Terms, columns: np.ndarray, lower: Floats, upper: Floats) -> tuple[Floats, Floats]:
    """Return the least and most that terms can come to."""
    low = np.where(terms.values > 0, lower[columns], upper[columns]) * terms.values
    high = np.where(terms.values > 0, upper[columns], lower[columns]) * terms.values
    size = terms.cells.size
    used = terms.values != 0
    rows = terms.rows[used]
    return np.bincount(rows, low[used], size).astype(float), np.bincount(rows, high[used], size).astype(float)


def _written_rows(formulation: Formulation) -> tuple[np.ndarray, np.ndarray, Floats, Floats, Floats]:
    """Return rows, columns and values of all constraints, as 32-bit indices where they fit, and the limits."""
    size = sum(len(family.row.values) for family in formulation.constraints)
    rows, columns, values = np.empty(size, np.int32), np.empty(size, np.int32), np.empty(size)
    at = 0
    for family in formulation.constraints:
        terms = family.row
        part = slice(at, at + len(terms.values))
        np.add(terms.rows, formulation.row_starts[family.name], out=rows[part], casting="unsafe")
        columns[part] = formulation.columns_for(terms.columns, f"the constraint {family.name!r}")
        values[part] = terms.values
        at = part.stop
    low = joined([family.lower for family in formulation.constraints])
    high = joined([family.upper for family in formulation.constraints])
    return rows, columns, values, low, high
