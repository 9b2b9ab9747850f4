"""Mixed-integer rounding of one row, and of sums of rows: c-MIR and Gomory's cuts.

A row is written from the nearer bounds of its columns, divided, and rounded down in a way that
continuous columns allow (Marchand and Wolsey 2001). With variable bounds taken for continuous columns this
gives the flow covers; on a row of the simplex tableau, Gomory's mixed-integer cut (1960).
"""

from __future__ import annotations

import numpy as np

from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.cuts.frame import LOSS, Cut, Frame
from ruddock.problem import Floats

DIVISORS = 8  # tried for one row
MOST_ROWS = 5  # in one sum
MOST_STARTS = 2000  # rows from which sums begin, in one round
MOST_MISSES = 3  # rounds without a cut after which a row begins no more sums
MOST_TABLEAU = 60  # rows of the tableau, in one round
AWAY = 0.01  # fractions nearer to a whole number than this round to weak cuts
FINER = np.array([2.0, 4.0, 8.0])  # parts of the best divisor that are tried too
LOST = 1e-7  # of a step, by which the limit of a rounded sum may be off
SLACK = 0.1  # rows with more slack than this, beside their size, begin no sum


class Sum:
    """A sum of rows ``coefficients'x + slack coefficients' slack = limit``, slacks at least zero.

    Attributes
    ----------
    columns, values : arrays
        The coefficients; no column twice.
    rows, slack : arrays
        Rows in the sum that are no equations, and their coefficients on the slack.
    limit : float
        Of the sum, which is at most this if small coefficients were taken out, and equal to it otherwise.
    terms : float
        What the terms of the limit add up to without their signs.
    """

    def __init__(self, frame: Frame, rows: np.ndarray, weights: Floats, columns: np.ndarray, values: Floats) -> None:
        limits = frame.row_limit[rows]
        self.limit = float(weights @ limits)
        self.terms = float(np.abs(weights) @ np.abs(limits))
        # what cancels but for rounding goes into the limit, at the end where it takes least; in doubt it stays
        small = np.abs(values) <= 1e-11 * max(1.0, np.abs(values).max(initial=0.0))
        ends = np.where(values > 0, frame.lower[columns], frame.upper[columns])
        small &= np.isfinite(ends)
        self.limit -= float(values[small] @ ends[small])
        self.columns, self.values = columns[~small], values[~small]
        open_ = ~frame.equation[rows]
        self.rows = rows[open_]
        self.slack = weights[open_] * frame.row_sign[self.rows]

    @classmethod
    def of(cls, frame: Frame, rows: np.ndarray, weights: Floats) -> Sum:
        """Return the sum of some rows, each so many times."""
        parts = [slice(frame.rows.indptr[i], frame.rows.indptr[i + 1]) for i in rows.tolist()]
        columns = np.concatenate([frame.rows.indices[part] for part in parts])
        values = np.concatenate([w * frame.rows.data[part] for w, part in zip(weights, parts, strict=True)])
        return cls(frame, rows, weights, *_merged(columns, values))


def _merged(columns: np.ndarray, values: Floats) -> tuple[np.ndarray, Floats]:
    """Return columns once each, with the sums of their values."""
    order = np.argsort(columns, kind="stable")
    columns, values = columns[order], values[order]
    first = np.flatnonzero(np.concatenate(([True], columns[1:] != columns[:-1])))
    return columns[first], np.add.reduceat(values, first) if len(first) else values


