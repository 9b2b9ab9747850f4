# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Steps of the primal-dual hybrid gradient method (Chambolle and Pock 2011), anchored as Halpern (1967) does.

The problem is ``min c'x`` with ``rl <= Ax <= ru`` and bounds on ``x``; dual values are positive where the lower limit
of a row holds. One step looks at each entry of the matrix twice: for the reduced costs, and for the activities.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython


class HybridGradient:
    """A point, its anchor, and the steps between.

    Parameters
    ----------
    columns, rows : (starts, indices, values)
        The matrix by columns and by rows: int64, int32, float64.
    lower, upper, cost : float arrays, shape (n,)
    row_lower, row_upper : float arrays, shape (m,)

    Attributes
    ----------
    x, y : float arrays, shapes (n,) and (m,)
        The point.
    next_x, next_y : float arrays
        Where the plain step leads from it.
    anchor_x, anchor_y : float arrays
        The point at the last restart.
    """

    def __init__(self, columns, rows, lower, upper, cost, row_lower, row_upper):
        self.n, self.m = len(lower), len(row_lower)
        self.cp, self.ci, self.cx = columns
        self.rp, self.rj, self.rx = rows
        self.lower, self.upper, self.cost = lower, upper, cost
        self.row_lower, self.row_upper = row_lower, row_upper
        self.x, self.next_x, self.anchor_x = np.zeros(self.n), np.zeros(self.n), np.zeros(self.n)
        self.y, self.next_y, self.anchor_y = np.zeros(self.m), np.zeros(self.m), np.zeros(self.m)
        self.ahead = np.zeros(self.n)

    def step(self, primal, dual):
        """Work out where the plain step leads, with these step sizes."""
        tau: cython.double = primal
        sigma: cython.double = dual
        with cython.nogil:
            self._step(tau, sigma)

    def run(self, first, count, primal, dual):
        """Make so many anchored steps, the first of which has this number since the restart."""
        k: cython.longlong = first
        last: cython.longlong = first + count
        tau: cython.double = primal
        sigma: cython.double = dual
        with cython.nogil:
            while k < last:
                self._step(tau, sigma)
                self._move(k)
                k += 1

    def move(self, number):
        """Go on by an anchored step, after `step`."""
        k: cython.longlong = number
        self._move(k)

    def restart(self):
        """Go where the plain step leads, and anchor there."""
        i: cython.longlong
        for i in range(self.n):
            self.x[i] = self.next_x[i]
            self.anchor_x[i] = self.next_x[i]
        for i in range(self.m):
            self.y[i] = self.next_y[i]
            self.anchor_y[i] = self.next_y[i]

    def _step(self, tau, sigma):
        j: cython.longlong
        k: cython.longlong
        v: cython.double
        for j in range(self.n):
            v = self.cost[j]
            for k in range(self.cp[j], self.cp[j + 1]):
                v -= self.cx[k] * self.y[self.ci[k]]
            v = min(max(self.x[j] - tau * v, self.lower[j]), self.upper[j])
            self.next_x[j] = v
            self.ahead[j] = 2.0 * v - self.x[j]
        for j in range(self.m):
            v = 0.0
            for k in range(self.rp[j], self.rp[j + 1]):
                v += self.rx[k] * self.ahead[self.rj[k]]
            v = self.y[j] - sigma * v
            if v + sigma * self.row_lower[j] > 0.0:
                v += sigma * self.row_lower[j]
            elif v + sigma * self.row_upper[j] < 0.0:
                v += sigma * self.row_upper[j]
            else:
                v = 0.0
            self.next_y[j] = v

    def _move(self, number):
        """Reflect at the plain step, and go back towards the anchor by a share that becomes less and less."""
        j: cython.longlong
        share: cython.double = 1.0 / (number + 2.0)
        for j in range(self.n):
            self.x[j] = (1.0 - share) * self.ahead[j] + share * self.anchor_x[j]
        for j in range(self.m):
            self.y[j] = (1.0 - share) * (2.0 * self.next_y[j] - self.y[j]) + share * self.anchor_y[j]
