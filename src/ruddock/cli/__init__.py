"""The command line: ``ruddock demo``, ``ruddock solve`` and more."""

from ruddock.cli import model, solve, ask, study  # noqa: I001 - each adds its commands, in the order of a model's life
from ruddock.cli.main import main

__all__ = ["ask", "main", "model", "solve", "study"]
