"""The version, and whether the kernels run compiled."""

from __future__ import annotations

from importlib.metadata import PackageNotFoundError, version

try:
    __version__ = version("ruddock")
except PackageNotFoundError:  # a source folder that was never installed
    __version__ = "0+unknown"
