"""The text form ``.rdk``: a formulation typed as on paper."""

from ruddock.formats.rdk.read import read_rdk

__all__ = ["read_rdk"]
