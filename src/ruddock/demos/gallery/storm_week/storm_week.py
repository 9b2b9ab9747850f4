"""The moor road is closed: why can this week's orders not all be met, and what is the least change?"""

import ruddock as rk


def build() -> rk.Model:
    """Return the model: crates from two apiaries to three markets, and hampers tied with one reel of ribbon."""
    apiary, market = rk.Axis("apiary", ["Fell", "Mere"]), rk.Axis("market", ["Quay", "Abbey", "Bridge"])
    stock = rk.data({"Fell": 40, "Mere": 25}, apiary, unit="crate")
    need = rk.data({"Quay": 30, "Abbey": 47, "Bridge": 12}, market, unit="crate")
    # the closed road leaves Bridge to the boat from Mere
    open_lane = rk.data(
        {("Fell", "Quay"): 1, ("Fell", "Abbey"): 1, ("Mere", "Abbey"): 1, ("Mere", "Bridge"): 1}, apiary, market
    )

    model = rk.Model("Storm week")
    ship = model.decide("ship", apiary, market, unit="crate", only=open_lane)
    small = model.decide("small", kind="integer", upper=20)
    large = model.decide("large", kind="integer", upper=20)
    model.minimize("cost", unit="£", haulage=2 * ship.sum(), packing=small + large)
    model.require("supply", ship.sum(market) <= stock, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    model.require("ribbon", 2 * small + 4 * large == 17, unit="m")
    return model


if __name__ == "__main__":
    print(build().diagnose())
