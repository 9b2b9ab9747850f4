"""Packing week: how many jars, bottles of mead and hampers to make from one week's resources."""

from __future__ import annotations

from ruddock.modelling.model import Model

QUESTION = "How many jars, bottles of mead and hampers make the most of one week's hours, wax and shelf?"


def build() -> Model:
    """Return the model: three decisions, whole hampers, three limits."""
    model = Model("Packing week")
    jars = model.decide("jars", unit="item")
    mead = model.decide("mead", unit="item")
    hampers = model.decide("hampers", upper=40, kind="integer", unit="hamper")
    model.maximize("margin", unit="£", jars=4.2 * jars, mead=9.5 * mead, hampers=31 * hampers)
    model.require("extraction", 0.5 * jars + 1.2 * mead <= 640, unit="hour")
    model.require("wax", 0.1 * jars + 2 * hampers <= 150, unit="kg")
    model.require("shelf", (jars - mead).between(10, 200), unit="item")
    return model
