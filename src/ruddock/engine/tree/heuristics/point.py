"""Where a relaxation stands."""

from __future__ import annotations

from typing import NamedTuple

from ruddock.problem import Floats


class Point(NamedTuple):
    """The point of a relaxation, and its reduced costs where they are known."""

    x: Floats
    reduced: Floats | None = None
