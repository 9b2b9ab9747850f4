"""Which way on from a plan the search by jumps takes next: by what each was worth for its work."""

from __future__ import annotations

from typing import Literal

Way = Literal["exchange", "mend", "jump"]

SELDOM = 0.1  # of all work, that each way is given at least
FADES = 0.5  # times what is remembered of a way after a portion in vain


class Ways:
    """The way whose gains were worth most of its work, but none too seldom.

    Parameters
    ----------
    *names : in the order in which they are taken as long as none has gained anything
    """

    def __init__(self, *names: Way) -> None:
        self._gains: dict[Way, float] = dict.fromkeys(names, 0.0)
        self._work: dict[Way, float] = dict.fromkeys(names, 1.0)
        self._spent: dict[Way, int] = dict.fromkeys(names, 0)

    def choose(self) -> Way:
        """Return the way to take next."""
        seldom = min(self._spent, key=lambda way: self._spent[way])
        if self._spent[seldom] < SELDOM * sum(self._spent.values()):
            return seldom
        return max(self._gains, key=lambda way: self._gains[way] / self._work[way])

    def learn(self, way: Way, gain: float, work: int) -> None:
        """Take down what a portion of work gained in the objective, 0 where it was in vain."""
        fades = 1.0 if gain else FADES
        self._gains[way] = fades * self._gains[way] + gain
        self._work[way] = fades * self._work[way] + work
        self._spent[way] += work
