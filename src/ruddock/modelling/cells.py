"""Sets of label combinations, and how they are matched: the arithmetic below data and expressions.

A `Cells` is long-form: one code array per axis. The full product of its axes is kept implicit, so
that matching with it is arithmetic on positions instead of a search.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from math import prod

import numpy as np
import numpy.typing as npt

from ruddock.errors import ModelError
from ruddock.modelling.axis import Axis, member_label
from ruddock.problem import Ints

Keys = npt.NDArray[np.int64]
Positions = npt.NDArray[np.intp]
Mask = npt.NDArray[np.bool_]

MOST_KEYS = 2**62  # combinations of axes beyond which they are not numbered one by one
TABLE_ROOM = 2_000_000  # look-ups by a table of this size rather than by search


class Cells:
    """Distinct combinations of labels of some axes, in a fixed order.

    Parameters
    ----------
    axes : sequence of Axis
    codes : sequence of int32 arrays, one per axis, or None for all combinations (last axis fastest)
    """

    def __init__(self, axes: Sequence[Axis], codes: Sequence[Ints] | None = None) -> None:
        self.axes = tuple(axes)
        self._codes = None if codes is None else tuple(codes)
        self.full = codes is None
        self.size = prod(len(axis) for axis in self.axes) if self._codes is None or not axes else len(self._codes[0])

    def __len__(self) -> int:
        return self.size

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the axes."""
        return tuple(axis.name for axis in self.axes)

    @property
    def shape(self) -> tuple[int, ...]:
        """The numbers of labels of the axes."""
        return tuple(len(axis) for axis in self.axes)

    def position(self, name: str) -> int:
        """Return which axis has this name.

        Raises
        ------
        ModelError
            If none has.
        """
        if name not in self.names:
            raise ModelError(f"{name!r} is not an axis here; the axes are {', '.join(self.names) or 'none'}")
        return self.names.index(name)

    @cached_property
    def codes(self) -> tuple[Ints, ...]:
        """One code array per axis."""
        if self._codes is not None:
            return self._codes
        return tuple(
            np.asarray(part, np.int32).ravel() for part in np.indices(self.shape, dtype=np.int32, sparse=False)
        )

    def keys(self, names: Sequence[str] | None = None) -> Keys:
        """Return one number per cell that identifies its labels on the named axes, in that order.

        Comparable between two sets of cells only where `_fits` says so for these axes.
        """
        chosen = self.names if names is None else tuple(names)
        if self.full and chosen == self.names:
            return np.arange(self.size, dtype=np.int64)
        if self.full:
            # small arrays along each axis, spread out once at the end
            part = np.zeros((1,) * len(self.axes), dtype=np.int64)
            for name in chosen:
                at = self.position(name)
                along = np.arange(len(self.axes[at])).reshape([-1 if k == at else 1 for k in range(len(self.axes))])
                part = part * len(self.axes[at]) + along
            return np.broadcast_to(part, self.shape).ravel()
        if not chosen:
            return np.zeros(self.size, dtype=np.int64)
        places = [self.position(name) for name in chosen]
        return _keys([self.codes[at] for at in places], [len(self.axes[at]) for at in places])

    def _fits(self, names: Sequence[str]) -> bool:
        """Say whether the combinations of the named axes can be numbered by 64-bit integers."""
        return prod(len(self.axes[self.position(name)]) for name in names) < MOST_KEYS

    @cached_property
    def _sorted(self) -> tuple[Keys, Positions | None]:
        keys = self.keys()
        if len(keys) < 2 or bool((keys[1:] > keys[:-1]).all()):
            return keys, None
        order = np.argsort(keys, kind="stable")
        return keys[order], order

    @cached_property
    def _table(self) -> Positions | None:
        """The position of every combination, -1 for absent ones, where that is small."""
        room = prod(self.shape)
        if room > max(TABLE_ROOM, 8 * self.size):
            return None
        table = np.full(room, -1, dtype=np.intp)
        table[self.keys()] = np.arange(self.size)
        return table

    def lookup(self, other: Cells) -> Positions | None:
        """Return the position here of each cell of ``other``, -1 if absent; None if all are in place.

        ``other`` must have all of these axes and may have more.
        """
        check_axes(self, other)
        if other is self or (self.full and other.full and self.axes == other.axes):
            return None
        if not self._fits(self.names):
            return _matched(*_joint_keys(self, other, self.names))
        keys = other.keys(self.names)
        if self.full:
            return keys.astype(np.intp, copy=False)
        table = self._table
        if table is not None:
            return table[keys]
        ordered, order = self._sorted
        if not len(ordered):
            return np.full(len(keys), -1, dtype=np.intp)
        at = np.minimum(np.searchsorted(ordered, keys), len(ordered) - 1)
        found = ordered[at] == keys
        return np.where(found, at if order is None else order[at], -1)

    def position_of(self, codes: Sequence[int]) -> int:
        """Return which cell has these codes, -1 if none has."""
        if not self.axes:
            return 0
        if self.full:
            at = 0
            for code, axis in zip(codes, self.axes, strict=True):
                at = at * len(axis) + code
            return at
        found = self.lookup(Cells(self.axes, [np.array([code], np.int32) for code in codes]))
        assert found is not None
        return int(found[0])

    def take(self, which: Positions | Mask) -> Cells:
        """Return the chosen cells, in the order asked for."""
        return Cells(self.axes, [codes[which] for codes in self.codes]) if self.axes else Cells((), ())

    def text(self, position: int) -> str:
        """Return the labels of one cell as in ``Fell,Quay``."""
        return member_label(axis.texts[codes[position]] for axis, codes in zip(self.axes, self.codes, strict=True))

    def texts(self, where: Positions | None = None) -> list[str]:
        """Return the label texts of all cells, or of those at ``where``."""
        if not self.axes:
            return [""] * self.size
        columns = []
        for axis, codes in zip(self.axes, self.codes, strict=True):
            texts = axis.texts
            quoted = [member_label([text]) for text in texts]
            columns.append([quoted[c] for c in (codes if where is None else codes[where]).tolist()])
        return columns[0] if len(columns) == 1 else [",".join(parts) for parts in zip(*columns, strict=True)]


