# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Literals that exclude each other, compiled: kept as the cliques they are in, never pair by pair."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython


class Conflicts:
    """Cliques of literals, and larger ones grown from them.

    Parameters
    ----------
    count : int
        Number of literals; those of one column are ``2j`` and ``2j + 1``.
    starts, members : int32 arrays
        The cliques one after another, each without repeats.
    owner_starts, owners : int32 arrays
        For each literal the cliques that it is in.

    Attributes
    ----------
    clique, touched : int32 arrays
        The first ``size`` of ``clique`` are what has been grown last.
    work : int
        Entries looked at.
    """

    def __init__(self, count, starts, members, owner_starts, owners):
        self.starts, self.members, self.owner_starts, self.owners = starts, members, owner_starts, owners
        self.stamp, self.hits = np.zeros(count + 1, np.int32), np.zeros(count + 1, np.int32)
        self.touched, self.clique = np.zeros(count + 1, np.int32), np.zeros(count + 1, np.int32)
        self.inside = np.zeros(count + 1, np.uint8)
        self.count = self.size = self.epoch = 0
        self.work = 0

    def grow(self, given, worths, degrees, least, total):
        """Grow a clique by literals that exclude all of its members, and each other; return its size.

        Parameters
        ----------
        given : int32 array, the members that it has already
        worths : float array, by literal: those above ``least`` come first, in order of worth
        degrees : int64 array, by literal: of the others those with the most come first
        least, total : float
            What members are worth in all must be above ``total`` when no more come by their worth; otherwise the
            size is 0.
        """
        first: cython.const[cython.int][::1] = given
        worth: cython.const[cython.double][::1] = worths
        degree: cython.const[cython.longlong][::1] = degrees
        low: cython.double = least
        wanted: cython.double = total
        k: cython.int
        with cython.nogil:
            self.count = self.size = 0
            for k in range(first.shape[0]):
                self._join(first[k])
                wanted -= worth[first[k]]
            if self.size > 0:
                self._grow(worth, degree, low, wanted)
        return self.size

    def excluded(self, literal):
        """List what a literal excludes in ``touched``; return how many those are."""
        self.count = self.size = 0
        self._join(literal)
        self.inside[literal] = 0
        return self.count

    def _grow(self, worth, degree, least, wanted):
        t: cython.int
        k: cython.int = self._most_worth(worth, least)
        while k >= 0:
            self._join(k)
            wanted -= worth[k]
            k = self._most_worth(worth, least)
        if wanted < 0.0:
            k = self._most_known(degree)
            while k >= 0:
                self._join(k)
                k = self._most_known(degree)
        for t in range(self.size):
            self.inside[self.clique[t]] = 0
        if wanted >= 0.0:
            self.size = 0

    def _join(self, literal):
        """Take a literal into the clique, and count for all that it excludes."""
        c: cython.int
        e: cython.int
        k: cython.int
        self.clique[self.size] = literal
        self.size += 1
        self.inside[literal] = 1
        self.epoch += 1
        for c in range(self.owner_starts[literal], self.owner_starts[literal + 1]):
            for e in range(self.starts[self.owners[c]], self.starts[self.owners[c] + 1]):
                k = self.members[e]
                if self.stamp[k] == self.epoch or k == literal:
                    continue
                self.stamp[k] = self.epoch
                if self.size == 1:
                    self.touched[self.count] = k
                    self.count += 1
                    self.hits[k] = 0
                self.hits[k] += 1
            self.work += self.starts[self.owners[c] + 1] - self.starts[self.owners[c]]

    def _fits(self, k):
        """Say whether a literal excludes all members; a column beside its own opposite says something else."""
        return self.hits[k] == self.size and not self.inside[k] and not self.inside[k ^ 1]

    def _most_worth(self, worth, least):
        t: cython.int
        k: cython.int
        best: cython.int = -1
        self.work += self.count
        for t in range(self.count):
            k = self.touched[t]
            if worth[k] > least and self._fits(k) and (best < 0 or worth[k] > worth[best]):
                best = k
        return best

    def _most_known(self, degree):
        t: cython.int
        k: cython.int
        best: cython.int = -1
        self.work += self.count
        for t in range(self.count):
            k = self.touched[t]
            if self._fits(k) and (best < 0 or degree[k] > degree[best] or (degree[k] == degree[best] and k < best)):
                best = k
        return best
