"""Room for factors that grow: raised cleanly when there is none left."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

MOST = 2**31 - 1  # places that a 32-bit number can address


def grown(array: Any, used: int, more: int) -> npt.NDArray[Any]:
    """Return a copy of the first ``used`` entries of an array with room for at least ``more`` further ones.

    It has twice as many places as the array at least. Places that have no entry take no memory until one is written.

    Raises
    ------
    MemoryError
        If there is not so much memory, or more entries than 32-bit numbers can address.
    """
    old = np.asarray(array)
    least = used + more
    if least > MOST:
        raise MemoryError(f"{least:,} entries of a basis factor are more than 32-bit numbers can address")
    new = np.empty(min(max(least, 2 * len(old)), MOST), old.dtype)
    new[:used] = old[:used]
    return new
