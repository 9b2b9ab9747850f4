"""Cuts of binary columns: lifted covers of knapsacks, cliques, and implied bounds."""

from __future__ import annotations

import numpy as np

from ruddock.engine.tree.cliques import Cliques
from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.tighten import VariableBound
from ruddock.problem import Floats

SLACK = 0.1  # rows with more slack than this, beside their size, give no cover
MOST_SEEDS = 200  # literals from which cliques are grown
HELD = 1e-6  # value of a literal above which it counts
BROKEN = 1.0 + 1e-4  # values in a clique in all, up to which it is no cut


def covers(frame: Frame) -> list[Cut]:
    """Return lifted covers: of items too heavy together, not all; heavy ones outside count for several (Balas 1975)."""
    p = frame.problem
    cuts = []
    binary = frame.whole & (frame.lower == 0) & (frame.upper == 1)
    broken = np.bincount(frame.owner, (frame.fraction[frame.rows.indices] > 1e-6) & binary[frame.rows.indices], p.m)
    # of items of one weight so many fit, which rounding says
    weight = np.abs(frame.rows.data)
    uneven = np.bincount(frame.owner, weight != weight[frame.rows.indptr[frame.owner]], p.m) > 0
    useful = (broken > 0) & (frame.room <= SLACK * frame.row_size) & (np.diff(frame.rows.indptr) > 2) & uneven
    for i in np.flatnonzero(useful).tolist():
        if frame.stopped():
            break
        part = slice(frame.rows.indptr[i], frame.rows.indptr[i + 1])
        columns, values = frame.rows.indices[part], frame.rows.data[part]
        for sign, limit in ((1.0, p.row_upper[i]), (-1.0, -p.row_lower[i])):
            if np.isfinite(limit):
                cut = _cover(frame, columns, sign * values, float(limit), binary)
                if cut is not None:
                    cuts.append(cut)
    return cuts


def _cover(frame: Frame, columns: np.ndarray, a: Floats, limit: float, binary: np.ndarray) -> Cut | None:
    """Return the lifted cover of one row, other columns at the bounds where they take least."""
    items = binary[columns]
    others = columns[~items]
    least = np.where(a[~items] > 0, frame.lower[others], frame.upper[others]) * a[~items]
    if not np.isfinite(least).all():
        return None
    columns, a = columns[items], a[items]
    up = a > 0
    weight = np.abs(a)
    room = limit - float(least.sum()) - float(a[~up].sum())
    value = np.where(up, frame.x[columns], 1.0 - frame.x[columns])
    # what adding up may have lost counts as room: a cover must be too heavy beyond that
    room += 1e-12 * (abs(limit) + float(np.abs(least).sum()) + float(weight.sum()))
    if room < 0 or weight.sum() <= room + 1e-9 or len(columns) < 2:
        return None
    order = np.argsort((1.0 - value) / weight, kind="stable")
    count = int(np.searchsorted(np.cumsum(weight[order]), room + 1e-7 * max(1.0, room), side="right")) + 1
    if count > len(order):
        return None
    cover = order[:count]
    total = float(weight[cover].sum())
    for k in cover[np.argsort(value[cover], kind="stable")].tolist():  # minimal: without any one it fits
        if total - weight[k] > room + 1e-7 * max(1.0, room):
            total -= weight[k]
            cover = cover[cover != k]
    if value[cover].sum() <= len(cover) - 1 - 0.5 and len(cover) == count:
        return None
    largest = np.cumsum(-np.sort(-weight[cover]))
    lifted = np.searchsorted(largest, weight + 1e-9, side="right").astype(float)
    lifted[cover] = 1.0
    return frame.cut(columns, np.where(up, lifted, -lifted), len(cover) - 1.0 - float(lifted[~up].sum()), "cover")


def clique_cuts(frame: Frame, cliques: Cliques) -> list[Cut]:
    """Return cliques grown from literals that stand high."""
    value = cliques.values(frame.x)
    fractional = np.flatnonzero(frame.fraction > 1e-6)
    literals = np.concatenate((2 * fractional, 2 * fractional + 1))
    literals = literals[(value[literals] > HELD) & (cliques.degrees[literals] > 0)]
    cuts = []
    seen: set[bytes] = set()
    for seed in literals[np.argsort(-value[literals], kind="stable")][:MOST_SEEDS].tolist():
        if frame.stopped():
            break
        members = np.sort(cliques.grown(np.array([seed]), value, HELD, BROKEN))
        if not len(members) or members.tobytes() in seen:
            continue
        seen.add(members.tobytes())
        limit = 1.0 - float((members % 2).sum())
        cut = frame.cut(members // 2, np.where(members % 2, -1.0, 1.0), limit, "clique")
        if cut is not None:
            cuts.append(cut)
    return cuts


def implied_bounds(frame: Frame, bounds: list[VariableBound]) -> list[Cut]:
    """Return variable bounds that the point breaks."""
    cuts = []
    for bound in bounds:
        j, y = bound.column, bound.binary
        sign = 1.0 if bound.upper else -1.0
        slope = bound.at_one - bound.at_zero
        if sign * (frame.x[j] - bound.at_zero - slope * frame.x[y]) <= 1e-4:
            continue
        cut = frame.cut(np.array([j, y]), np.array([sign, -sign * slope]), sign * bound.at_zero, "implied bound")
        if cut is not None:
            cuts.append(cut)
    return cuts
