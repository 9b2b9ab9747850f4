"""The symmetries of a problem: exchanges of its columns that leave all rows, limits and costs as they are.

Columns and rows get colours, which are refined by what they meet until they settle (Weisfeiler and Leman 1968); a
column of an undecided colour is then set apart, and the refinement goes on, until no two columns look alike (McKay
1981). Two such ways that end in the same matrix are a symmetry. Each is compared entry by entry, so that what is
found is exact, and a search that ends early finds fewer symmetries and no wrong ones.

Where refinement tells little, as in designs that look alike from everywhere, the ways are too many to be gone through.
Some taken by chance meet soon, as birthdays do, if there are symmetries; so the rest of a group is found.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import csr_matrix

from ruddock.problem import Problem

LARGEST = 30_000  # columns of a problem that is looked at for symmetries
MOST_LEAVES = 16  # ends that are tried for one pair of columns
MOST_FOUND = 200  # symmetries that generate the others
MOST_HELD = 5_000_000  # numbers of the symmetries that are kept
MOST_MEMBERS = 2_000  # of a group that is kept whole
IN_VAIN = 10  # ways by chance in a row that meet another one and tell nothing new, after which there is little left

Colours = npt.NDArray[np.int64]
Permutations = npt.NDArray[np.int32]
Form = tuple[npt.NDArray[np.int64], bytes]


def symmetries(
    problem: Problem,
    fixed: npt.NDArray[np.bool_],
    most_work: int,
    stopped: Callable[[], bool],
    *,
    by_chance: bool = False,
) -> tuple[Permutations, bool]:
    """Return symmetries of a problem: its whole group where that is small, else some that generate it or a part.

    Parameters
    ----------
    fixed : bool array, shape (n,)
        Columns that stay where they are.
    most_work : int
        Entries, columns and rows that are looked at, all rounds together.
    stopped : callable
        Whether time is up.
    by_chance : bool
        Whether ways are taken by chance, which finds the whole group almost surely, but not for certain.

    Returns
    -------
    images : int array, shape (k, n)
        Of each symmetry, where every column goes. The identity is left out.
    complete : bool
        Whether there was work enough.
    """
    search = _Search(problem, fixed, most_work, stopped)
    group = _Group(problem.n)
    if by_chance:
        search.meet_by_chance(group)
    else:
        for image in search.generators():
            group.add(image)
    return group.images, not search.out_of_work


class _Group:
    """Symmetries that were found, and all their products as long as these are few.

    Attributes
    ----------
    orbits : int array, shape (n,)
        The first column that each may be taken to.
    """

    def __init__(self, n: int) -> None:
        self.orbits = np.arange(n)
        self._generators: list[npt.NDArray[np.int32]] = []
        self._most = min(MOST_MEMBERS, MOST_HELD // max(n, 1))
        same = np.arange(n, dtype=np.int32)
        self._members: dict[bytes, npt.NDArray[np.int32]] | None = {same.tobytes(): same}

    def add(self, image: npt.NDArray[np.int32]) -> bool:
        """Take a symmetry; say whether it tells anything new."""
        before, self.orbits = self.orbits, joined(self.orbits, image[None])
        if self._members is None:
            self._generators.append(image)
            return not np.array_equal(before, self.orbits)
        if image.tobytes() in self._members:
            return False
        self._generators.append(image)
        self._members = self._widened(self._members)
        return True

    def _widened(self, members: dict[bytes, npt.NDArray[np.int32]]) -> dict[bytes, npt.NDArray[np.int32]] | None:
        """Return all products of the generators, given those without the last; None if there are too many.

        The group before falls into place as cosets of the one after (Dimino's algorithm).
        """
        before = np.array(list(members.values()))
        wider, ways = dict(members), [before[0]]
        for way in ways:
            for generator in self._generators:
                product = generator[way]
                if product.tobytes() in wider:
                    continue
                ways.append(product)
                if len(wider) + len(before) > self._most:
                    return None
                wider.update((member.tobytes(), member) for member in product[before])
        return wider

    @property
    def images(self) -> Permutations:
        """All symmetries but the identity, or those that were found where they are too many."""
        found = self._generators[: self._most or 1] if self._members is None else list(self._members.values())[1:]
        return np.array(found, np.int32).reshape(-1, len(self.orbits))


class _Search:
    """Colours of columns (first) and rows (behind them), and ways to set all columns apart.

    Attributes
    ----------
    trace : of the last refinement: differs where two of them went apart
    """

    def __init__(
        self, problem: Problem, fixed: npt.NDArray[np.bool_], most_work: int, stopped: Callable[[], bool]
    ) -> None:
        n, m = problem.n, problem.m
        self.n, self.stopped, self.work, self.most_work = n, stopped, 0, most_work
        self.rows = csr_matrix(problem.matrix())
        self.rows.sort_indices()
        columns = np.repeat(np.arange(n), np.diff(problem.starts))
        ends = np.concatenate((columns, n + problem.indices))
        others = np.concatenate((n + problem.indices, columns))
        order = np.argsort(ends, kind="stable")
        self.others = others[order]
        self.values = _mixed(np.tile(problem.values, 2)[order].view(np.uint64))
        self.starts = np.concatenate(([0], np.cumsum(np.bincount(ends, minlength=n + m))))
        marks = np.stack((problem.costs, problem.lower, problem.upper, problem.kinds.astype(float)), axis=1) + 0.0
        own = np.unique(marks, axis=0, return_inverse=True)[1].ravel()
        own[fixed] = n + np.arange(int(fixed.sum()))
        limits = np.stack((problem.row_lower, problem.row_upper), axis=1) + 0.0
        of_rows = np.unique(limits, axis=0, return_inverse=True)[1].ravel() + 2 * n
        self.marks = np.concatenate((own, of_rows))

    # ------------------------------------------------------------------ colours

    def refined(self, begin: npt.NDArray[Any]) -> Colours:
        """Split colours by the colours and values met, until none splits; alike for alike beginnings."""
        count = -1
        self.trace = 0
        while True:
            words, colours, sizes = np.unique(begin, return_inverse=True, return_counts=True)
            seen_of_all = np.sum(_mixed(words.astype(np.uint64)) * sizes.astype(np.uint64))
            self.trace = hash((self.trace, int(seen_of_all)))
            self.work += len(self.others) + len(colours)
            if int(colours.max(initial=0)) == count or self.out_of_work:
                return colours.ravel()
            count = int(colours.max(initial=0))
            own = _mixed(colours.astype(np.uint64))
            met = np.concatenate(([np.uint64(0)], np.cumsum(_mixed(own[self.others] ^ self.values))))
            seen = met[self.starts[1:]] - met[self.starts[:-1]]
            begin = _mixed(seen) ^ own  # the old colour counts, so that colours only split

    @property
    def out_of_work(self) -> bool:
        """Whether to end the search."""
        return self.work > self.most_work or self.stopped()

    def apart(self, colours: Colours, column: int) -> Colours:
        """Give a column a colour of its own, and refine."""
        changed = 2 * colours
        changed[column] += 1
        return self.refined(changed)

    def cell(self, colours: Colours) -> npt.NDArray[np.int64]:
        """Return the columns of the smallest colour that several have; none if all differ."""
        own = colours[: self.n]
        sizes = np.bincount(own)
        several = np.flatnonzero(sizes > 1)
        if not len(several):
            return several
        return np.flatnonzero(own == several[np.argmin(sizes[several])])

    def form(self, colours: Colours) -> Form:
        """Return the columns in the order of their colours, and the matrix in that order and that of the rows."""
        columns, rows = np.argsort(colours[: self.n]), np.argsort(colours[self.n :], kind="stable")
        matrix = self.rows[rows][:, columns]
        matrix.sort_indices()
        marks = np.concatenate((self.marks[: self.n][columns], self.marks[self.n :][rows]))
        return columns, b"".join(part.tobytes() for part in (matrix.indptr, matrix.indices, matrix.data, marks))

    # ------------------------------------------------------------------ symmetries

    def generators(self) -> list[npt.NDArray[np.int32]]:
        """Return symmetries that generate the group, as far as they are found."""
        found: list[npt.NDArray[np.int32]] = []
        path, traces, cells = [self.refined(self.marks)], [self.trace], []
        while len(cell := self.cell(path[-1])) and not self.out_of_work:
            cells.append(cell)
            path.append(self.apart(path[-1], int(cell[0])))
            traces.append(self.trace)
        if self.out_of_work or not cells:
            return found
        self.way = path, traces, cells, self.form(path[-1])
        for level in reversed(range(len(cells))):
            first, hopeless = int(cells[level][0]), list[int]()
            orbit = joined(np.arange(self.n), np.array(found, np.int32).reshape(-1, self.n))
            for other in cells[level][1:].tolist():
                if self.out_of_work or len(found) >= MOST_FOUND:
                    return found
                if orbit[other] == orbit[first] or (orbit[hopeless] == orbit[other]).any():
                    continue
                way = self._symmetry(level, other)
                if way is None:
                    hopeless.append(other)
                else:
                    found.append(way)
                    orbit = joined(orbit, way[None])
        return found

    def _symmetry(self, level: int, other: int) -> npt.NDArray[np.int32] | None:
        """Return a symmetry that takes the first column of a cell to another and leaves what was set apart before."""
        path, traces, cells, (goal, matrix) = self.way
        waiting, leaves = [(level, path[level], other)], 0
        while waiting and leaves < MOST_LEAVES and not self.out_of_work:
            at, before, column = waiting.pop()
            colours = self.apart(before, column)
            if self.trace != traces[at + 1]:
                continue
            if at + 1 < len(cells):
                first = int(cells[at + 1][0])
                alike = np.flatnonzero(colours[: self.n] == path[at + 1][first]).tolist()
                # most likely what was set apart before stays
                waiting += [(at + 1, colours, k) for k in sorted(alike, key=lambda k: (k == first, -k))]
                continue
            leaves += 1
            columns, found = self.form(colours)
            if found == matrix:
                images = np.empty(self.n, np.int32)
                images[goal] = columns
                return images
        return None

    def meet_by_chance(self, group: _Group) -> None:
        """Add symmetries to a group, by ways taken by chance: two that end in the same matrix are one."""
        rng, vain = np.random.default_rng(0), 0
        ends: dict[bytes, npt.NDArray[np.int64]] = {}
        begin = self.refined(self.marks)
        if not len(self.cell(begin)):
            return
        while vain < IN_VAIN:
            colours = begin
            while len(cell := self.cell(colours)):
                colours = self.apart(colours, int(rng.choice(cell)))
                if self.out_of_work:
                    return
            columns, matrix = self.form(colours)
            goal = ends.setdefault(matrix, columns)
            if goal is not columns:
                images = np.empty(self.n, np.int32)
                images[goal] = columns
                vain = 0 if group.add(images) else vain + 1


def joined(labels: Colours, images: Permutations) -> Colours:
    """Return for every column the first one that symmetries may take it to, with those joined that share a label.

    Parameters
    ----------
    labels : int array, shape (n,)
        Such columns, as far as they are known.
    images : int array, shape (k, n)
    """
    first = labels.copy()
    begin, ends = np.tile(np.arange(len(labels)), len(images)), images.ravel()
    while True:
        left, right = first[begin], first[ends]
        if np.array_equal(left, right):
            return first
        least = np.minimum(left, right)
        np.minimum.at(first, left, least)
        np.minimum.at(first, right, least)
        while not np.array_equal(first, first[first]):
            first = first[first]


def _mixed(words: npt.NDArray[np.uint64]) -> npt.NDArray[np.uint64]:
    """Return well-spread words for words (Stafford's variant 13 of the finaliser of MurmurHash3)."""
    words = (words ^ (words >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    words = (words ^ (words >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return words ^ (words >> np.uint64(31))
