"""Demo models of Larkmoor Honey Cooperative, with their data."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import TYPE_CHECKING

from ruddock.errors import ModelError, known
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

DEMOS = ("packing-week", "spring-haulage", "blending", "storm-week")


def _module(name: str) -> ModuleType:
    plain = name.strip().lower().replace(" ", "-").replace("_", "-")
    if plain not in DEMOS:
        raise ModelError(f"there is no demo called {name!r}; {known(plain, DEMOS)}")
    return import_module(f"ruddock.demos.{plain.replace('-', '_')}")


def build(name: str) -> Model:
    """Return a demo model by name, one of `DEMOS`."""
    model: Model = _module(name).build()
    return model


def question(name: str) -> str:
    """Return what a demo model asks."""
    return str(_module(name).QUESTION)


def catalogue() -> Table:
    """Return the list of demo models."""
    rows = [(name, question(name)) for name in DEMOS]
    return Table("Demo models of Larkmoor Honey Cooperative", ["name", "question"], rows)
