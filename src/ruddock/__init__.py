"""Ruddock: linear and mixed-integer planning for operations analysts.

Formulate with `Axis`, `data` and `Model`; solve; read the `Plan`. See the README for a first model.
"""

from ruddock._version import __version__
from ruddock.errors import DataError, FormatError, ModelError, NoPlanError, RuddockError, RuddockWarning
from ruddock.formats import read
from ruddock.modelling.axis import Axis
from ruddock.modelling.data import Data, data, maximum, minimum
from ruddock.modelling.expression import total
from ruddock.modelling.model import Model
from ruddock.modelling.plan import Plan

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
    "maximum",
    "minimum",
    "read",
    "total",
]
