"""The hand-over between models and the engine: a minimisation problem as plain arrays."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.errors import DataError

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int32]
Bytes = npt.NDArray[np.uint8]

ENDLESS = 1e20  # limits of this size and beyond count as none
CONTINUOUS, INTEGER, SEMICONTINUOUS = 0, 1, 2  # `kinds` are sums of these marks
LARGEST = 1e100  # coefficients from here on: their products would leave the range of numbers
INT32_MAX = np.iinfo(np.int32).max


def reaching_zero(lower: Floats, upper: Floats, kinds: Bytes) -> tuple[Floats, Floats]:
    """Return bounds of a relaxation: those of semicontinuous columns, which may be zero besides, reach it."""
    semi = (kinds & SEMICONTINUOUS) != 0
    return np.where(semi, np.minimum(lower, 0.0), lower), np.where(semi, np.maximum(upper, 0.0), upper)


@dataclass(frozen=True, eq=False, repr=False)
class Problem:
    """``min costs'x + offset`` with ``row_lower <= Ax <= row_upper`` and bounds and kinds of columns.

    Attributes
    ----------
    starts, indices, values : arrays
        ``A`` in compressed sparse columns: int32 (n + 1), int32 and float64 (non-zeros). Row indices
        are sorted within a column, there are no duplicates and no stored zeros.
    row_lower, row_upper : float array, shape (m,)
    lower, upper : float array, shape (n,)
        Bounds of the columns. A semicontinuous column may be zero besides. Limits of 1e20 and beyond count as none.
    costs : float array, shape (n,)
    kinds : uint8 array, shape (n,)
        0, or the sum of 1 (integer) and 2 (semicontinuous).
    offset : float
        Constant of the objective.
    """

    starts: Ints
    indices: Ints
    values: Floats
    row_lower: Floats
    row_upper: Floats
    lower: Floats
    upper: Floats
    costs: Floats
    kinds: Bytes
    offset: float = 0.0

    def __getstate__(self) -> dict[str, Any]:
        """Return the fields alone, without what is made from them."""
        return {field.name: getattr(self, field.name) for field in fields(self)}

    @property
    def m(self) -> int:
        """Number of rows."""
        return len(self.row_lower)

    @property
    def n(self) -> int:
        """Number of columns."""
        return len(self.lower)

    @property
    def nonzeros(self) -> int:
        """Number of stored entries of the matrix."""
        return len(self.values)

    @property
    def discrete(self) -> bool:
        """Whether any column is integer or semicontinuous."""
        return bool(self.kinds.any())

    def matrix(self) -> csc_matrix:
        """Return ``A`` as a SciPy matrix that shares its arrays; it is made once, and nobody writes to it."""
        return self._matrix

    @cached_property
    def _matrix(self) -> csc_matrix:
        return csc_matrix((self.values, self.indices, self.starts), shape=(self.m, self.n))

    @cached_property
    def _transposed(self) -> csr_matrix:
        result = csr_matrix((self.n, self.m))  # with the same arrays, which are not checked once more
        result.data, result.indices, result.indptr = self.values, self.indices, self.starts
        return result

    def by_rows(self) -> csr_matrix:
        """Return ``A`` by rows; it is made once, and nobody writes to it."""
        return self._by_rows

    @cached_property
    def _by_rows(self) -> csr_matrix:
        return self._matrix.tocsr()

    def with_own_limits(self) -> Problem:
        """Return the problem with limits of rows that may be changed in place."""
        other = replace(self, row_lower=self.row_lower.copy(), row_upper=self.row_upper.copy())
        for made in ("_matrix", "_transposed", "_by_rows"):
            if made in self.__dict__:
                other.__dict__[made] = self.__dict__[made]
        return other

    @cached_property
    def whole_rows(self) -> npt.NDArray[np.bool_]:
        """Which rows are of integers: of integer columns alone, with whole coefficients and limits."""
        return self.rows_of_whole(self.integers)

    @property
    def integers(self) -> npt.NDArray[np.bool_]:
        """Which columns are integer and nothing else: not semicontinuous besides."""
        return np.asarray((self.kinds & (INTEGER | SEMICONTINUOUS)) == INTEGER)

    def rows_of_whole(self, columns: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
        """Return which rows have whole coefficients and limits, and none but the marked columns."""
        owner = np.repeat(np.arange(self.n), np.diff(self.starts))
        bad = ~columns[owner] | (self.values != np.round(self.values))
        result = np.bincount(self.indices, bad, self.m) == 0
        for limit in (self.row_lower, self.row_upper):
            result &= ~np.isfinite(limit) | (limit == np.round(limit))
        return np.asarray(result)

    def activity(self, x: Floats) -> Floats:
        """Return ``Ax``."""
        return np.asarray(self._matrix @ x)

    def priced(self, y: Floats) -> Floats:
        """Return ``A'y``."""
        return np.asarray(self._transposed @ y)

    def objective(self, x: Floats) -> float:
        """Return the objective, offset included, at ``x``."""
        return float(self.costs @ x) + self.offset

    def least(self, lower: Floats, upper: Floats) -> float:
        """Return the least objective, offset included, that column bounds allow; -inf where they do not bound it."""
        with np.errstate(invalid="ignore"):  # no cost times no bound
            ends = np.where(self.costs > 0, self.costs * lower, self.costs * upper)
        return float(np.where(self.costs == 0, 0.0, ends).sum()) + self.offset

    def with_rows(self, matrix: Any, lower: npt.ArrayLike, upper: npt.ArrayLike) -> Problem:
        """Return the problem with further rows below its own."""
        low, high = np.atleast_1d(lower), np.atleast_1d(upper)
        more = Problem.build(matrix, low, high, self.lower, self.upper, self.costs, self.kinds, self.offset)
        if self.nonzeros + more.nonzeros >= INT32_MAX:
            raise DataError(f"{self.nonzeros + more.nonzeros:,} entries are more than 32-bit indices can address")
        old_count, new_count = np.diff(self.starts), np.diff(more.starts)
        # in every column the new entries follow the old ones
        old = np.arange(self.nonzeros) + np.repeat(more.starts[:-1], old_count)
        new = np.arange(more.nonzeros) + np.repeat(self.starts[1:], new_count)
        indices = np.empty(len(old) + len(new), np.int32)
        values = np.empty(len(old) + len(new))
        indices[old], indices[new] = self.indices, more.indices + self.m
        values[old], values[new] = self.values, more.values
        return replace(
            more,
            starts=self.starts + more.starts,
            indices=indices,
            values=values,
            row_lower=np.concatenate((self.row_lower, more.row_lower)),
            row_upper=np.concatenate((self.row_upper, more.row_upper)),
        )

    def locks(self) -> tuple[npt.NDArray[Any], npt.NDArray[Any]]:
        """Return for each column how many rows could break if it goes down, and if it goes up."""
        owner = np.repeat(np.arange(self.n), np.diff(self.starts))
        positive = self.values > 0
        has_lower, has_upper = np.isfinite(self.row_lower)[self.indices], np.isfinite(self.row_upper)[self.indices]
        down, up = np.where(positive, has_lower, has_upper), np.where(positive, has_upper, has_lower)
        return np.bincount(owner, down, self.n), np.bincount(owner, up, self.n)

    @classmethod
    def build(
        cls,
        matrix: Any,
        row_lower: npt.ArrayLike,
        row_upper: npt.ArrayLike,
        lower: npt.ArrayLike,
        upper: npt.ArrayLike,
        costs: npt.ArrayLike,
        kinds: npt.ArrayLike | None = None,
        offset: float = 0.0,
    ) -> Problem:
        """Check the parts and put them in canonical form; arrays may be shared, so nobody writes to them.

        Parameters
        ----------
        matrix : SciPy sparse matrix or dense array, shape (m, n)
            Duplicate entries are added, zeros dropped.

        Raises
        ------
        DataError
            If shapes disagree, a value is NaN, a coefficient or cost is 1e100 or larger, a lower limit is
            +infinity or an upper one -infinity, or there are too many entries for 32-bit indices.
        """
        # a matrix that knows itself to be in order is not gone through again
        plain = isinstance(matrix, csc_matrix) and matrix.dtype == np.float64
        a = matrix if plain else csc_matrix(matrix, dtype=np.float64)
        if not a.has_canonical_format:
            a = a.copy()
            a.sum_duplicates()
        if not a.data.all():
            a = a.copy()
            a.eliminate_zeros()
        m, n = a.shape
        if max(a.nnz, m + n) >= INT32_MAX:
            raise DataError(f"{a.nnz:,} entries in {m:,} rows are more than 32-bit indices can address")
        columns = {"lower": lower, "upper": upper, "costs": costs}
        parts = {name: _vector(name, part, n) for name, part in columns.items()}
        for name, part in {"row_lower": row_lower, "row_upper": row_upper}.items():
            parts[name] = _vector(name, part, m)
        for name in ("lower", "row_lower"):
            parts[name] = _endless(parts[name])
            _forbid(parts[name] == np.inf, name, "+infinity, or a number of 1e20 or more, cannot be a lower limit")
        for name in ("upper", "row_upper"):
            parts[name] = _endless(parts[name])
            _forbid(parts[name] == -np.inf, name, "-infinity, or a number of -1e20 or less, cannot be an upper limit")
        _forbid(~(np.abs(parts["costs"]) < LARGEST), "costs", f"a cost must be finite and smaller than {LARGEST:g}")
        _forbid(~(np.abs(a.data) < LARGEST), "matrix", f"a coefficient must be finite and smaller than {LARGEST:g}")
        if not abs(offset) < LARGEST:
            raise DataError(f"offset: the constant of an objective must be smaller than {LARGEST:g}")
        marks = np.zeros(n, np.uint8) if kinds is None else np.ascontiguousarray(kinds, np.uint8)
        if marks.shape != (n,):
            raise DataError(f"kinds has shape {marks.shape}, needed is ({n},)")
        starts, indices = a.indptr.astype(np.int32, copy=False), a.indices.astype(np.int32, copy=False)
        return cls(starts, indices, a.data, kinds=marks, offset=offset, **parts)


def _vector(name: str, values: npt.ArrayLike, size: int) -> Floats:
    array = np.full(size, values, np.float64) if np.ndim(values) == 0 else np.ascontiguousarray(values, np.float64)
    if array.shape != (size,):
        raise DataError(f"{name} has shape {array.shape}, needed is ({size},)")
    if size and np.isnan(array.max()):  # a maximum is NaN if any value is
        _forbid(np.isnan(array), name, "NaN is not a number to solve with")
    return array


def _endless(limits: Floats) -> Floats:
    """Return limits with infinities in place of numbers so large that they cannot limit anything."""
    far = np.abs(limits) >= ENDLESS
    return np.where(far, np.copysign(np.inf, limits), limits) if far.any() else limits


def _forbid(bad: npt.NDArray[np.bool_], name: str, why: str) -> None:
    if bad.any():
        raise DataError(f"{name}[{int(np.argmax(bad))}]: {why}")
