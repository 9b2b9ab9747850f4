"""The parts of a grid's model, gathered row by row."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.formats.grid.words import CODES
from ruddock.modelling.axis import Axis
from ruddock.modelling.model import Model
from ruddock.problem import Problem

FAMILIES = ("column", "row")


class Parts:
    """Decisions by name, with bounds and kinds; constraints with coefficients and both limits; one objective."""

    def __init__(self, names: list[str]) -> None:
        n = len(names)
        self.names = names
        self.lower, self.upper = np.zeros(n), np.full(n, np.inf)
        self.kinds = np.zeros(n, np.uint8)
        self.objective, self.maximize, self.offset = "", False, 0.0
        self.costs = np.zeros(n)
        self.rows: list[str] = []
        self.columns: list[list[int]] = []  # of each constraint, and its coefficients there
        self.values: list[list[float]] = []
        self.low: list[float] = []
        self.high: list[float] = []
        self._free: list[int] = []
        self._binary: list[int] = []

    def goal(self, maximize: bool, name: str, costs: Sequence[float], offset: float) -> None:
        """Take the objective."""
        self.maximize, self.costs, self.offset = maximize, np.array(costs), offset
        self.objective = name if name and name not in FAMILIES else "objective"

    def row(self, name: str, coefficients: Iterable[tuple[int, float]], low: float, high: float) -> None:
        """Take a constraint; its coefficients by the place of their decision."""
        held = [(k, value) for k, value in coefficients if value]
        self.rows.append(name)
        self.columns.append([k for k, _ in held])
        self.values.append([value for _, value in held])
        self.low.append(low)
        self.high.append(high)

    def kind(self, k: int, word: str) -> None:
        """Take the kind of a decision."""
        self.kinds[k] = CODES[word]
        (self._free if word == "free" else self._binary if word == "binary" else []).append(k)

    def model(self, name: str, notes: Sequence[str] = ()) -> Model:
        """Return the model."""
        lower, upper = self.lower.copy(), self.upper.copy()
        lower[self._free] = -np.inf
        lower[self._binary] = np.maximum(lower[self._binary], 0.0)
        upper[self._binary] = np.minimum(upper[self._binary], 1.0)
        sign = -1.0 if self.maximize else 1.0
        starts = np.cumsum([0, *map(len, self.columns)])
        values, columns = (np.array(list(chain.from_iterable(part))) for part in (self.values, self.columns))
        matrix = csr_matrix((values.astype(float), columns.astype(np.int64), starts), (len(self.rows), len(self.names)))
        problem = Problem.build(
            matrix,
            np.array(self.low),
            np.array(self.high),
            lower,
            upper,
            sign * self.costs,
            self.kinds,
            sign * self.offset,
        )
        decisions, constraints = (
            Axis(axis, names) for axis, names in zip(FAMILIES, (self.names, self.rows), strict=True)
        )
        model = Model._from_problem(
            name, problem, decisions, constraints, self.objective or "objective", maximize=self.maximize
        )
        if not self.objective:
            model.remove("objective")
        model._notes = tuple(notes)
        return model
