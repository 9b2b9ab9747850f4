"""Demo models of Larkmoor Honey Cooperative."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ruddock.errors import ModelError, known
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.model import Model


def packing_week() -> Model:
    """Jars, mead and hampers from one week's extraction hours, wax and shelf."""
    from ruddock.modelling.model import Model

    model = Model("Packing week")
    jars = model.decide("jars", unit="jar")
    mead = model.decide("mead", unit="bottle")
    hampers = model.decide("hampers", upper=40, kind="integer", unit="hamper")
    model.maximize("margin", unit="£", jars=4.2 * jars, mead=9.5 * mead, hampers=31 * hampers)
    model.require("extraction", 0.5 * jars + 1.2 * mead <= 640, unit="hour")
    model.require("wax", 0.1 * jars + 2 * hampers <= 150, unit="kg")
    model.require("shelf", (jars - mead).between(10, 200))
    return model


DEMOS: dict[str, Callable[[], Model]] = {"packing-week": packing_week}


def _known(name: str) -> Callable[[], Model]:
    if name not in DEMOS:
        raise ModelError(f"there is no demo called {name!r}; {known(name, DEMOS)}")
    return DEMOS[name]


def build(name: str) -> Model:
    """Return a demo model by name."""
    return _known(name)()


def question(name: str) -> str:
    """Return what a demo model asks."""
    return str(_known(name).__doc__).strip()


def catalogue() -> Table:
    """Return the list of demo models."""
    return Table("Demo models", ["name", "question"], [(name, question(name)) for name in DEMOS])
