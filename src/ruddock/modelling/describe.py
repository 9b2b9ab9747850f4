"""What a model is made of: counts, class, and the sizes of its numbers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Sentence, Table
from ruddock.document.numbers import as_written, plural
from ruddock.document.result import Result
from ruddock.modelling.lowering import lowered
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model


@dataclass(frozen=True, repr=False)
class Description(Result):
    """Size and kind of a model.

    Attributes
    ----------
    problem_class : linear, mixed-integer, pure integer or binary
    kinds, relations : counts by kind of decision and by relation of constraint
    coefficients, costs, limits : least and greatest magnitude that is not zero, or None
    ignored : data entries that fell outside the families they were multiplied with
    """

    name: str
    problem_class: str
    decisions: int
    kinds: dict[str, int]
    constraints: int
    relations: dict[str, int]
    nonzeros: int
    coefficients: tuple[float, float] | None
    costs: tuple[float, float] | None
    limits: tuple[float, float] | None
    bounds: tuple[float, float] | None
    objectives: dict[str, str]
    rules: int
    curves: int
    ignored: int

    def _facts(self) -> dict[str, Any]:
        held = asdict(self)
        return {"format": "ruddock-description/1", "model": held.pop("name"), **held}

    def table(self) -> pd.DataFrame:
        """Return the description as a table of two columns: what, and its value in words."""
        return pd.DataFrame(self._rows(), columns=["what", "value"]).set_index("what")

    def _title(self) -> str:
        return self.name

    def _blocks(self) -> Sequence[Block]:
        verdict = f"{self.name}: {plural(self.decisions, 'decision')}, {plural(self.constraints, 'constraint')}, "
        return [Sentence(f"{verdict}{self.problem_class}.", verdict=True), Table("", ["", ""], self._rows())]

    def _rows(self) -> list[tuple[str, str]]:
        rows = [("class", self.problem_class)]
        rows += [("objective", f"{sense} {name}") for name, sense in self.objectives.items()]
        rows.append(("decisions", _counted(self.decisions, self.kinds)))
        rows.append(("constraints", _counted(self.constraints, self.relations)))
        if self.rules:
            rows.append(("rules", f"{self.rules:,}"))
        if self.curves:
            rows.append(("curves", f"{self.curves:,}"))
        density = self.nonzeros / max(1, self.decisions * self.constraints)
        rows.append(("non-zeros", f"{self.nonzeros:,} ({density:.2%} of the matrix)"))
        for what in ("coefficients", "costs", "limits", "bounds"):
            span = getattr(self, what)
            if span:
                rows.append((what, f"{as_written(span[0])} to {as_written(span[1])} in magnitude"))
        if self.ignored:
            rows.append(("ignored", plural(self.ignored, "data entry", "data entries") + " outside the families"))
        return rows


def describe(model: Model) -> Description:
    """Return the description of a model; see `Model.describe`."""
    formulation = model.formulation()
    whole = lowered(formulation)
    n, m = formulation.size, formulation.rows
    problem = whole.problems[0]
    codes, lower, upper = problem.kinds[:n], problem.lower[:n], problem.upper[:n]
    binary = ((codes & INTEGER) != 0) & (lower == 0) & (upper == 1)
    integer = ((codes & INTEGER) != 0) & ~binary
    semi = ((codes & SEMICONTINUOUS) != 0) & ((codes & INTEGER) == 0)
    kinds = {
        "continuous": int((codes == 0).sum()),
        "integer": int(integer.sum()),
        "binary": int(binary.sum()),
        "semicontinuous": int(semi.sum()),
    }
    low, high = problem.row_lower[:m], problem.row_upper[:m]
    written = problem.values[(problem.indices < m) & (np.repeat(np.arange(problem.n), np.diff(problem.starts)) < n)]
    relations = {
        "<=": int((np.isneginf(low) & np.isfinite(high)).sum()),
        ">=": int((np.isfinite(low) & np.isposinf(high)).sum()),
        "==": int((low == high).sum()),
        "between": int((np.isfinite(low) & np.isfinite(high) & (low != high)).sum()),
        "free": int((np.isneginf(low) & np.isposinf(high)).sum()),
    }
    return Description(
        model.name,
        _class(kinds, n, formulation.discrete),
        n,
        {kind: count for kind, count in kinds.items() if count},
        m,
        {relation: count for relation, count in relations.items() if count},
        len(written),
        _span(written),
        _span(problem.costs[:n]),
        _span(np.concatenate((low, high))),
        _span(np.concatenate((lower, upper))),
        {objective.name: objective.sense for objective in formulation.objectives},
        len(formulation.rules),
        len(formulation.curves),
        _ignored(formulation),
    )


def _ignored(formulation: Formulation) -> int:
    """Return how many data entries fell outside the families that they were multiplied with or added to."""
    terms = [side for c in formulation.constraints for side in (c.sides.left, c.sides.right) if side is not None]
    terms += [part for goal in formulation.objectives for part in goal.parts.values()]
    terms += [quantity.terms for quantity in formulation.quantities]
    return sum(part.ignored for part in terms)


def _class(kinds: dict[str, int], n: int, discrete: bool) -> str:
    if not discrete:
        return "linear"
    if kinds["continuous"] == n:
        return "mixed-integer"
    if kinds["binary"] == n:
        return "binary"
    return "pure integer" if kinds["binary"] + kinds["integer"] == n else "mixed-integer"


def _span(values: Floats) -> tuple[float, float] | None:
    size = np.abs(values[np.isfinite(values) & (values != 0)])
    return (float(size.min()), float(size.max())) if len(size) else None


def _counted(total: int, parts: dict[str, int]) -> str:
    if not total:
        return "0"
    return f"{total:,}: " + ", ".join(f"{count:,} {kind}" for kind, count in parts.items())
