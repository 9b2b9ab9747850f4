"""Blending: lots of honey mixed into grades with moisture and colour limits, some lots all or nothing."""

from __future__ import annotations

from ruddock.demos.files import frame
from ruddock.modelling.axis import Axis
from ruddock.modelling.data import data
from ruddock.modelling.model import Model

QUESTION = "Which lots go into which grade, within moisture and colour, when some lots must be taken whole?"


def build() -> Model:
    """Return the model: kilograms of each lot in each grade, a yes/no for every whole lot."""
    lots, grades = frame("lots.csv"), frame("grades.csv")
    lot, grade = Axis("lot", lots["lot"]), Axis("grade", grades["grade"])
    available = data(lots[["lot", "available"]], lot, unit="kg")
    moisture, colour = data(lots[["lot", "moisture"]], lot), data(lots[["lot", "colour"]], lot)
    cost, whole = data(lots[["lot", "cost"]], lot, unit="£/kg"), data(lots[["lot", "whole"]], lot)
    price, most = data(grades[["grade", "price"]], grade, unit="£/kg"), data(grades[["grade", "most"]], grade)
    wettest = data(grades[["grade", "moisture_limit"]], grade)
    palest, darkest = data(grades[["grade", "colour_low"]], grade), data(grades[["grade", "colour_high"]], grade)

    model = Model("Blending")
    mix = model.decide("mix", lot, grade, unit="kg")
    taken = model.decide("taken", lot, kind="binary", only=whole)
    model.maximize("margin", unit="£", sales=(price * mix).sum(), honey=-(cost * mix).sum())
    model.quantity("made", mix.sum(lot), unit="kg")
    model.require("stock", mix.sum(grade) <= available, unit="kg")
    model.require("all_or_nothing", mix.sum(grade).where(whole) == available * taken, unit="kg")
    model.require("orders", mix.sum(lot) <= most, unit="kg")
    # an average limit, multiplied out: the sum of (value - limit) x amount has the right sign
    model.require("moisture", ((moisture - wettest) * mix).sum(lot) <= 0, unit="% x kg")
    model.require("pale", ((colour - palest) * mix).sum(lot) >= 0, unit="mm x kg")
    model.require("dark", ((colour - darkest) * mix).sum(lot) <= 0, unit="mm x kg")
    return model
