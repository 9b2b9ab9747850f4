"""Spring haulage at Larkmoor: tables in, a two-way table out; then one apiary is closed by flood.

Run it with: python examples/spring_haulage.py
"""

import pandas as pd

import ruddock as rk
from ruddock.demos.files import frame

stores, outlets, lanes = frame("apiaries.csv"), frame("markets.csv"), frame("lanes.csv")


def formulate(stores: pd.DataFrame) -> rk.Model:
    """Write the model for a table of apiaries."""
    apiary, market = rk.Axis("apiary", stores["apiary"]), rk.Axis("market", outlets["market"])
    stock = rk.data(stores[["apiary", "stock"]], apiary, unit="crate")
    rent = rk.data(stores[["apiary", "rent"]], apiary, unit="£")
    need = rk.data(outlets, market, unit="crate")
    haul = rk.data(lanes[lanes["apiary"].isin(stores["apiary"])], apiary, market, unit="£/crate")

    model = rk.Model("Spring haulage")
    ship = model.decide("ship", apiary, market, unit="crate", only=haul)  # only the lanes that exist
    used = model.decide("used", apiary, kind="binary")
    model.minimize("cost", unit="£", haulage=(haul * ship).sum(), rent=(rent * used).sum())
    model.require("supply", ship.sum(market) <= stock * used, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    return model


plan = formulate(stores).solve()
print(plan)
print("\nAs a pandas table:")
print(plan.table("ship").fillna(0))

flooded = formulate(stores[stores["apiary"] != "Gorse"]).solve()
print(f"\nWithout Gorse the cost rises from £{plan.objective:.2f} to £{flooded.objective:.2f}.")
print(flooded.table("ship").fillna(0))