def check_axes(a: Cells, b: Cells) -> None:
    """Raise `ModelError` if two axes share a name but not their labels."""
    for axis in a.axes:
        for other in b.axes:
            if axis.name == other.name and axis != other:
                raise ModelError(
                    f"two different axes are called {axis.name!r}: one has {len(axis)} labels, the other "
                    f"{len(other)}, or their order differs; use one Axis object throughout"
                )


def join(a: Cells, b: Cells) -> tuple[Cells, Positions | None, Positions | None]:
    """Match cells on the axes they share and combine them with all others.

    Returns
    -------
    (cells, from_a, from_b)
        ``cells`` has the axes of the side that holds all of them in that side's order, else the
        axes of ``a``, then those only ``b`` has; the positions tell the cell of ``a`` and of ``b``
        that each came from, None meaning each from the one in its place.
    """
    check_axes(a, b)
    if set(b.names) <= set(a.names):
        return _restrict(a, b)
    if set(a.names) <= set(b.names):
        cells, from_b, from_a = _restrict(b, a)
        return cells, from_a, from_b
    extra = [axis for axis in b.axes if axis.name not in a.names]
    shared = [name for name in a.names if name in b.names]
    if a.full and b.full and not shared:
        cells = Cells((*a.axes, *extra))
        from_a = np.repeat(np.arange(a.size), b.size)
        return cells, from_a, np.tile(np.arange(b.size), a.size)
    key_a, key_b = (a.keys(shared), b.keys(shared)) if a._fits(shared) else _joint_keys(a, b, shared)
    order = np.argsort(key_b, kind="stable")
    ordered = key_b[order]
    first, last = np.searchsorted(ordered, key_a, "left"), np.searchsorted(ordered, key_a, "right")
    count = last - first
    from_a = np.repeat(np.arange(a.size), count)
    within = np.arange(len(from_a)) - np.repeat(np.cumsum(count) - count, count)
    from_b = order[first[from_a] + within]
    codes = [part[from_a] for part in a.codes]
    codes += [b.codes[b.position(axis.name)][from_b] for axis in extra]
    if a.full and b.full:
        return Cells((*a.axes, *extra)), from_a, from_b
    return Cells((*a.axes, *extra), codes), from_a, from_b


def _restrict(a: Cells, b: Cells) -> tuple[Cells, Positions | None, Positions | None]:
    """Keep the cells of ``a`` that ``b``, with no further axes, holds."""
    found = b.lookup(a)
    if found is None or (found >= 0).all():
        return a, None, found
    kept = np.flatnonzero(found >= 0)
    return a.take(kept), kept, found[kept]


def union(a: Cells, b: Cells) -> tuple[Cells, Positions | None]:
    """Return the cells of ``a`` followed by those only ``b`` has, and where each of ``b`` went.

    Both must have the same axes, in any order.
    """
    check_axes(a, b)
    found = a.lookup(b)
    if found is None or (found >= 0).all():
        return a, found
    new = np.flatnonzero(found < 0)
    found = found.copy()
    found[new] = a.size + np.arange(len(new))
    codes = [
        np.concatenate((part, b.codes[b.position(axis.name)][new])) for axis, part in zip(a.axes, a.codes, strict=True)
    ]
    return Cells(a.axes, codes), found


def project(cells: Cells, names: Sequence[str]) -> tuple[Cells, Positions]:
    """Return the cells on some of the axes, and which of them each cell belongs to.

    On one axis or none the result is full: a sum over nothing is zero, not absent.
    """
    axes = [cells.axes[cells.position(name)] for name in names]
    keys = cells.keys(names)
    if cells.full or len(axes) <= 1:
        return Cells(axes), keys.astype(np.intp, copy=False)
    distinct, first, group = np.unique(keys, return_index=True, return_inverse=True)
    if len(distinct) == prod(len(axis) for axis in axes):
        return Cells(axes), group
    return Cells(axes, [cells.codes[cells.position(name)][first] for name in names]), group


def _keys(codes: Sequence[Ints], sizes: Sequence[int]) -> Keys:
    """Return numbers for combinations of codes, in their order; too large ones are ranked anew."""
    key = np.zeros(len(codes[0]), dtype=np.int64)
    room = 1
    for part, size in zip(codes, sizes, strict=True):
        if room * size >= MOST_KEYS:
            distinct, key = np.unique(key, return_inverse=True)
            room = max(len(distinct), 1)
        key = key * size + part
        room *= size
    return key


def _joint_keys(a: Cells, b: Cells, names: Sequence[str]) -> tuple[Keys, Keys]:
    """Return like numbers for the combinations of two sets of cells, whatever the sizes of their axes."""
    codes = [np.concatenate((a.codes[a.position(n)], b.codes[b.position(n)])) for n in names]
    keys = _keys(codes, [len(a.axes[a.position(n)]) for n in names])
    return keys[: a.size], keys[a.size :]


def _matched(own: Keys, other: Keys) -> Positions:
    """Return where each of the other keys is among the own ones; -1 if it is not."""
    if not len(own):
        return np.full(len(other), -1, dtype=np.intp)
    order = np.argsort(own, kind="stable")
    ordered = own[order]
    at = np.minimum(np.searchsorted(ordered, other), len(ordered) - 1)
    return np.where(ordered[at] == other, order[at], -1)
