"""Storm week: the moor road is closed, and the planner's model has no plan; what clashes, and what could give."""

from __future__ import annotations

from ruddock.modelling.axis import Axis
from ruddock.modelling.data import data
from ruddock.modelling.model import Model

QUESTION = "The moor road is closed: why can this week's orders not all be met, and what is the least that must give?"


def build() -> Model:
    """Return the model: crates from two apiaries to three markets, and hampers tied with one reel of ribbon."""
    apiary, market = Axis("apiary", ["Fell", "Mere"]), Axis("market", ["Quay", "Abbey", "Bridge"])
    stock = data({"Fell": 40, "Mere": 25}, apiary, unit="crate")
    need = data({"Quay": 30, "Abbey": 47, "Bridge": 12}, market, unit="crate")
    # the closed road leaves Bridge to the boat from Mere
    open_lane = data(
        {("Fell", "Quay"): 1, ("Fell", "Abbey"): 1, ("Mere", "Abbey"): 1, ("Mere", "Bridge"): 1}, apiary, market
    )

    model = Model("Storm week")
    ship = model.decide("ship", apiary, market, unit="crate", only=open_lane)
    small = model.decide("small", kind="integer", upper=20)
    large = model.decide("large", kind="integer", upper=20)
    model.minimize("cost", unit="£", haulage=2 * ship.sum(), packing=small + large)
    model.require("supply", ship.sum(market) <= stock, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    model.require("ribbon", 2 * small + 4 * large == 17, unit="m")
    return model
