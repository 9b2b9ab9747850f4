"""What to do, family by family: binary decisions first, then tables, and for large families totals by axis."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Cell, Label, LazyRows, Number, Row, Sentence, Table
from ruddock.document.numbers import DUST, amount, with_unit
from ruddock.errors import listed
from ruddock.modelling.answer.choices import choices, lists
from ruddock.modelling.answer.shapes import chosen_axis, runs_in_order
from ruddock.modelling.axis import Axis
from ruddock.modelling.decisions import Decisions, goes_by_label
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

SMALL = 24  # decisions of a model all of which are shown, those that are 0 too
MOST_DOWN, MOST_ACROSS = 60, 24  # of a two-way table
MOST_LISTED = 20  # members of a family on several axes that are listed one by one
LARGEST = 6  # members, and labels of an axis, of a large family
MOST_NAMED = 6  # decisions at their bounds


def what_to_do(plan: Plan) -> list[Block]:
    """Return what a plan says to do."""
    formulation, x = plan.formulation, plan.values
    small = len(x) <= SMALL
    families = [family for family in formulation.decisions if len(family)]
    starts = [formulation.starts[family.name] for family in families]
    some = np.logical_or.reduceat(np.abs(x) > DUST, starts).tolist() if starts else []
    own = [(family, x[start : start + len(family)]) for family, start in zip(families, starts, strict=True)]
    used = [pair for pair, is_used in zip(own, some, strict=True) if small or is_used]
    blocks: list[Block] = [_summary(plan)] if not small else []
    binary = [(f, v) for f, v in used if _is_choice(f, v)]
    flat = lists([(f, v) for f, v in binary if len(f.axes) == 1])
    blocks += [flat] if flat is not None else []
    for family, values in binary:
        if len(family.axes) > 1:
            blocks += choices(family, values)
    rest = [(f, v) for f, v in used if f.axes and not goes_by_label(f) and not _is_choice(f, v)]
    one_by_one = [(f, v) for f, v in used if not f.axes or goes_by_label(f)]
    if one_by_one:
        blocks.append(_singles(plan, one_by_one, small))
    for group in _same_axis(rest):
        if len(group) > 1 or len(group[0][0].axes) == 1:
            blocks.append(_side_by_side(group, small))
        else:
            blocks += _on_several_axes(*group[0], small)
    zero = [_named(family) for family, is_used in zip(families, some, strict=True) if not is_used]
    if zero and not small:
        blocks.append(Sentence(f"All 0: {listed(zero, 12)}."))
    return blocks


def _is_choice(family: Decisions, values: Floats) -> bool:
    """Say whether values read as yes or no: binary decisions, and assignments that come out as 0 and 1."""
    if not family.axes or goes_by_label(family):
        return False
    if family.kind == "binary":
        return True
    on = np.abs(values - 1.0) <= DUST
    if family.unit or len(family.axes) != 2 or on.sum() < 2 or not (on | (np.abs(values) <= DUST)).all():
        return False
    return chosen_axis([code[on] for code in family.cells.codes], family.axes) is not None


def _summary(plan: Plan) -> Sentence:
    x = plan.values
    used = int((np.abs(x) > DUST).sum())
    if used == len(x):
        return Sentence(f"None of the {len(x):,} decisions is 0.")
    return Sentence(f"{used:,} of {len(x):,} decisions are not 0.")


def _named(family: Decisions) -> str:
    return (
        f"{family.name}[{', '.join(family.cells.names)}]" if family.axes and not goes_by_label(family) else family.name
    )


def _singles(plan: Plan, families: Sequence[tuple[Decisions, Floats]], small: bool) -> Table:
    """Return decisions without axes, and those of files, one below the other; made as they are shown."""
    formulation = plan.formulation
    columns = np.concatenate([np.arange(len(f)) + formulation.starts[f.name] for f, _ in families])
    shown = columns if small else columns[np.abs(plan.values[columns]) > DUST]
    return Table("", ["decision", "value", ""], LazyRows(len(shown), lambda k: decision_row(plan, int(shown[k]))))


def decision_row(plan: Plan, column: int) -> Row:
    """Return a decision by name, with its value and the bound that it is at."""
    family, at = plan.formulation.member_at(column)
    value = float(plan.values[column])
    if family.kind == "binary":
        return family.member(at), "yes" if value > 0.5 else "no", ""
    low, high = float(family.lower[at]), float(family.upper[at])
    remark = "fixed" if low == high else "at its upper bound" if value == high else ""
    if not remark and value == low and low != 0:
        remark = "at its lower bound"
    return family.member(at), Number(value, family.unit), remark


def _same_axis(families: Sequence[tuple[Decisions, Floats]]) -> list[list[tuple[Decisions, Floats]]]:
    """Return families on the same single axis together, all others by themselves, in their order."""
    groups: dict[str, list[tuple[Decisions, Floats]]] = {}
    for family, values in families:
        alone = len(family.axes) != 1
        groups.setdefault(f"\0{family.name}" if alone else family.axes[0].name, []).append((family, values))
    return list(groups.values())


def _side_by_side(group: Sequence[tuple[Decisions, Floats]], small: bool) -> Table:
    """Return families on one axis: a row a label, a column a family."""
    axis = group[0][0].axes[0]
    grid = np.full((len(axis), len(group)), np.nan)
    for k, (family, values) in enumerate(group):
        grid[family.cells.codes[0], k] = values
    used = (np.abs(np.nan_to_num(grid)) > DUST).any(axis=1)
    kept = np.flatnonzero(used | (small or runs_in_order(axis)))
    unused = [axis.texts[i] for i in np.flatnonzero(~used).tolist()]
    notes = [f"0 at {listed(unused, MOST_NAMED)}."] if unused and len(kept) < len(axis) else []
    notes += _at_bounds(group)
    heads = [with_unit(family.name, family.unit) for family, _ in group]
    rows: list[Row] = [(_label(axis, i), *(Number(v) for v in grid[i].tolist())) for i in kept.tolist()]
    return Table("", [axis.name, *heads], rows, note=" ".join(notes))


def _label(axis: Axis, place: int) -> Label:
    return Label(axis.texts[place], axis.labels[place])


def _at_bounds(group: Sequence[tuple[Decisions, Floats]]) -> list[str]:
    names = [
        family.member(i)
        for family, x in group
        if family.kind != "binary"
        for i in np.flatnonzero((x == family.upper) & (family.upper > family.lower) & (np.abs(x) > DUST)).tolist()
    ]
    return (
        [f"At {'its upper bound' if len(names) == 1 else 'their upper bounds'}: {listed(names, MOST_NAMED)}."]
        if names
        else []
    )


def _on_several_axes(family: Decisions, values: Floats, small: bool) -> list[Block]:
    """Return a family on two axes or more: two-way where that is readable, else a list, else totals."""
    used = np.flatnonzero(np.abs(values) > DUST)
    if len(family.axes) == 2:
        table = two_way(family, values, keep_all=small)
        if table is not None:
            return [table]
    if len(used) <= MOST_LISTED:
        return [_members(family, values, used, with_unit(family.name, family.unit))]
    return _totals(family, values, used)


def two_way(family: Decisions, values: Floats, *, keep_all: bool = False, any_size: bool = False) -> Table | None:
    """Return a two-way table of the rows and columns that are not all 0; None where it would be too large.

    An axis that runs in order goes across, else the last one; the shorter one where only that fits.
    """
    grid = np.full([len(axis) for axis in family.axes], np.nan)
    grid[family.cells.codes[0], family.cells.codes[1]] = values
    down, across = family.axes
    if runs_in_order(down) and not runs_in_order(across):
        down, across, grid = across, down, grid.T
    used = np.abs(np.nan_to_num(grid)) > DUST
    rows_kept = np.flatnonzero(used.any(axis=1) | keep_all)
    columns_kept = np.flatnonzero(used.any(axis=0) | keep_all | runs_in_order(across))
    if len(columns_kept) > MOST_ACROSS >= len(rows_kept):  # too wide, but not too long
        down, across, grid, used = across, down, grid.T, used.T
        rows_kept, columns_kept = columns_kept, rows_kept
    if not any_size and (len(rows_kept) > MOST_DOWN or len(columns_kept) > MOST_ACROSS):
        return None
    mostly_zero = used.sum() < 0.5 * len(rows_kept) * len(columns_kept)
    rows: list[Row] = []
    for i in rows_kept.tolist():
        cells: list[Cell] = [Number(grid[i, j], quiet=bool(mostly_zero)) for j in columns_kept.tolist()]
        rows.append((_label(down, i), *cells))
    notes = []
    for axis, kept in ((down, rows_kept), (across, columns_kept)):
        unused = [axis.texts[i] for i in np.setdiff1d(np.arange(len(axis)), kept).tolist()]
        if unused:
            notes.append(f"0 at {axis.name} {listed(unused, MOST_NAMED)}.")
    if np.isnan(grid[np.ix_(rows_kept, columns_kept)]).any():
        notes.append("Blank: not a decision.")
    notes += _at_bounds([(family, values)])
    heads = [f"{down.name} \\ {across.name}", *(across.texts[j] for j in columns_kept.tolist())]
    return Table(
        with_unit(family.name, family.unit), heads, rows, note=" ".join(notes), most=None if any_size else MOST_DOWN
    )


def _members(family: Decisions, values: Floats, places: np.ndarray, title: str) -> Table:
    """Return members by their labels, a column an axis."""
    codes = family.cells.codes
    rows: list[Row] = [
        (*(_label(axis, code[i]) for axis, code in zip(family.axes, codes, strict=True)), Number(float(values[i])))
        for i in places.tolist()
    ]
    return Table(title, [*family.cells.names, family.name], rows)


def _totals(family: Decisions, values: Floats, used: np.ndarray) -> list[Block]:
    """Return a large family in totals by each axis, and its largest members."""
    total = amount(float(values.sum()), family.unit)
    blocks: list[Block] = [
        Sentence(f"{_named(family)}: {len(used):,} of {len(family):,} are not 0; they add up to {total}.")
    ]
    for axis, code in zip(family.axes, family.cells.codes, strict=True):
        sums = np.bincount(code, values, len(axis))
        counts = np.bincount(code[used], minlength=len(axis))
        held = np.flatnonzero(counts)
        title, order, most = f"{with_unit(family.name, family.unit)} by {axis.name}", held, MOST_ACROSS
        if len(held) > MOST_ACROSS or not runs_in_order(axis):
            order, most = held[np.argsort(-np.abs(sums[held]), kind="stable")], LARGEST
            title += ", the largest first" if len(held) > 1 else ""
        rows = [(_label(axis, i), Number(float(sums[i])), Number(float(counts[i]))) for i in order.tolist()]
        blocks.append(Table(title, [axis.name, "total", "not 0"], rows, most=most))
    largest = used[np.argsort(-np.abs(values[used]), kind="stable")][:LARGEST]
    blocks.append(_members(family, values, largest, f"The {len(largest)} largest of {len(used):,}"))
    return blocks
