"""The version, and whether the kernels are compiled."""

from __future__ import annotations

from importlib.machinery import EXTENSION_SUFFIXES
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

try:
    __version__ = version("ruddock")
except PackageNotFoundError:  # a source folder that was never installed
    __version__ = "0+unknown"


def kernels_compiled() -> bool:
    """Say whether Python would take the compiled kernels, without importing any; they come all or none."""
    folder = Path(__file__).parent / "engine" / "simplex"
    return any((folder / f"lu{suffix}").exists() for suffix in EXTENSION_SUFFIXES)
