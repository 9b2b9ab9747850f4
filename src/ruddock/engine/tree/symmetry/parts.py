"""Identical parts of a problem - bins, vans, crews - and rows that keep one of the plans that exchange them.

Columns that may be alike are found by colours that are refined until they settle. For two of one colour, the
exchange of all that belongs to them is worked out along the rows and then checked entry by entry, so that
only true symmetries are used. Rows that order identical parts leave out no plan but its mirror images.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import numpy.typing as npt
from scipy.sparse import csc_matrix, csr_matrix, eye_array, hstack, vstack

from ruddock.engine.tree.symmetry.group import LARGEST
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem, reaching_zero

MOST_TRIED = 2_000  # exchanges worked out
MOST_PAIRS = 4_000  # columns that one exchange may move
MOST_SUMS = 2_000  # of columns, that get columns of their own
ROUNDS = 50

Swap = dict[int, int]
Parts = npt.NDArray[np.intp]


def identical_parts(problem: Problem, lower: Floats, upper: Floats) -> list[Parts]:
    """Return sets of parts that can be exchanged at will, no column in two sets.

    Parameters
    ----------
    lower, upper : float arrays, shape (n,)
        Bounds that hold beside those of the problem.

    Returns
    -------
    list of int arrays, shape (parts, columns)
        The columns of each part, in the same order in all of them.
    """
    found: list[Parts] = []
    used: set[int] = set()
    for chain in _Symmetry(problem, lower, upper).chains():
        blocks = _blocks(chain)
        columns = {j for block in blocks for j in block}
        if not columns & used:
            used |= columns
            found.append(np.array(blocks, np.intp))
    return found


def ordering_rows(
    problem: Problem, relaxed: Problem, lower: Floats, upper: Floats, *, orbits_follow: bool
) -> tuple[csr_matrix, Floats, Floats] | None:
    """Return rows that order identical parts, as ``lower <= matrix x <= upper``, or None where there are none.

    Parameters
    ----------
    orbits_follow : bool
        Whether parts whose whole numbers are zeros and ones are left to the orbits of nodes, which leave out
        more; not so where each item goes to just one of the parts, since rows then say almost as much at once.
    """
    if problem.n > LARGEST or not ((problem.kinds & INTEGER) != 0).any():
        return None
    rows: list[dict[int, float]] = []
    movable = ~stays(relaxed)
    for parts in identical_parts(relaxed, lower, upper):
        blocks = parts.tolist()
        ordering = _shifted(relaxed, lower, upper, blocks)
        if not ordering and not (orbits_follow and movable[parts].all()):
            ordering = _ordered(problem, blocks, lower, upper)
        rows += ordering
    if not rows:
        return None
    matrix = csr_matrix(
        (
            np.array([v for row in rows for v in row.values()]),
            np.array([j for row in rows for j in row]),
            np.cumsum([0] + [len(row) for row in rows]),
        ),
        shape=(len(rows), problem.n),
    )
    return matrix, np.zeros(len(rows)), np.full(len(rows), np.inf)


def with_sums(problem: Problem) -> Problem | None:
    """Return the problem with a whole-number column for every sum of columns that identical parts exchange.

    Such a sum says how many of the parts do something, never which: branching on it leaves no mirror images. The
    new columns stand after the others, the rows that define them below; None where there are none.
    """
    if problem.n > LARGEST or not ((problem.kinds & INTEGER) != 0).any():
        return None
    lower, upper = reaching_zero(problem.lower, problem.upper, problem.kinds)
    sums = [
        members
        for chain in _Symmetry(problem, lower, upper).chains()
        for members in zip(*_blocks(chain), strict=True)
        if problem.kinds[members[0]] == INTEGER and np.isfinite([lower[members[0]], upper[members[0]]]).all()
    ]
    known = _supports(problem)
    sums = [members for members in sums if tuple(sorted(members)) not in known][:MOST_SUMS]
    if not sums:
        return None
    count = len(sums)
    columns = np.array([j for members in sums for j in members], np.intp)
    rows = np.repeat(np.arange(count), [len(members) for members in sums])
    ties = hstack([csr_matrix((np.ones(len(columns)), (rows, columns)), shape=(count, problem.n)), -eye_array(count)])
    matrix = vstack([hstack([problem.matrix(), csr_matrix((problem.m, count))]), ties])
    return Problem.build(
        csc_matrix(matrix),
        np.concatenate((problem.row_lower, np.zeros(count))),
        np.concatenate((problem.row_upper, np.zeros(count))),
        np.concatenate((problem.lower, [np.ceil(lower[list(members)]).sum() for members in sums])),
        np.concatenate((problem.upper, [np.floor(upper[list(members)]).sum() for members in sums])),
        np.concatenate((problem.costs, np.zeros(count))),
        np.concatenate((problem.kinds, np.full(count, INTEGER, np.uint8))),
        problem.offset,
    )


def _supports(problem: Problem) -> set[tuple[int, ...]]:
    """Return the columns of every equation: their sums need no column."""
    rows = csr_matrix(problem.matrix())
    return {
        tuple(sorted(rows.indices[rows.indptr[i] : rows.indptr[i + 1]].tolist()))
        for i in np.flatnonzero(problem.row_lower == problem.row_upper).tolist()
    }


def binary_columns(problem: Problem) -> npt.NDArray[np.bool_]:
    """Return which columns are to be zero or one."""
    whole = ((problem.kinds & INTEGER) != 0) & ((problem.kinds & SEMICONTINUOUS) == 0)
    return np.asarray(whole & (problem.lower == 0) & (problem.upper == 1))


def stays(problem: Problem) -> npt.NDArray[np.bool_]:
    """Return which columns no symmetry of use to orbits may move: those with more than two values to branch on."""
    return np.asarray((problem.kinds != 0) & ~binary_columns(problem) & (problem.lower < problem.upper))


class _Symmetry:
    """Colours of columns and rows, and exchanges of alike columns."""

    def __init__(self, problem: Problem, lower: Floats, upper: Floats) -> None:
        self.problem = problem
        self.matrix = problem.matrix()
        self.rows = csr_matrix(self.matrix)
        self.whole = (problem.kinds & INTEGER) != 0
        bounds = (problem.lower, problem.upper, lower, upper)
        column_marks = np.stack((problem.costs, *bounds, problem.kinds.astype(float)), axis=1)
        row_marks = np.stack((problem.row_lower, problem.row_upper), axis=1)
        self.column_colour, self.row_colour = self._refined(_numbered(column_marks), _numbered(row_marks))

    def _refined(self, columns: np.ndarray, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Refine colours by what columns and rows meet, until no colour splits or no two whole columns share one."""
        rng = np.random.default_rng(1)
        p = self.problem
        owner = np.repeat(np.arange(p.n), np.diff(p.starts))
        _, value = np.unique(p.values, return_inverse=True)
        value_key = rng.random(int(value.max(initial=0)) + 1)[value]
        count = (0, 0)
        for _ in range(ROUNDS):
            if len(np.unique(columns[self.whole])) == np.count_nonzero(self.whole):
                break
            keys = rng.random(p.m + p.n + 1)
            rows_seen = np.bincount(p.indices, np.sin(1e3 * value_key * (1.0 + keys[columns[owner]])), p.m)
            rows = _numbered(np.stack((rows.astype(float), np.round(rows_seen, 6)), axis=1))
            keys = rng.random(p.m + p.n + 1)
            columns_seen = np.bincount(owner, np.sin(1e3 * value_key * (1.0 + keys[rows[p.indices]])), p.n)
            columns = _numbered(np.stack((columns.astype(float), np.round(columns_seen, 6)), axis=1))
            now = int(rows.max(initial=0)), int(columns.max(initial=0))
            if now == count:
                break
            count = now
        return columns, rows

    def chains(self) -> list[list[Swap]]:
        """Return chains of exchanges, each of one part with the next: all of its parts are identical."""
        found: list[list[Swap]] = []
        done: set[int] = set()
        order = np.argsort(self.column_colour, kind="stable")
        groups = np.split(order, np.flatnonzero(np.diff(self.column_colour[order])) + 1)
        tried = 0
        for group in sorted(groups, key=len):
            if len(group) < 2 or not self.whole[group[0]]:
                continue
            chain: list[Swap] = []
            for first, second in zip(group[:-1].tolist(), group[1:].tolist(), strict=True):
                tried += 1
                swap = None if first in done or second in done or tried > MOST_TRIED else self._exchange(first, second)
                if swap is not None and chain and not _continues(chain, swap):
                    swap = None
                if swap is None:
                    self._close(chain, found, done)
                    chain = []
                else:
                    chain.append(swap)
            self._close(chain, found, done)
        return found

    def _close(self, chain: list[Swap], found: list[list[Swap]], done: set[int]) -> None:
        if chain:
            found.append(chain)
            done.update(j for swap in chain for j in swap)

    def _exchange(self, first: int, second: int) -> Swap | None:
        """Work out what else changes places when two columns do; None if that is no symmetry."""
        swap: Swap = {first: second, second: first}
        rows: dict[int, int] = {}
        work = [(first, second)]
        while work:
            a, b = work.pop()
            pairs = self._matched_rows(a, b, rows)
            if pairs is None:
                return None
            for i, k in pairs:
                rows[i], rows[k] = k, i
                more = self._matched_columns(i, k, swap)
                if more is None or len(swap) + 2 * len(more) > MOST_PAIRS:
                    return None
                for c, d in more:
                    swap[c], swap[d] = d, c
                work += more
        return swap if self._holds(swap, rows) else None

    def _entries(self, column: int) -> dict[int, float]:
        p = self.problem
        part = slice(p.starts[column], p.starts[column + 1])
        return dict(zip(p.indices[part].tolist(), p.values[part].tolist(), strict=True))

    def _row(self, row: int) -> dict[int, float]:
        part = slice(self.rows.indptr[row], self.rows.indptr[row + 1])
        return dict(zip(self.rows.indices[part].tolist(), self.rows.data[part].tolist(), strict=True))

    def _matched_rows(self, a: int, b: int, rows: dict[int, int]) -> list[tuple[int, int]] | None:
        """Pair the rows of two columns that change places; rows with both columns stay."""
        of_a, of_b = self._entries(a), self._entries(b)
        left = [i for i in of_a if rows.get(i) not in of_b and i not in of_b]
        right = [k for k in of_b if rows.get(k) not in of_a and k not in of_a]
        if any(i in rows for i in left) or any(k in rows for k in right):
            return None
        return _paired({i: of_a[i] for i in left}, {k: of_b[k] for k in right}, self.row_colour)

    def _matched_columns(self, i: int, k: int, swap: Swap) -> list[tuple[int, int]] | None:
        """Pair the columns of two rows that change places."""
        of_i, of_k = self._row(i), self._row(k)
        left = [c for c in of_i if c not in of_k and c not in swap]
        right = [d for d in of_k if d not in of_i and d not in swap]
        return _paired({c: of_i[c] for c in left}, {d: of_k[d] for d in right}, self.column_colour)

    def _holds(self, swap: Swap, rows: dict[int, int]) -> bool:
        """Check that the exchange maps the matrix and all limits onto themselves; colours vouch for the rest."""
        columns = np.arange(self.problem.n)
        places = np.arange(self.problem.m)
        for a, b in swap.items():
            columns[a] = b
        for i, k in rows.items():
            places[i] = k
        p = self.problem
        moved = np.array(sorted(swap), np.intp)
        alike = (
            (p.costs[moved] == p.costs[columns[moved]])
            & (self.column_colour[moved] == self.column_colour[columns[moved]])
            & (p.kinds[moved] == p.kinds[columns[moved]])
        )
        if not alike.all() or (self.row_colour != self.row_colour[places]).any():
            return False
        for a in moved.tolist():
            mapped = {int(places[i]): v for i, v in self._entries(a).items()}
            if mapped != self._entries(int(columns[a])):
                return False
        # columns that stay must not notice the rows' moving
        touched = np.array(sorted(rows), np.intp)
        staying = np.setdiff1d(np.unique(self.rows[touched].indices), moved)
        return all(
            {int(places[i]): v for i, v in self._entries(j).items()} == self._entries(j) for j in staying.tolist()
        )


