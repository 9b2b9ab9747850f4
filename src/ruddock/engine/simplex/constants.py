"""What the kernels agree on: codes of variables, and what a pivot loop says when it returns.

The compiled kernels take the same names from ``constants.pxd``; a test compares the two.
"""

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE

__all__ = [
    "AT_LIMIT",
    "AT_LOWER",
    "AT_UPPER",
    "BASIC",
    "BEYOND",
    "DONE",
    "DOUBTFUL",
    "FREE",
    "GOING_ON",
    "INFEASIBLE",
    "LEAST_PIVOT",
    "SAFE_PIVOT",
    "STUCK",
]

# Magnitudes of pivots, on the scaled problem: below the first there is none, below the second one is doubted
LEAST_PIVOT, SAFE_PIVOT = 1e-9, 1e-7

GOING_ON = 0  # the budget of this call is used up
DONE = 1  # the working problem is solved
INFEASIBLE = 2  # the row, or the sum of infeasibilities, that stands in the kernel proves it
BEYOND = 3  # the dual method has passed its cutoff; the primal one goes along a ray for ever
AT_LIMIT = 4  # of iterations
STUCK = 5
DOUBTFUL = 6  # of one iteration: numbers disagree, so once more with fresh factors
