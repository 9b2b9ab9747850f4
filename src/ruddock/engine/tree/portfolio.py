"""Which surroundings of the best plan are searched, and how large they are: adapted to what came of them.

Each kind of neighbourhood keeps a share of the integer columns at the plan's values. A search that ends without a
better plan has room for more, so its share falls; one that runs into its limits was too large, so its share rises
(Hendel 2022). Kinds that find better plans are drawn more often.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

Kind = Literal["point", "relaxation", "earlier", "rows", "chance", "few changes"]

SHARE, LEAST, MOST = 0.7, 0.1, 0.95  # of the columns that are kept: at first, at least and at most
STEP, SMALLER, SMALLEST = 0.15, 0.8, 0.02  # by which a share changes: at first, each time less, at least
MEMORY, SELDOM = 0.3, 0.1  # weight of the last search in a kind's score, and of every kind in the draw


@dataclass(eq=False, repr=False)
class Neighbourhood:
    """One kind of surroundings."""

    kind: Kind
    share: float = SHARE
    step: float = STEP
    score: float = 1.0

    def learn(self, *, better: bool, through: bool) -> None:
        """Adapt to a search: whether it found a better plan, and whether it went through all there was."""
        self.score += MEMORY * (float(better) - self.score)
        if better:
            return
        self.share = float(np.clip(self.share - self.step if through else self.share + self.step, LEAST, MOST))
        self.step = max(SMALLEST, SMALLER * self.step)

    def leave_out(self) -> None:
        """Draw it seldom from now on: the problem has nothing of the kind."""
        self.score = 0.0


def _kinds() -> list[Neighbourhood]:
    near_plan: tuple[Kind, ...] = ("relaxation", "rows", "few changes", "earlier", "chance")
    return [Neighbourhood("point", MOST), *(Neighbourhood(kind) for kind in near_plan)]


@dataclass(eq=False, repr=False)
class Portfolio:
    """All kinds; the first ones in turn, then drawn by what they found."""

    kinds: list[Neighbourhood] = field(default_factory=_kinds)
    turns: int = 0
    random: np.random.Generator = field(default_factory=lambda: np.random.default_rng(1))

    @property
    def around_point(self) -> Neighbourhood:
        """The one that needs no plan: where a relaxation's point is whole."""
        return self.kinds[0]

    def choose(self) -> Neighbourhood:
        """Return the kind to search next."""
        self.turns += 1
        if self.turns <= len(self.kinds):
            return self.kinds[self.turns - 1]
        weights = np.array([kind.score + SELDOM for kind in self.kinds])
        return self.kinds[int(self.random.choice(len(weights), p=weights / weights.sum()))]
