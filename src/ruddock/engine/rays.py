"""Short rays: along what few columns an unbounded problem improves without end."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, hstack, vstack

from ruddock.engine.certificates import ray_holds
from ruddock.engine.solve import solve
from ruddock.problem import Floats, Problem


def short_ray(problem: Problem) -> Floats | None:
    """Return a direction of least total movement along which the objective falls by 1; None if there is none.

    The least total movement of a linear problem stands on few columns, so the ray can be described in a sentence.
    """
    p = problem
    up, down = np.isposinf(p.upper), np.isneginf(p.lower)
    rising, falling = np.flatnonzero(up), np.flatnonzero(down)
    a = p.matrix()
    movement = hstack([a[:, rising], -a[:, falling]])
    costs = np.concatenate((p.costs[rising], -p.costs[falling]))
    size = len(costs)
    cone = Problem.build(
        csc_matrix(vstack([movement, csr_matrix(costs)])),
        np.append(np.where(np.isfinite(p.row_lower), 0.0, -np.inf), -1.0),
        np.append(np.where(np.isfinite(p.row_upper), 0.0, np.inf), -1.0),
        np.zeros(size),
        np.full(size, np.inf),
        np.ones(size),
    )
    outcome = solve(cone)
    if outcome.status != "optimal" or outcome.x is None:
        return None
    ray = np.zeros(p.n)
    ray[rising] += outcome.x[: len(rising)]
    ray[falling] -= outcome.x[len(rising) :]
    ray[np.abs(ray) < 1e-11 * np.abs(ray).max(initial=0.0)] = 0.0
    return ray if ray_holds(p, ray, p.lower, p.upper) else None
