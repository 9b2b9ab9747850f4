"""The command line: ``ruddock demo``, ``ruddock solve`` and more."""

from ruddock.cli import ask, model, solve, study  # each adds its commands
from ruddock.cli.main import main

__all__ = ["ask", "main", "model", "solve", "study"]
