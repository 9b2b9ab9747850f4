"""Ruddock: linear and mixed-integer planning for operations analysts.

Formulate with `Axis`, `data` and `Model`; solve; read the `Plan`. See the README for a first model.
"""

from ruddock.errors import DataError, FormatError, ModelError, NoPlanError, RuddockError, RuddockWarning
from ruddock.formats import read
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
    "total",
    "when",
]


def __getattr__(name: str) -> str:
    """Return the version when it is asked for; looking it up takes as long as the rest of many an import."""
    if name == "__version__":
        from ruddock._version import __version__

        return __version__
    raise AttributeError(f"module 'ruddock' has no attribute {name!r}")
