"""Linear equations solved exactly: factors modulo a large prime, and digits to its base one after another.

A digit of the solution follows from the last residual modulo the prime, and the next residual from the digit
(Dixon 1982). All numbers on the way are whole and about as long as the prime: only the solution itself grows as long as
it is. From enough digits it follows as quotients with one divisor (Wang 1981), which are put into the equations before
they are told: what is returned does not depend on the prime.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from fractions import Fraction
from math import isqrt, lcm
from typing import Protocol, TypeVar

PRIME = 2**521 - 1
MORE = 1.5  # times as many digits from one try to read the solution off to the next
Item = TypeVar("Item")
Row = dict[int, int]


class Clock(Protocol):
    """Whoever may stop a long computation, by raising an exception."""

    def through(self, items: Iterable[Item]) -> Iterator[Item]:
        """Go through items, one step each."""


def whole(values: Iterable[Fraction]) -> tuple[list[int], int]:
    """Return fractions as whole numbers over one denominator, the least."""
    values = list(values)
    bottom = lcm(*(value.denominator for value in values))
    return [value.numerator * (bottom // value.denominator) for value in values], bottom


class ExactFactor:
    """A square sparse matrix factorised modulo a prime, smallest row and column first.

    Parameters
    ----------
    columns : list of dict
        Row number to value, for each column.
    clock : Clock

    Raises
    ------
    ZeroDivisionError
        If the matrix is singular, at least modulo the prime.
    """

    def __init__(self, columns: list[dict[int, Fraction]], clock: Clock) -> None:
        self.size, self.clock = len(columns), clock
        # rows times what makes them whole
        self._times = [1] * self.size
        for column in clock.through(columns):
            for i, value in column.items():
                self._times[i] = lcm(self._times[i], value.denominator)
        self._columns: list[list[tuple[int, int]]] = [
            [(i, value.numerator * (self._times[i] // value.denominator)) for i, value in column.items()]
            for column in clock.through(columns)
        ]
        self._factorise()

    def _factorise(self) -> None:
        size, clock = self.size, self.clock
        every = range(size)
        rows: list[Row] = [{} for _ in every]
        holders: list[set[int]] = [set() for _ in every]
        for j, column in enumerate(clock.through(self._columns)):
            for i, value in column:
                if value % PRIME:
                    rows[i][j] = value % PRIME
                    holders[j].add(i)
        self._steps: list[tuple[int, int, int]] = []  # row, pivot row, factor
        self._order: list[tuple[int, int, int]] = []  # pivot row and column, and the inverse of the pivot
        self._upper = rows
        sizes: list[set[int]] = [set() for _ in range(size + 1)]
        for i in every:
            sizes[len(rows[i])].add(i)
        for _ in clock.through(every):
            i = next(iter(next(group for group in sizes if group)))
            row = rows[i]
            if not row:
                raise ZeroDivisionError("the basis is singular")
            sizes[len(row)].discard(i)
            j = min(row, key=lambda c: len(holders[c]))
            for k in row:
                holders[k].discard(i)
            inverse = pow(row.pop(j), -1, PRIME)
            self._order.append((i, j, inverse))
            self._eliminate(i, j, inverse, holders, sizes)

    def _eliminate(self, i: int, j: int, inverse: int, holders: list[set[int]], sizes: list[set[int]]) -> None:
        """Take column ``j`` out of all rows that still hold it."""
        rows, pivot_row = self._upper, self._upper[i]
        for r in self.clock.through(sorted(holders[j])):
            row = rows[r]
            sizes[len(row)].discard(r)
            factor = row.pop(j) * inverse % PRIME
            for k, value in pivot_row.items():
                new = (row.get(k, 0) - factor * value) % PRIME
                if new:
                    row[k] = new
                    holders[k].add(r)
                else:
                    row.pop(k, None)
                    holders[k].discard(r)
            sizes[len(row)].add(r)
            self._steps.append((r, i, factor))
        holders[j].clear()

    # ------------------------------------------------------------------ solutions

    def forward(self, right: list[Fraction]) -> list[Fraction]:
        """Solve ``B x = right``."""
        scaled = [value * times for value, times in zip(right, self._times, strict=True)]
        return self._quotients(scaled, self._forward_digit, self._product)

    def backward(self, right: list[Fraction]) -> list[Fraction]:
        """Solve ``B'y = right``."""
        solution = self._quotients(right, self._backward_digit, self._product_of_rows)
        return [value * times for value, times in zip(solution, self._times, strict=True)]

    def _quotients(
        self, right: list[Fraction], digit: Callable[[list[int]], list[int]], product: Callable[[list[int]], list[int]]
    ) -> list[Fraction]:
        """Lift digit by digit, until quotients that are read off solve the equations."""
        through = self.clock.through
        wanted, common = whole(right)
        solution, base, rest = [0] * self.size, 1, wanted
        digits, due = 0, 1.0
        while True:
            found = digit(rest)
            rest = [(r - b) // PRIME for r, b in zip(rest, product(found), strict=True)]
            solution = [s + base * d for s, d in zip(solution, through(found), strict=True)]
            base *= PRIME
            digits += 1
            if digits < due and any(rest):
                continue
            due = max(digits + 1, MORE * digits)
            tops, bottom = solution, 1
            if any(rest):  # otherwise the digits have come to an end
                read = _read_off(solution, base, through)
                if read is None:
                    continue
                tops, bottom = read
                if product(tops) != [bottom * value for value in wanted]:
                    continue
            return [Fraction(top, bottom * common) if top else Fraction(0) for top in through(tops)]

    def _product(self, x: list[int]) -> list[int]:
        """Return the product with the matrix."""
        result = [0] * self.size
        for value, column in zip(x, self.clock.through(self._columns), strict=True):
            if value:
                for i, entry in column:
                    result[i] += entry * value
        return result

    def _product_of_rows(self, y: list[int]) -> list[int]:
        """Return the product with the transposed matrix."""
        return [sum(entry * y[i] for i, entry in column) for column in self.clock.through(self._columns)]

    def _forward_digit(self, right: list[int]) -> list[int]:
        """Solve ``B x = right`` modulo the prime."""
        right = [value % PRIME for value in right]
        for r, i, factor in self.clock.through(self._steps):
            if right[i]:
                right[r] = (right[r] - factor * right[i]) % PRIME
        result = [0] * self.size
        for i, j, inverse in self.clock.through(reversed(self._order)):
            rest = right[i] - sum(value * result[k] for k, value in self._upper[i].items() if result[k])
            result[j] = _least(rest * inverse, PRIME)
        return result

    def _backward_digit(self, right: list[int]) -> list[int]:
        """Solve ``B'y = right`` modulo the prime."""
        right = [value % PRIME for value in right]
        result = [0] * self.size
        for i, j, inverse in self.clock.through(self._order):
            value = right[j] * inverse % PRIME
            result[i] = value
            if value:
                for k, entry in self._upper[i].items():
                    right[k] = (right[k] - value * entry) % PRIME
        for r, i, factor in self.clock.through(reversed(self._steps)):
            if result[r]:
                result[i] = (result[i] - factor * result[r]) % PRIME
        return [_least(value, PRIME) for value in result]


def _least(value: int, base: int) -> int:
    """Return the number of least size that is the same modulo a base."""
    value %= base
    return value - base if value > base // 2 else value


def _read_off(
    values: list[int], base: int, through: Callable[[Iterable[int]], Iterator[int]]
) -> tuple[list[int], int] | None:
    """Return numerators and one denominator that are the same modulo a base; None where they come out too large."""
    most = isqrt(base // 2)
    bottom, tops = 1, list[int]()
    for value in through(values):
        top = _least(value * bottom, base)
        if abs(top) > most:
            more = _divisor(top % base, base, most)
            bottom *= more
            if bottom > most:
                return None
            tops = [t * more for t in tops]
            top = _least(top * more, base)
        tops.append(top)
    return tops, bottom


def _divisor(value: int, base: int, most: int) -> int:
    """Return the divisor of the quotient of small numbers that a value stands for, by Euclid's algorithm."""
    a, b, s, t = base, value, 0, 1
    while b > most:
        quotient = a // b
        a, b, s, t = b, a - quotient * b, t, s - quotient * t
    return abs(t)
