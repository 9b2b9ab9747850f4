"""Ruddock: linear and mixed-integer planning for operations analysts.

Formulate with `Axis`, `data` and `Model`; solve; read the `Plan`. See the README for a first model.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from ruddock.errors import DataError, FormatError, ModelError, NoPlanError, RuddockError, RuddockWarning

if TYPE_CHECKING:
    from ruddock.formats import read
    from ruddock.formats.schemas import schema
    from ruddock.jobs import service
    from ruddock.modelling.axis import Axis
    from ruddock.modelling.data import Data, data, maximum, minimum
    from ruddock.modelling.expression import total
    from ruddock.modelling.model import Model
    from ruddock.modelling.plan import Plan
    from ruddock.modelling.rules import either, pause, run, when

    __version__: str

__all__ = [
    "Axis",
    "Data",
    "DataError",
    "FormatError",
    "Model",
    "ModelError",
    "NoPlanError",
    "Plan",
    "RuddockError",
    "RuddockWarning",
    "__version__",
    "data",
    "either",
    "maximum",
    "minimum",
    "pause",
    "read",
    "run",
    "schema",
    "service",
    "total",
    "when",
]

# where the names are that take pandas with them: they are imported when they are used, so that the command line
# answers at once where it needs none of it
_PLACES = {
    "Axis": "modelling.axis",
    "Data": "modelling.data",
    "Model": "modelling.model",
    "Plan": "modelling.plan",
    "__version__": "_version",
    "data": "modelling.data",
    "either": "modelling.rules",
    "maximum": "modelling.data",
    "minimum": "modelling.data",
    "pause": "modelling.rules",
    "read": "formats",
    "run": "modelling.rules",
    "schema": "formats.schemas",
    "service": "jobs",
    "total": "modelling.expression",
    "when": "modelling.rules",
}


def __getattr__(name: str) -> Any:
    """Import a public name when it is first used."""
    if name not in _PLACES:
        raise AttributeError(f"module 'ruddock' has no attribute {name!r}")
    found = getattr(import_module(f"ruddock.{_PLACES[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return __all__
