"""A stand-in for the ``cython`` module, used when Cython is not installed.

The kernels are ordinary Python files annotated with Cython types. When they are neither compiled nor
accompanied by Cython, these no-op names let the same files run as plain Python.
"""

from __future__ import annotations

from contextlib import nullcontext
from typing import Any

compiled = False


class _Type:
    """Stands for a C type in an annotation; ``double[::1]`` and ``double`` mean nothing at run time."""

    def __getitem__(self, item: object) -> _Type:
        return self


double = _Type()
int = _Type()
uint = _Type()
longlong = _Type()
ulonglong = _Type()
const = _Type()
schar = _Type()
uchar = _Type()
bint = _Type()

nogil = nullcontext()
gil = nullcontext()


def declare(kind: object, value: Any = None) -> Any:
    """Return the value that a typed declaration starts with."""
    return value


def cast(kind: object, value: Any) -> Any:
    """Return the value as a number of Python, which needs no other type and never overflows."""
    return value.item() if hasattr(value, "item") else value