def rounded(frame: Frame, total: Sum, kind: str, divisors: Floats | None = None) -> Cut | None:
    """Return the best rounding of a sum of rows that the point breaks, or None."""
    columns, values = total.columns, total.values
    if not len(columns) or not frame.usable[columns].all():
        return None
    whole = frame.whole[columns]
    rest, a = columns[~whole], values[~whole]
    limit = total.limit - float(a @ frame.base[rest])
    terms = total.terms + float(np.abs(a) @ np.abs(frame.base[rest]))
    by = frame.by[rest]
    tied = by >= 0
    integers, mixed = columns[whole], values[whole]
    if tied.any():
        integers, mixed = _merged(
            np.concatenate((integers, by[tied])), np.concatenate((mixed, a[tied] * frame.slope[rest[tied]]))
        )
    if not len(integers) or not frame.usable[integers].all():
        return None
    limit -= float(mixed @ frame.base[integers])
    terms += float(np.abs(mixed) @ np.abs(frame.base[integers]))
    limit += LOSS * terms  # rounded up: a larger limit holds too
    g, z = mixed * frame.sign[integers], frame.z[integers]
    h, zh = a * frame.sign[rest], frame.z[rest]
    slack_rows, slack = total.rows, total.slack
    slack_value = frame.room[slack_rows]
    if divisors is None:
        # integer slacks are taken as continuous where rows are not divided by one
        slack_whole = np.zeros(len(slack_rows), bool)
        divisors = _divisors(np.abs(g), z, frame, integers)
        if not len(divisors):
            return None
    else:
        slack_whole = frame.whole_rows[slack_rows]
    must = np.abs(g[frame.endless[integers]])
    if len(must):
        ratio = must[None, :] / np.concatenate((divisors, *(divisors / d for d in FINER)))[:, None]
        fits = (ratio == np.round(ratio)).all(axis=1).reshape(-1, len(divisors))
        divisors = divisors[fits.all(axis=0)] if len(divisors) > 1 else divisors[fits[0]]
        if not len(divisors):
            return None
    g_all = np.concatenate((g, slack[slack_whole]))
    z_all = np.concatenate((z, slack_value[slack_whole]))
    negative = np.minimum(np.concatenate((h, slack[~slack_whole])), 0.0)
    left_over = float(negative @ np.concatenate((zh, slack_value[~slack_whole])))

    best, best_divisor = _best(g_all, z_all, negative, left_over, limit, divisors)
    if best_divisor is None:
        return None
    if len(divisors) > 1:
        halves = best_divisor / FINER
        finer, finer_divisor = _best(g_all, z_all, negative, left_over, limit, halves)
        if finer_divisor is not None and finer > best:
            best_divisor = finer_divisor
    beta = limit / best_divisor
    if LOSS * terms / best_divisor > LOST:
        return None  # the fraction that everything hangs on is not known well enough
    f = beta - np.floor(beta)
    steps = _round(g_all / best_divisor, f)
    weight = 1.0 / (best_divisor * (1.0 - f))

    # back to the columns: z = sign (x - base - slope y), slacks by their rows
    own = steps[: len(integers)] * frame.sign[integers]
    w = np.minimum(h, 0.0) * weight * frame.sign[rest]
    right = float(np.floor(beta)) + float(own @ frame.base[integers]) + float(w @ frame.base[rest])
    size = abs(beta) + float(np.abs(own) @ np.abs(frame.base[integers])) + float(np.abs(w) @ np.abs(frame.base[rest]))
    slack_weight = np.where(slack_whole, 0.0, np.minimum(slack, 0.0) * weight)
    slack_weight[slack_whole] = steps[len(integers) :]
    used = slack_weight != 0
    by_row = -slack_weight[used] * frame.row_sign[slack_rows[used]]
    right += float(by_row @ frame.row_limit[slack_rows[used]])
    size += float(np.abs(by_row) @ np.abs(frame.row_limit[slack_rows[used]]))
    parts = [slice(frame.rows.indptr[i], frame.rows.indptr[i + 1]) for i in slack_rows[used].tolist()]
    return frame.cut(
        *_merged(
            np.concatenate((integers, rest, by[tied], *(frame.rows.indices[part] for part in parts))),
            np.concatenate(
                (
                    own,
                    w,
                    -(w * frame.slope[rest])[tied],
                    *(r * frame.rows.data[part] for r, part in zip(by_row.tolist(), parts, strict=True)),
                )
            ),
        ),
        right,
        kind,
        size,
    )


def _divisors(size: Floats, z: Floats, frame: Frame, integers: np.ndarray) -> Floats:
    """Return what to divide by: sizes of coefficients of columns between their bounds, the largest values first."""
    span = frame.upper[integers] - frame.lower[integers]
    inside = (z > 1e-6) & (z < span - 1e-6) & (size > 1e-9)
    order = np.argsort(-z[inside], kind="stable")
    sizes = size[inside][order]
    _, first = np.unique(np.round(sizes, 9), return_index=True)
    return np.asarray(sizes[np.sort(first)][:DIVISORS])


def _round(g: Floats, f: Floats | float) -> Floats:
    """Return the rounding function of every coefficient."""
    # a coefficient a hair below a whole number counts as just that: a larger one of the sum, which holds for z >= 0,
    # would be wrong; a smaller one only makes the cut weaker
    down = np.floor(g)
    return np.asarray(down + np.maximum(g - down - f, 0.0) / (1.0 - f))


