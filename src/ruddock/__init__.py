"""Ruddock: linear and mixed-integer planning for operations analysts.

Formulate with `Axis`, `data` and `Model`; solve; read the `Plan`. See the README for a first model.
"""

from ruddock._version import __version__
from ruddock.errors import DataError, FormatError, ModelError, NoPlanError, RuddockError, RuddockWarning
from ruddock.formats import read
from ruddock.modelling.axis import Axis
from ruddock.modelling.data import Data, data, maximum, minimum
from ruddock.modelling.expression import total
from ruddock.modelling.logic import at_least, at_most, either, exactly, pause, run, when
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
    "at_least",
    "at_most",
    "data",
    "either",
    "exactly",
    "maximum",
    "minimum",
    "pause",
    "read",
    "run",
    "total",
    "when",
]