def _paired(left: dict[int, float], right: dict[int, float], colour: np.ndarray) -> list[tuple[int, int]] | None:
    """Pair numbers of the same colour with equal entries, in order; None where not all of them find a partner."""
    if len(left) != len(right):
        return None
    first = sorted(left, key=lambda i: (colour[i], left[i], i))
    second = sorted(right, key=lambda k: (colour[k], right[k], k))
    pairs = list(zip(first, second, strict=True))
    return pairs if all(colour[i] == colour[k] and left[i] == right[k] for i, k in pairs) else None


def _numbered(marks: np.ndarray) -> np.ndarray:
    """Return equal numbers for equal lines of marks."""
    _, number = np.unique(marks, axis=0, return_inverse=True)
    return np.asarray(number).ravel()


def _continues(chain: list[Swap], swap: Swap) -> bool:
    """Say whether an exchange leads from the last part of a chain to one that is new, column for column."""
    last = chain[-1]
    shared = set(last) & set(swap)
    if not len(shared) * 2 == len(last) == len(swap):
        return False
    # of every pair that changes places, one column belongs to the part that is shared
    if any(last[j] in shared or swap[j] in shared for j in shared):
        return False
    before = {j for earlier in chain[:-1] for j in earlier}
    return before.isdisjoint(swap)


