"""What limits a plan: the constraints that bind, member by member or by family, and what one more is worth."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.document.content import Block, Cell, LazyRows, Number, Row, Sentence, Table
from ruddock.document.numbers import per, plural
from ruddock.engine.outcome import FEASIBILITY
from ruddock.errors import listed
from ruddock.modelling.prices import Worth, nondegenerate, worth_of

if TYPE_CHECKING:
    import pandas as pd

    from ruddock.modelling.plan import Plan

SMALL = 12  # constraints of a model all of which are shown, and binding ones that are shown one by one
MOST_PRICED = 60  # binding members of a degenerate plan whose prices are worked out for a summary by family
WORTH = "one more is worth"
NO_PRICE = (
    "Integer decisions move in steps, so a limit has no price per unit. sensitivity solves the model again with each "
    "limit moved by a step."
)


def what_limits(plan: Plan) -> list[Block]:
    """Return what holds a plan back."""
    frame = plan.constraints()
    if not len(frame):
        return []
    binding = frame["binding"].to_numpy(bool)
    scale = FEASIBILITY * np.maximum(1.0, np.abs(np.nan_to_num(frame["right"].to_numpy(float))))
    idle = (
        binding & (np.abs(frame["left"].to_numpy(float)) <= scale) & (np.abs(frame["right"].to_numpy(float)) <= scale)
    )
    places = np.flatnonzero(binding & ~idle)
    if len(frame) <= SMALL:
        return [_all_of_them(plan, frame)]
    apart = f"; {plural(int(idle.sum()), 'row')} with 0 on both sides not counted" if idle.any() else ""
    title = f"Binding constraints: {len(places):,} of {len(frame):,}{apart}"
    if not len(places):
        return [Sentence(f"{title}.")]
    if len(places) <= SMALL:
        return [_members(plan, frame, places, title)]
    ends = np.cumsum([family.cells.size for family in plan.formulation.constraints])
    many = np.diff(ends, prepend=0) > 1
    owner = np.searchsorted(ends, places, side="right")
    blocks: list[Block] = []
    if many[owner].any():
        blocks.append(_by_family(plan, frame, places[many[owner]], owner[many[owner]], title))
    single = places[~many[owner]]
    if len(single):
        others = _members(plan, frame, single, title if not blocks else "Other constraints that bind")
        same = bool(blocks) and isinstance(blocks[0], Table) and blocks[0].note == others.note
        blocks.append(others._replace(note="") if same else others)
    return blocks


def _priced(plan: Plan) -> bool:
    return plan.outcome.y is not None and plan.goal is not None


def _worths(plan: Plan, places: list[int]) -> list[Worth] | None:
    return worth_of(plan, places) if _priced(plan) and places else None


def _note(plan: Plan, worths: list[Worth] | None, shown: bool) -> str:
    """Return what must be said of the prices."""
    if not shown:
        return ""
    if plan.outcome.y is None:
        return NO_PRICE if plan.formulation.objectives and plan.formulation.discrete else ""
    if not _priced(plan):
        return ""
    words = f"One more is worth: the change of {plan.objective_name} if the limit rises by one unit."
    if worths is None:
        return (
            "Degenerate: one more and one less may be worth different amounts, and this model is too large to work out "
            "all of them here. sensitivity with names does it for those that matter."
        )
    if any(not worth.one for worth in worths):
        words += " Degenerate: there, one less is worth a different amount; sensitivity shows both directions."
    return words


def _all_of_them(plan: Plan, frame: pd.DataFrame) -> Table:
    """Return every constraint of a small model: both sides, slack, and what one more is worth."""
    places = np.flatnonzero(frame["binding"].to_numpy(bool)).tolist()
    worths = _worths(plan, places)
    worth_at = dict(zip(places, worths or [], strict=False))
    binding = len(places)
    rows: list[Row] = []
    for i in range(len(frame)):
        row = frame.iloc[i]
        worth: Cell = worth_cell(plan, worth_at[i], str(row["unit"])) if i in worth_at else ""
        rows.append((*_sides(row, str(frame.index[i])), *([worth] if _priced(plan) else [])))
    title = f"Constraints: {binding} of {len(frame)} {'binds' if binding == 1 else 'bind'}"
    heads = ["constraint", "left side", "", "right side", "slack", *([WORTH] if _priced(plan) else [])]
    return Table(title, heads, rows, note=_note(plan, worths, binding > 0))


def _sides(row: Any, name: str) -> tuple[Cell, ...]:
    unit = row["unit"] or None
    bare = str(row["relation"]) == "free"
    slack: Cell = "" if bare else "binding" if row["binding"] else Number(float(row["slack"]), unit)
    return (
        name,
        Number(float(row["left"]), unit),
        "no limit" if bare else str(row["relation"]),
        "" if bare else Number(float(row["right"]), unit),
        slack,
    )


def worth_cell(plan: Plan, worth: Worth | None, unit: str) -> Cell:
    """Return what one unit more of a limit changes the first objective by."""
    if worth is None:
        return "not worked out"
    if np.isnan(worth.more):
        return "then infeasible"
    words = "" if worth.one else "(degenerate)"
    if abs(worth.more) < 1e-12:
        return Number(0.0, words=words)
    return Number(worth.more, per(plan.unit, unit), signed=True, words=words)


def _members(plan: Plan, frame: pd.DataFrame, places: np.ndarray, title: str) -> Table:
    """Return binding constraints one by one."""
    left_out = 0
    if len(places) > SMALL:  # those that are probably worth most
        if plan.outcome.y is not None:
            places = places[np.argsort(-np.abs(plan.outcome.y[places]), kind="stable")]
        left_out = len(places) - SMALL
        places = places[:SMALL]
    worths = _worths(plan, places.tolist())
    rows: list[Row] = []
    for k, i in enumerate(places.tolist()):
        row = frame.iloc[i]
        own = () if not _priced(plan) else (worth_cell(plan, None if worths is None else worths[k], str(row["unit"])),)
        rows.append((str(frame.index[i]), *_limit(plan, i, row), *own))
    heads = ["constraint", "", "limit", *([WORTH] if _priced(plan) else [])]
    return Table(title, heads, rows, note=_note(plan, worths, True), hidden=left_out)


def _limit(plan: Plan, at: int, row: Any) -> tuple[Cell, Cell]:
    """Return relation and limit as written; of a constraint with decisions on both sides the value of the right one."""
    family, _ = plan.formulation.constraint_at(at)
    unit = row["unit"] or None
    if family.sides.limit_side == "left":
        return f"{row['relation']} from", Number(float(row["left"]), unit)
    return str(row["relation"]), Number(float(row["right"]), unit)


def _by_family(plan: Plan, frame: pd.DataFrame, places: np.ndarray, owner: np.ndarray, title: str) -> Table:
    """Return a row a family: how many members bind, and between what their prices are."""
    formulation = plan.formulation
    worths = _worths(plan, places.tolist()) if len(places) <= MOST_PRICED or nondegenerate(plan) else None
    rows: list[Row] = []
    for k in np.unique(owner).tolist():
        family = formulation.constraints[k]
        own = np.flatnonzero(owner == k)
        prices: tuple[Cell, ...] = ()
        if worths is not None:
            held = [(worths[i], int(places[i])) for i in own.tolist()]
            prices = _span(plan, frame, held, family.unit or "")
        count = f"{len(own):,} of {family.cells.size:,}"
        names = listed([str(frame.index[int(places[i])]) for i in own[:3].tolist()], 3) if len(own) <= 3 else ""
        rows.append((family.name, count, names, *prices))
    heads = ["constraint", "binding", "which"]
    if worths is not None:
        heads += [f"{WORTH}: from", "to", "most at"]
    return Table(title, heads, rows, note=_note(plan, worths, True))


def _span(plan: Plan, frame: pd.DataFrame, held: list[tuple[Worth, int]], unit: str) -> tuple[Cell, Cell, Cell]:
    """Return the least and the greatest price of some members, and where one more is worth most."""
    known = [(worth, i) for worth, i in held if not np.isnan(worth.more)]
    if not known:
        return ("then infeasible", "", "")
    ordered = sorted(known, key=lambda pair: pair[0].more)
    best = max(known, key=lambda pair: abs(pair[0].more))
    low, high = ordered[0][0], ordered[-1][0]
    where = str(frame.index[best[1]]) if abs(best[0].more) > 1e-12 else ""
    return worth_cell(plan, low, unit), worth_cell(plan, high, unit), where


def constraint_rows(plan: Plan, places: np.ndarray | None = None) -> Table:
    """Return constraints with both sides as written, slack, and the shadow price; all of them, or some."""
    frame = plan.constraints()
    chosen = np.arange(len(frame)) if places is None else places
    priced = _priced(plan)
    records = frame.iloc[chosen]

    def row(k: int) -> Row:
        own = records.iloc[k]
        price = Number(float(own["shadow_price"]), per(plan.unit, str(own["unit"])), signed=True)
        return (*_sides(own, str(records.index[k])), *([price] if priced else []))

    heads = ["constraint", "left side", "", "right side", "slack", *(["shadow price"] if priced else [])]
    note = (
        "Shadow prices are those of one basis; sensitivity shows both directions and how far they hold."
        if priced
        else ""
    )
    return Table(f"Constraints: {len(chosen):,}", heads, LazyRows(len(chosen), row), note=note)
