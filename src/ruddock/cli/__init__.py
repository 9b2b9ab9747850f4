"""The command line: ``ruddock demo``, ``ruddock solve`` and more."""

from ruddock.cli.main import main

__all__ = ["main"]
