"""Spring haulage: which apiaries to open, and what to ship where, over the lanes that exist."""

from __future__ import annotations

import pandas as pd

from ruddock.demos.files import frame
from ruddock.modelling.axis import Axis
from ruddock.modelling.data import data
from ruddock.modelling.model import Model

QUESTION = "Which apiaries to open this spring, and how many crates to ship on which lane to which market?"


def build(apiaries: pd.DataFrame | None = None) -> Model:
    """Return the model; ``apiaries`` replaces the table of stocks and rents."""
    stores = frame("apiaries.csv") if apiaries is None else apiaries
    outlets, lanes = frame("markets.csv"), frame("lanes.csv")
    apiary, market = Axis("apiary", stores["apiary"]), Axis("market", outlets["market"])
    stock = data(stores[["apiary", "stock"]], apiary, unit="crate")
    rent = data(stores[["apiary", "rent"]], apiary, unit="£")
    need = data(outlets, market, unit="crate")
    haul = data(lanes, apiary, market, unit="£/crate")

    model = Model("Spring haulage")
    ship = model.decide("ship", apiary, market, unit="crate", only=haul)  # only the lanes that exist
    used = model.decide("used", apiary, kind="binary")
    model.minimize("cost", unit="£", haulage=(haul * ship).sum(), rent=(rent * used).sum())
    model.quantity("sent", ship.sum(market), unit="crate")
    model.require("supply", ship.sum(market) <= stock * used, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    return model
