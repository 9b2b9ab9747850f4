"""Linear terms over label combinations, in long form: one row per combination, coefficients as triplets.

The arithmetic below `Expression`: all of it aligns by axis name and works on whole arrays.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import wraps
from typing import Any, NamedTuple, ParamSpec, TypeVar

import numpy as np
import numpy.typing as npt

from ruddock.errors import ModelError, listed
from ruddock.modelling.alignment import axis_names, masked, missing_error, pick, renamed, values_for
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells, Positions, join, project, union
from ruddock.modelling.data import Data, filled
from ruddock.modelling.units import NONE, Units, data_units
from ruddock.problem import Floats, Ints

Columns = npt.NDArray[np.int64]
NO_TERMS = (np.empty(0, np.intp), np.empty(0, np.int64), np.empty(0))
P = ParamSpec("P")
Result = TypeVar("Result")


def unwarned(function: Callable[P, Result]) -> Callable[P, Result]:
    """Work without warnings of overflow: numbers too large are refused where the constraint is named."""

    @wraps(function)
    def run(*args: P.args, **given: P.kwargs) -> Result:
        with np.errstate(over="ignore", invalid="ignore"):
            return function(*args, **given)

    return run


@dataclass(eq=False, repr=False)
class Registry:
    """What a model and its variants share: the numbers of their decisions, never given twice, and the axes known.

    ``holders`` says of each first number whose it is: name, cells, and whether members go by their label alone.

    Two models with the same registry understand each other's expressions; an expression of another registry is
    refused wherever it is passed.
    """

    name: str
    columns: int = 0
    axes: dict[str, Axis] = field(default_factory=dict)
    holders: dict[int, tuple[str, Cells, bool]] = field(default_factory=dict, repr=False)
    _firsts: list[int] = field(default_factory=list, repr=False)

    def hold(self, numbers: Columns, name: str, cells: Cells, *, listed: bool = False) -> None:
        """Note whose numbers these are, so that an expression can be written out; they follow one another."""
        if len(numbers):
            self.holders.setdefault(int(numbers[0]), (name, cells, listed))

    def name_of(self, number: int) -> str:
        """Return the name of a decision by its number."""
        if len(self._firsts) != len(self.holders):
            self._firsts = sorted(self.holders)
        at = bisect_right(self._firsts, number) - 1
        if at >= 0:
            first = self._firsts[at]
            name, cells, listed = self.holders[first]
            if number - first < cells.size:
                if not cells.axes:
                    return name
                place = number - first
                return cells.axes[0].texts[place] if listed else f"{name}[{cells.text(place)}]"
        return f"decision {number}"

    def forget(self, name: str) -> None:
        """Forget a family that was removed."""
        for first in [first for first, held in self.holders.items() if held[0] == name]:
            del self.holders[first]

    def __deepcopy__(self, memo: dict[int, Any]) -> Registry:
        return self  # numbers stay unique across copies, so that a copy understands the original's expressions


class MissingCells(NamedTuple):
    """Combinations at which an expression has no value although another one may cover them.

    Attributes
    ----------
    why : the beginning of a message, with ``{labels}`` for the combinations
    """

    cells: Cells
    why: str


@dataclass(frozen=True, eq=False, repr=False)
class Terms:
    """A linear expression for each cell: ``sum(values x decisions) + constants``.

    Attributes
    ----------
    registry : whose decisions these are
    cells : the label combinations, one row each
    rows, columns, values : the terms: row, number of the decision, coefficient
    constants : float array, one per row
    summed : a sum is zero, not absent, for combinations that it does not hold
    missing : the combinations where it has no value
    units : of the summands
    ignored : data entries outside the families that they were multiplied with
    aligned : one term for each row, in order: gathers by row can be left out
    chosen : of axes from which a list or slice of labels was picked, their codes: a sum keeps to those
    """

    registry: Registry
    cells: Cells
    rows: Positions
    columns: Columns
    values: Floats
    constants: Floats
    summed: bool = False
    missing: tuple[MissingCells, ...] = ()
    units: Units = NONE
    ignored: int = 0
    aligned: bool = False
    chosen: tuple[tuple[str, Ints], ...] = ()

    @classmethod
    def constant(cls, registry: Registry, held: Data) -> Terms:
        """Return data as terms without decisions."""
        return cls(registry, held.cells, *NO_TERMS, constants=held.values, units=data_units(held.unit))

    @property
    def plain(self) -> bool:
        """Whether it holds no decision."""
        return not len(self.values)

    def by_row(self, values: Any) -> Any:
        """Return values, given one per row, for every term."""
        return values if self.aligned else values[self.rows]

    def without_constants(self) -> Terms:
        """Return the terms alone."""
        return replace(self, constants=np.zeros(self.cells.size))

    # ------------------------------------------------------------------ rows

    def gather(self, cells: Cells, source: Positions | None) -> Terms:
        """Return rows copied from those at ``source`` (-1: an empty row; None: each in its place)."""
        if source is None:
            return replace(self, cells=cells, aligned=False)
        size = self.cells.size
        held = source >= 0
        safe = np.where(held, source, 0) if size else np.zeros(len(source), np.intp)
        constants = np.where(held, self.constants[safe], 0.0) if size else np.zeros(len(source))
        count = np.bincount(self.rows, minlength=max(size, 1))
        order = None if _ascending(self.rows) else np.argsort(self.rows, kind="stable")
        begin = np.cumsum(count) - count
        taken = np.where(held, count[safe], 0)
        rows = np.repeat(np.arange(len(source)), taken)
        at = np.arange(len(rows)) + np.repeat(begin[safe] - (np.cumsum(taken) - taken), taken)
        if order is not None:
            at = order[at]
        return replace(
            self, cells=cells, rows=rows, columns=self.columns[at], values=self.values[at], constants=constants,
            aligned=False,
        )  # fmt: skip

    def take(self, kept: Positions) -> Terms:
        """Return some of the rows, in the order asked for."""
        return self.gather(self.cells.take(kept), kept)

    def spread(self, cells: Cells) -> Terms:
        """Return the rows for cells that have all of these axes, repeated along the others; absent ones are empty."""
        if cells is self.cells:
            return self
        still_missing(self, cells)
        return replace(self.gather(cells, self.cells.lookup(cells)), missing=())

    # ------------------------------------------------------------------ shape

    @unwarned
    def sum(self, axes: Any) -> Terms:
        """Return the sum over the given axes, or over all."""
        drop = axis_names(self.cells, axes)
        kept = [name for name in self.cells.names if name not in drop]
        cells, group = project(self.cells, kept)
        constants = np.zeros(cells.size)
        if self.constants.any():
            constants += np.bincount(group, self.constants, cells.size)
        result = replace(
            self, cells=cells, rows=self.by_row(group), constants=constants, summed=True, aligned=False,
            missing=tuple(absent for absent in self.missing if not drop & set(absent.cells.names)),
            chosen=tuple((name, codes) for name, codes in self.chosen if name not in drop),
        )  # fmt: skip
        for name, codes in result.chosen:
            inside = np.isin(result.cells.codes[result.cells.position(name)], codes)
            if not inside.all():
                result = result.take(np.flatnonzero(inside))
        return result

    def at(self, labels: dict[str, Any]) -> Terms:
        """Return the part at one label of each named axis, without that axis; a list or slice keeps the axis."""
        cells, kept = pick(self.cells, labels)
        picked = (
            (absent, *pick(absent.cells, {name: label for name, label in labels.items() if name in absent.cells.names}))
            for absent in self.missing
        )
        missing = tuple(absent._replace(cells=inside) for absent, inside, where in picked if len(where))
        if not cells.axes and not len(kept):
            names = ", ".join(f"{name}={label}" for name, label in labels.items())
            if missing:
                raise ModelError(missing[0].why.format(labels=names))
            if not self.summed:
                raise ModelError(f"no member at {names}: the combination is outside the family")
            return Terms(self.registry, cells, *NO_TERMS, constants=np.zeros(1), summed=True, units=self.units)
        chosen = {name: codes for name, codes in self.chosen if name in cells.names}
        for axis in cells.axes:
            if axis.name in labels:
                codes = axis.some_codes(labels[axis.name])
                chosen[axis.name] = np.intersect1d(codes, chosen.get(axis.name, codes)).astype(np.int32)
        return replace(self.gather(cells, kept), missing=missing, chosen=tuple(chosen.items()))

    def where(self, mask: Data) -> Terms:
        """Return the rows where a mask is present and not zero; the rest becomes absent."""
        part = self.take(masked(self.cells, mask))
        missing = []
        for absent in self.missing:
            if set(mask.cells.names) <= set(absent.cells.names):
                inside = absent.cells.take(masked(absent.cells, mask))
                if inside.size:
                    missing.append(absent._replace(cells=inside))
            else:
                missing.append(absent)
        return replace(part, missing=tuple(missing))

    def rename(self, axes: dict[str, Axis]) -> Terms:
        """Return the same on other axes."""
        missing = tuple(
            absent._replace(cells=renamed(absent.cells, {n: a for n, a in axes.items() if n in absent.cells.names}))
            for absent in self.missing
        )
        return replace(self, cells=renamed(self.cells, axes), missing=missing, aligned=False, chosen=())

    def repeat(self, axes: tuple[Axis, ...]) -> Terms:
        """Return the same for every label of further axes."""
        cells, source, _ = join(self.cells, Cells(axes))
        return self.gather(cells, source)

    # ------------------------------------------------------------------ arithmetic

    @unwarned
    def scaled(self, factor: float, unit: str | None = None) -> Terms:
        """Return the terms times a number."""
        # a bare factor such as 0.5 hours per jar brings a unit that nobody states
        units = self.units if abs(factor) == 1.0 and unit is None else self.units.times(unit)
        values = -self.values if factor == -1.0 else self.values * factor
        return replace(self, values=values, constants=self.constants * factor + 0.0, units=units)

    @unwarned
    def times(self, factor: Data) -> Terms:
        """Return the terms times data, repeated along the axes that only the data has."""
        if not factor.axes:
            return self.scaled(float(factor.values[0]), factor.unit)
        part = self
        if not set(factor.cells.names) <= set(self.cells.names):
            part = self.along(filled(factor))
        values = values_for(factor, part.cells)
        ignored = part.ignored + max(0, factor.cells.size - part.cells.size)
        return replace(
            part, values=part.values * part.by_row(values), constants=part.constants * values,
            units=self.units.times(factor.unit), ignored=ignored,
        )  # fmt: skip

    def along(self, other: Data) -> Terms:
        """Repeat along the axes that only the data has, for the combinations that it holds."""
        shared = [name for name in other.cells.names if name in self.cells.names]
        cells, source, _ = join(self.cells, other.cells)
        if source is not None:
            absent = np.setdiff1d(np.arange(self.cells.size), source)
            if len(absent):
                raise missing_error(self.cells, absent, f"data for {' x '.join(shared)}")
        return self.gather(cells, source)

    @unwarned
    def shifted(self, amount: float) -> Terms:
        """Add a number everywhere."""
        return replace(self, constants=self.constants + amount)

    @unwarned
    def plus(self, other: Terms, sign: float = 1.0) -> Terms:
        """Add on the union of the cells; both have the same axes."""
        cells, place = union(self.cells, other.cells)
        missing = still_missing(self, cells) + still_missing(other, cells)
        rows = other.rows if place is None else place[other.rows]
        constants = np.zeros(cells.size)
        constants[: self.cells.size] = self.constants
        if place is None:
            constants += sign * other.constants
        else:
            constants[place] += sign * other.constants
        if other.plain:
            rows, columns, values = self.rows, self.columns, self.values
        else:
            rows = np.concatenate((self.rows, rows))
            columns = np.concatenate((self.columns, other.columns))
            values = np.concatenate((self.values, sign * other.values))
        return Terms(
            self.registry,
            cells,
            rows,
            columns,
            values,
            constants,
            summed=self.summed or other.summed,
            missing=missing,
            units=self.units | other.units,
            ignored=self.ignored + other.ignored,
        )

    @unwarned
    def plus_data(self, held: Data, sign: float) -> Terms:
        """Add data on the same axes; where these terms have no row, what the data holds there is left out.

        That is remembered as missing cells: a sum with something that covers those combinations must not lose it.
        """
        right = Terms.constant(self.registry, held)
        if self.summed and not self.cells.full:
            return self.plus(right, sign)
        constants = self.constants + sign * values_for(held, self.cells)
        missing, ignored = self.missing, self.ignored
        if not self.cells.full:
            found = self.cells.lookup(held.cells)
            if found is not None:
                lost = np.flatnonzero((found < 0) & (held.values != 0))
                if len(lost):
                    why = (
                        "data was added to a family that does not hold {labels}, and so left out there; what this is "
                        "added to now covers them: add the data last, or keep it with .where()"
                    )
                    missing = (*missing, MissingCells(held.cells.take(lost), why))
                    ignored += len(lost)
        return replace(self, constants=constants, units=self.units | right.units, missing=missing, ignored=ignored)


def _ascending(rows: Positions) -> bool:
    return len(rows) < 2 or bool((rows[1:] >= rows[:-1]).all())


def still_missing(part: Terms, cells: Cells) -> tuple[MissingCells, ...]:
    """Return the combinations that an expression lacks, and still lacks on wider cells.

    Raises
    ------
    ModelError
        If the cells cover a missing combination that the expression itself does not.
    """
    left = []
    for absent in part.missing:
        if cells is part.cells:
            left.append(absent)
            continue
        inside = absent.cells.lookup(cells)
        covered = np.arange(cells.size) if inside is None else np.flatnonzero(inside >= 0)
        if not len(covered):
            left.append(absent)
            continue
        own = part.cells.lookup(cells.take(covered))
        if own is not None and (own < 0).any():
            at = covered[own < 0]
            raise ModelError(absent.why.format(labels=listed([cells.text(int(i)) for i in at[:20]], 3)))
    return tuple(left)


def check_no_repeat(a: Terms, b: Terms) -> None:
    """Raise `ModelError` if adding would silently repeat one side along an axis of the other."""
    for one, other in ((a, b), (b, a)):
        lacking = [axis for axis in other.cells.axes if axis.name not in one.cells.names]
        if not lacking or (not one.cells.axes and one.plain and one.cells.size == 1):
            continue
        names = ", ".join(axis.name for axis in lacking)
        times = " x ".join(f"{len(axis):,}" for axis in lacking)
        what = "the expression on " + (", ".join(one.cells.names) or "no axis")
        raise ModelError(
            f"{what} has no {names} axis; summed over {names} it would count {times} times: "
            f"sum the other side first, or say .repeat({names})"
        )


def on_common_cells(a: Terms, b: Terms) -> tuple[Terms, Terms]:
    """Return both sides of a relation on the same cells, repeated along axes that one side lacks."""
    names_a, names_b = set(a.cells.names), set(b.cells.names)
    if names_a == names_b:
        cells, place = union(a.cells, b.cells)
        still_missing(a, cells)
        still_missing(b, cells)
        left = a if cells is a.cells else a.gather(cells, _first(a.cells.size, cells.size))
        if place is None:
            return left, replace(b, cells=cells)
        inverse = np.full(cells.size, -1, np.intp)
        inverse[place] = np.arange(b.cells.size)
        return left, b.gather(cells, inverse)
    if names_b < names_a:
        return a, b.spread(a.cells)
    if names_a < names_b:
        return a.spread(b.cells), b
    cells, from_a, from_b = join(a.cells, b.cells)
    still_missing(a, cells)
    still_missing(b, cells)
    return a.gather(cells, from_a), b.gather(cells, from_b)


def _first(size: int, whole: int) -> Positions:
    at = np.full(whole, -1, np.intp)
    at[:size] = np.arange(size)
    return at
