"""Whether a text reads back as the model that it was written from."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ruddock.errors import FormatError
from ruddock.formats.rdk.read import read_rdk_text
from ruddock.modelling.formulation import Formulation
from ruddock.modelling.lowering import lowered
from ruddock.problem import Problem


def check_reading_back(formulation: Formulation, text: str) -> None:
    """Raise `FormatError` if a text does not read back as the same model."""
    read = read_rdk_text(text, "the text", Path(".")).formulation()
    ours, theirs = lowered(formulation), lowered(read)
    for goal, problem, other in zip(formulation.objectives or (None,), ours.problems, theirs.problems, strict=False):
        if not _same(problem, other):
            raise FormatError(f"it would read back as another model{f' of {goal.name}' if goal else ''}")
    same = (
        len(formulation.objectives) == len(read.objectives)
        and [g.maximize for g in formulation.objectives] == [g.maximize for g in read.objectives]
        and len(formulation.rules) == len(read.rules)
        and len(formulation.quantities) == len(read.quantities)
    )
    x = np.random.default_rng(0).random(ours.base.n)
    ours_, theirs_ = (np.array(list(f.quantity_values(x).values())) for f in (formulation, read))
    if not same or ours_.shape != theirs_.shape or not np.allclose(ours_, theirs_, rtol=1e-12, atol=0):
        raise FormatError("it would read back as another model")


def _same(a: Problem, b: Problem) -> bool:
    if (a.m, a.n) != (b.m, b.n) or a.offset != b.offset:
        return False
    names = ("starts", "indices", "values", "row_lower", "row_upper", "lower", "upper", "costs", "kinds")
    return all(np.array_equal(getattr(a, name), getattr(b, name)) for name in names)
