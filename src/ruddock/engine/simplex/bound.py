"""What dual values prove: a lower bound of the objective that does not trust them further than they go.

Any dual values give a bound, by the limits on whose side they stand (Neumaier and Shcherbina 2004). So a basis that is
optimal only within a tolerance is told from one that is optimal: by how far the bound stays below the objective.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ruddock.problem import Floats

NOISE = 1e-11  # of all terms of a reduced cost: what is below is what rounding left
LOSS = 4 * 2.0**-52  # of all terms of the bound: what adding them up may lose


@dataclass(frozen=True)
class DualBound:
    """A lower bound of the objective.

    Attributes
    ----------
    value : -inf where a limit that does not exist would have to hold
    nearly : the bound if the reduced costs that miss their sign there were zero; the same as ``value`` otherwise
    """

    value: float
    nearly: float


def dual_bound(duals: Floats, values: Floats, size: Floats, lower: Floats, upper: Floats) -> DualBound:
    """Return the bound that dual values prove.

    Parameters
    ----------
    duals : float array
        Reduced costs of columns, then dual values of rows.
    values : float array
        Values of columns, then activities of rows: what counts where a dual is nothing but rounding.
    size : float array
        What the terms of each dual add up to without their signs.
    lower, upper : float arrays
        Limits of columns and rows.
    """
    real = np.abs(duals) > NOISE * size
    side = np.where(real, np.where(duals > 0, lower, upper), values)
    endless = np.isinf(side)
    terms = duals * np.where(endless, values, side)
    nearly = float(terms.sum() - LOSS * np.abs(terms).sum())
    return DualBound(-np.inf if endless.any() else nearly, nearly)
