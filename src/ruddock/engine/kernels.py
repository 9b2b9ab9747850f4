"""Whether the kernels run compiled; a warning, once, if they do not."""

from __future__ import annotations

import warnings

from ruddock.engine.simplex import lu
from ruddock.errors import RuddockWarning

COMPILED = not str(lu.__file__).endswith(".py")

if not COMPILED:
    warnings.warn(
        "the kernels are not compiled: everything works, but slowly. Install Ruddock where a C compiler is at hand",
        RuddockWarning,
        stacklevel=2,
    )
