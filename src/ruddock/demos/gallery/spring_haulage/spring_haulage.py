"""Which apiaries to open this spring, and how many crates to ship on which lane to which market?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE, closed: str | None = None) -> rk.Model:
    """Return the model, with the tables of a folder; an apiary may be closed."""
    stores, outlets, lanes = (pd.read_csv(folder / f"{name}.csv") for name in ("apiaries", "markets", "lanes"))
    stores, lanes = stores[stores["apiary"] != closed], lanes[lanes["apiary"] != closed]
    apiary, market = rk.Axis("apiary", stores["apiary"]), rk.Axis("market", outlets["market"])
    stock = rk.data(stores[["apiary", "stock"]], apiary, unit="crate")
    rent = rk.data(stores[["apiary", "rent"]], apiary, unit="£")
    need = rk.data(outlets, market, unit="crate")
    haul = rk.data(lanes, apiary, market, unit="£/crate")

    model = rk.Model("Spring haulage")
    ship = model.decide("ship", apiary, market, unit="crate", only=haul)  # only the lanes that exist
    used = model.decide("used", apiary, kind="binary")
    model.minimize("cost", unit="£", haulage=(haul * ship).sum(), rent=(rent * used).sum())
    model.quantity("sent", ship.sum(market), unit="crate")
    model.require("supply", ship.sum(market) <= stock * used, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    return model


if __name__ == "__main__":
    plan = build().solve()
    print(plan)
    flooded = build(closed="Gorse").solve()
    print(f"\nWithout Gorse the cost rises from £{plan.objective:.2f} to £{flooded.objective:.2f}:")
    print(flooded.table("ship").fillna(0))