def _best(
    g: Floats, z: Floats, negative: Floats, left_over: float, limit: float, divisors: Floats
) -> tuple[float, float | None]:
    """Return the efficacy of the best divisor, and it."""
    beta = limit / divisors
    f = beta - np.floor(beta)
    good = (f > AWAY) & (f < 1.0 - AWAY)
    if not good.any():
        return 0.0, None
    divisors, beta, f = divisors[good], beta[good], f[good]
    steps = _round(g[None, :] / divisors[:, None], f[:, None])
    weight = 1.0 / (divisors * (1.0 - f))
    broken = steps @ z + weight * left_over - np.floor(beta)
    norm = np.sqrt((steps**2).sum(axis=1) + weight**2 * float(negative @ negative)) + 1e-9
    efficacy = broken / norm
    k = int(np.argmax(efficacy))
    return (float(efficacy[k]), float(divisors[k])) if efficacy[k] > 1e-6 else (0.0, None)


def summed_rows(frame: Frame, misses: np.ndarray) -> list[Cut]:
    """Return cuts from rows and from sums of rows in which continuous columns between their bounds cancel.

    Parameters
    ----------
    misses : int array, one for each row that may begin a sum
        Rounds in a row in which it gave no cut; kept up to date. After a few it is left out.
    """
    p = frame.problem
    owner = np.repeat(np.arange(p.m), np.diff(frame.rows.indptr))
    size = np.sqrt(np.bincount(owner, frame.rows.data**2, p.m)) + 1e-9
    mixed = np.bincount(owner, frame.fraction[frame.rows.indices] > 1e-6, p.m)
    between = np.where(frame.whole, 0.0, np.minimum(frame.z, 1e6))
    loose = np.bincount(owner, between[frame.rows.indices] > 1e-6, p.m)
    tight = frame.room / size
    own = len(misses)
    starts = np.flatnonzero((tight[:own] <= SLACK) & ((mixed[:own] > 0) | (loose[:own] > 0)) & (misses < MOST_MISSES))
    starts = starts[np.argsort(-(mixed[starts] + 0.1 * (tight[starts] <= 1e-6)), kind="stable")][:MOST_STARTS]
    cuts = []
    misses[starts] += 1
    for row in starts.tolist():
        if frame.stopped():
            break
        for sign in (1.0, -1.0):
            if sign != frame.row_sign[row] and not frame.equation[row]:
                continue
            total = Sum.of(frame, np.array([row]), np.array([sign]))
            weights = {row: sign}
            for _ in range(MOST_ROWS):
                cut = rounded(frame, total, "rounding")
                if cut is not None:
                    cuts.append(cut)
                    misses[row] = 0
                    break
                if not _add_row(frame, weights, total, between, tight):
                    break
                total = Sum.of(frame, np.array(list(weights)), np.array(list(weights.values())))
    return cuts


def _add_row(frame: Frame, weights: dict[int, float], total: Sum, between: Floats, tight: Floats) -> bool:
    """Add a row in which the continuous column farthest from its bounds cancels; say whether there was one."""
    p = frame.problem
    far = np.flatnonzero(between[total.columns] > 1e-6)
    for k in far[np.argsort(-between[total.columns[far]], kind="stable")][:3].tolist():
        j = total.columns[k]
        part = slice(p.starts[j], p.starts[j + 1])
        rows, values = p.indices[part], p.values[part]
        usable = [t for t, row in enumerate(rows.tolist()) if row not in weights and tight[row] <= SLACK]
        if usable:
            t = min(usable, key=lambda t: tight[rows[t]])
            weights[int(rows[t])] = float(-total.values[k] / values[t])
            return True
    return False


def tableau_rows(frame: Frame, solver: LinearSolver) -> list[Cut]:
    """Return Gomory's cuts from the rows of the tableau whose integer column is farthest from whole."""
    p = frame.problem
    head = solver.head
    places = np.flatnonzero(head < p.n)
    fraction = frame.fraction[head[places]]
    order = np.argsort(-fraction, kind="stable")
    cuts = []
    for place in places[order][:MOST_TABLEAU].tolist():
        if frame.fraction[head[place]] < AWAY or frame.stopped():
            break
        unit = np.zeros(p.m)
        unit[place] = 1.0
        weights = solver.backward(unit)
        weights[np.abs(weights) < 1e-10 * np.abs(weights).max()] = 0.0
        used = np.flatnonzero(weights)
        if len(used) > 0.5 * p.m + 200:
            continue
        coefficients = p.priced(weights)
        columns = np.flatnonzero(coefficients)
        for sign in (1.0, -1.0):
            total = Sum(frame, used, sign * weights[used], columns, sign * coefficients[columns])
            cut = rounded(frame, total, "tableau", np.ones(1))
            if cut is not None:
                cuts.append(cut)
    return cuts