def _blocks(chain: list[Swap]) -> list[list[int]]:
    """Return the parts of a chain, columns in the same order in each."""
    # of two parts alone, each pair of columns has a smaller and a larger number
    first = set(chain[0]) - set(chain[1]) if len(chain) > 1 else {j for j, k in chain[0].items() if j < k}
    blocks = [sorted(first)]
    for swap in chain:
        blocks.append([swap[j] for j in blocks[-1]])
    return blocks


def _shifted(problem: Problem, lower: Floats, upper: Floats, blocks: list[list[int]]) -> list[dict[int, float]]:
    """Order parts of which every item goes to just one: an item goes to a part only after one before it does.

    Parts are ordered by their first items, empty ones last: item ``i`` in part ``k`` needs one of the items
    before ``i`` in part ``k - 1`` (Kaibel and Pfetsch 2008). None where the parts share no such rows.
    """
    rows = csr_matrix(problem.matrix())
    width = len(blocks)
    place = {j: (k, t) for k, block in enumerate(blocks) for t, j in enumerate(block)}
    items: list[tuple[int, int]] = []  # how much else is decided by it, and which item of the block
    for i in np.flatnonzero(np.diff(rows.indptr) == width).tolist():
        columns = rows.indices[rows.indptr[i] : rows.indptr[i + 1]].tolist()
        values = rows.data[rows.indptr[i] : rows.indptr[i + 1]]
        spots = [place.get(j) for j in columns]
        if any(spot is None for spot in spots) or len({spot[1] for spot in spots if spot}) != 1:
            continue
        binary = all(lower[j] == 0 and upper[j] == 1 and problem.kinds[j] & INTEGER for j in columns)
        same = (values == values[0]).all() and values[0] > 0
        if binary and same and problem.row_upper[i] <= values[0] * (1 + 1e-9) and spots[0] is not None:
            weight = int(problem.starts[columns[0] + 1] - problem.starts[columns[0]])
            items.append((-weight, spots[0][1]))
    items = sorted(set(items))
    if len(items) < 2:
        return []
    order = [t for _, t in items]
    result: list[dict[int, float]] = []
    for k in range(1, width):
        for at, t in enumerate(order):
            # sum over earlier items in the part before, minus this one here, is at least zero
            row = {blocks[k - 1][s]: 1.0 for s in order[max(0, k - 1) : at]}
            row[blocks[k][t]] = -1.0
            result.append(row)
    return result


def _ordered(problem: Problem, blocks: list[list[int]], lower: Floats, upper: Floats) -> list[dict[int, float]]:
    """Order parts by what their whole-number columns come to."""
    whole = [t for t, j in enumerate(blocks[0]) if problem.kinds[j] & INTEGER and np.isfinite(upper[j] - lower[j])]
    if not whole:
        return []
    return [{**{a[t]: 1.0 for t in whole}, **{b[t]: -1.0 for t in whole}} for a, b in pairwise(blocks)]
