"""A quicker start of a process that is the project's own.

SciPy looks at everything that NumPy has as soon as its matrices are imported, and so loads compiler tools, test
tools and polynomials, which take longer than the matrices themselves. They are loaded when somebody really asks for
them instead.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from importlib.abc import MetaPathFinder
from importlib.machinery import ModuleSpec, PathFinder
from importlib.util import LazyLoader
from types import ModuleType

UNUSED = frozenset(f"numpy.{name}" for name in ("ctypeslib", "f2py", "polynomial", "testing"))


class _WhenAsked(MetaPathFinder):
    """Finds such modules as ones that are empty until somebody asks for what is in them."""

    def find_spec(
        self, fullname: str, path: Sequence[str] | None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        """Return how to load one of them; None for everything else."""
        spec = PathFinder.find_spec(fullname, path, target) if fullname in UNUSED else None
        if spec is not None and spec.loader is not None:
            spec.loader = LazyLoader(spec.loader)
        return spec


def load_when_asked() -> None:
    """Have what is seldom used of NumPy loaded when it is asked for; for a process that nobody else's code runs in."""
    sys.meta_path.insert(0, _WhenAsked())
