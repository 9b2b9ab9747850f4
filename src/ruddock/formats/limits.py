"""What forms without rules, curves and several objectives cannot hold; told before anything is written."""

from __future__ import annotations

import warnings

from ruddock.errors import FormatError, RuddockWarning, listed
from ruddock.modelling.formulation import Formulation


def refuse_unwritable(formulation: Formulation, form: str, path: str) -> None:
    """Raise `FormatError` for a model that would read back as another one; warn of what is only reported.

    Parameters
    ----------
    form : such as ``an MPS file``, for the message
    """
    for parts, what in ((formulation.rules, "rules"), (formulation.curves, "curves")):
        if parts:
            raise FormatError(
                f"{form} holds no {what}; this model has {listed(part.name for part in parts)}: write .rdk or .json",
                path=path,
            )
    if len(formulation.objectives) > 1:
        first, *others = [goal.name for goal in formulation.objectives]
        raise FormatError(
            f"{form} holds one objective; this model has {first}, {listed(others)}: write .rdk or .json, or take the "
            "others out first: model.remove(name)",
            path=path,
        )
    if formulation.quantities:
        warnings.warn(
            f"{form} holds no quantities; {listed(q.name for q in formulation.quantities)} will not be read back",
            RuddockWarning,
            stacklevel=5,
        )
