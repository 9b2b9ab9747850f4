"""What a process may still take of memory, where the system limits it (``ulimit -v``, jobs of the service).

Arrays that do not fit raise `MemoryError`, for which every method has an answer. The interpreter is not so patient:
where it finds no room for a frame or an exception, it ends the process. So a solve stops while there is room for those.
"""

from __future__ import annotations

import mmap

try:
    from resource import RLIM_INFINITY, RLIMIT_AS, getrlimit
except ImportError:  # a system without such limits

    def limited() -> bool:
        """Say whether the system limits the memory of this process."""
        return False

else:

    def limited() -> bool:
        """Say whether the system limits the memory of this process."""
        return getrlimit(RLIMIT_AS)[0] != RLIM_INFINITY


SPARE = 32 << 20  # bytes: small objects made between two looks, and the way out


def running_out() -> bool:
    """Say whether less than `SPARE` is left: it is taken for a moment, which costs 10 microseconds."""
    if not limited():
        return False
    try:
        mmap.mmap(-1, SPARE).close()
    except OSError:
        return True
    return False
