"""JSON Schemas of everything that Ruddock writes as JSON: what programs may rely on."""

from __future__ import annotations

from typing import Any

from ruddock.errors import ModelError
from ruddock.formats.schemas import model, plan
from ruddock.formats.schemas.results import SCHEMAS as RESULTS

SCHEMAS: dict[str, dict[str, Any]] = dict(sorted({"model": model.SCHEMA, "plan": plan.SCHEMA, **RESULTS}.items()))


def schema(form: str) -> dict[str, Any]:
    """Return the JSON Schema of a document that Ruddock writes: a model, a plan, or another answer.

    Parameters
    ----------
    form : str
        As in the document's own ``"format"``: ``"ruddock-plan/1"``; or ``"plan"`` for the present one.

    Raises
    ------
    ModelError
        If there is none of that name.

    Examples
    --------
    >>> import ruddock as rk
    >>> rk.schema("sweep")["properties"]["format"]
    {'const': 'ruddock-sweep/1'}
    """
    from copy import deepcopy

    for name, held in SCHEMAS.items():
        if form in (name, held["properties"]["format"]["const"]):
            return deepcopy(held)
    raise ModelError(f"there is no JSON form {form!r}; there are {', '.join(SCHEMAS)}")
