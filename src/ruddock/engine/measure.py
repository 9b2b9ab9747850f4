"""The common measure of numbers: the largest number of which all are whole multiples, as decimal numbers are read."""

from __future__ import annotations

import numpy as np

from ruddock.problem import Floats

ULPS = 8 * 2.0**-52  # relative: what a decimal number may be off by, once scaled
NEAR = 1e-9  # how near to a whole number a limit counts as one
LARGEST = 2.0**50  # multiples beyond this are not told from their neighbours
DIGITS = 6  # of the largest number, where numbers are far from 1: with few digits a measure is no accident


def near(values: Floats, ulps: float = ULPS) -> Floats:
    """Return how far beyond its value a limit may be rounded to a whole number; ``ulps`` is what it may be off by."""
    return np.asarray(NEAR + ulps * np.where(np.isfinite(values), np.abs(values), 0.0))


def measure(values: Floats) -> float:
    """Return the common measure of some numbers, or 0 where there is none; see `measures`."""
    if not len(values):
        return 0.0
    return float(measures(values, np.zeros(len(values), np.intp), 1)[0])


def measures(values: Floats, group: np.ndarray, count: int) -> Floats:
    """Return the common measure of each group of numbers, or 0 where a group has none.

    Numbers with up to three decimals have one, and those of up to six digits, wherever the point stands. Numbers are
    taken for the decimals that they stand for: 0.1 is a tenth, though no floating-point number is.

    Parameters
    ----------
    values : float array, none zero
    group : int array of the same length
    count : number of groups
    """
    size = np.abs(values)
    largest = np.zeros(count)
    np.maximum.at(largest, group, size)
    with np.errstate(divide="ignore", invalid="ignore"):
        first = np.where(largest > 0, 10.0 ** -np.floor(np.log10(largest)), 1.0)
    result = np.zeros(count)
    left = np.arange(len(values))
    for k in range(4 + DIGITS):
        scale = np.full(count, 10.0**k) if k < 4 else first * 10.0 ** (k - 4)
        most = LARGEST if k < 4 else 10.0**DIGITS
        scaled = size[left] * scale[group[left]]
        whole = np.round(scaled)
        bad = (scaled >= most) | (np.abs(scaled - whole) > ULPS * scaled)
        failed = np.bincount(group[left], bad, count) > 0
        good = ~failed[group[left]]
        divisor = np.zeros(count, np.int64)
        np.gcd.at(divisor, group[left[good]], whole[good].astype(np.int64))
        found = divisor > 0
        result[found] = divisor[found] / scale[found]
        left = left[~good]
        if not len(left):
            break
    return result
