"""Open nodes as a few arrays, which another process gets at a fraction of what the objects would take."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ruddock.engine.outcome import Basis
from ruddock.engine.tree.frontier import Node, Parent
from ruddock.problem import Floats

NODE: list[tuple[str, type]] = [("bound", float), ("lower", float), ("upper", float), ("change", float)]
NODE += [("depth", np.int32), ("parent", np.int32), ("column", np.int32), ("up", np.bool_)]


@dataclass(eq=False, repr=False)
class Bundle:
    """Nodes, and the parents that they share.

    Attributes
    ----------
    nodes : structured array, shape (k,)
        Their numbers, and that of the parent; -1 for none.
    starts : int array, shape (p + 1,)
        Where the columns of each parent begin.
    columns, lower, upper : arrays
        The bounds of all parents, one after another.
    branched : (int array, int array)
        The same for the columns whose branches count for symmetries; -1 alone where no symmetry is left.
    bases : list of (int array, int array, int array)
        Where the codes of each parent's basis begin, and the codes: of columns, and of rows; of none, none.
    prices : (int array, array)
        The same for the prices of linking rows; of none, none.
    """

    nodes: np.ndarray
    starts: np.ndarray
    columns: np.ndarray
    lower: Floats
    upper: Floats
    branched: tuple[np.ndarray, np.ndarray]
    bases: tuple[tuple[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]
    prices: tuple[np.ndarray, Floats]

    @classmethod
    def of(cls, nodes: Iterable[Node]) -> Bundle:
        """Pack nodes."""
        nodes = list(nodes)
        parents = {id(node.parent): node.parent for node in nodes if node.parent is not None}
        number = {key: k for k, key in enumerate(parents)}
        number[id(None)] = -1
        packed = np.array(
            [(n.bound, n.lower, n.upper, n.change, n.depth, number[id(n.parent)], n.column, n.up) for n in nodes],
            dtype=NODE,
        )
        shared = list(parents.values())
        bases = [(p.basis.columns, p.basis.rows) if p.basis is not None else (NO_CODES, NO_CODES) for p in shared]
        starts, columns = _joined([p.columns for p in shared], np.int32)
        return cls(
            packed,
            starts,
            columns,
            _joined([p.lower for p in shared], float)[1],
            _joined([p.upper for p in shared], float)[1],
            _joined([NO_SYMMETRY if p.branched is None else p.branched for p in shared], np.int32),
            (_joined([b[0] for b in bases], np.int8), _joined([b[1] for b in bases], np.int8)),
            _joined([NO_PRICES if p.prices is None else p.prices for p in shared], float),
        )

    def unpacked(self) -> list[Node]:
        """Return the nodes."""
        parents: list[Parent | None] = []
        (first, codes), (second, others) = self.bases
        begins = (self.starts, first, second, self.branched[0], self.prices[0])
        spans = zip(*(pairwise(begin.tolist()) for begin in begins), strict=True)
        for (a, b), (c, d), (e, f), (g, h), (i, j) in spans:
            basis = Basis(codes[c:d], others[e:f]) if d > c or f > e else None
            branched = self.branched[1][g:h]
            symmetric = None if len(branched) == 1 and branched[0] < 0 else branched
            prices = self.prices[1][i:j] if j > i else None
            parents.append(Parent(self.columns[a:b], self.lower[a:b], self.upper[a:b], basis, symmetric, prices))
        parents.append(None)  # number -1
        return [
            Node(bound, depth, parents[parent], column, lower, upper, up, change)
            for bound, lower, upper, change, depth, parent, column, up in self.nodes.tolist()
        ]


NO_CODES, NO_PRICES = np.zeros(0, np.int8), np.zeros(0)
NO_SYMMETRY = np.full(1, -1, np.int32)


def _joined(parts: Sequence[np.ndarray], kind: object) -> tuple[np.ndarray, np.ndarray]:
    """Return where each of some arrays begins in one array of all, and that."""
    starts = np.zeros(len(parts) + 1, np.int64)
    np.cumsum([len(part) for part in parts], out=starts[1:])
    return starts, np.concatenate([np.zeros(0, kind), *parts], dtype=kind)  # type: ignore[call-overload]
