"""Which apiary sends how many crates to which market in each of 50 weeks: 100,000 lanes?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the tables of a folder."""
    apiaries, weeks = (pd.read_csv(folder / f"{name}.csv") for name in ("apiaries", "weeks"))
    markets, lanes = (pd.read_csv(folder / f"{name}.csv") for name in ("markets", "lanes"))
    apiary, market = rk.Axis("apiary", apiaries["apiary"]), rk.Axis("market", markets["market"])
    week = rk.Axis("week", weeks["week"])
    crop = rk.data(apiaries[["apiary", "crop"]], apiary) * rk.data(weeks[["week", "bloom"]], week)
    need = rk.data(markets, market) * rk.data(weeks[["week", "trade"]], week)
    opening, room = (rk.data(apiaries[["apiary", name]], apiary, unit="crate") for name in ("stock", "room"))
    haul = rk.data(lanes, apiary, market, unit="£/crate")

    model = rk.Model("Season")
    ship = model.decide("ship", apiary, market, week, unit="crate")
    keep = model.decide("keep", apiary, week, upper=room, unit="crate")
    model.minimize("cost", unit="£", haulage=(haul * ship).sum(), storage=(0.05 * keep).sum())
    model.quantity("sent", ship.sum(apiary, market), unit="crate")
    model.require("balance", keep.previous(week, start=opening) + crop >= ship.sum(market) + keep, unit="crate")
    model.require("demand", ship.sum(apiary) >= need, unit="crate")
    return model


if __name__ == "__main__":
    plan = build().solve()
    print(f"{plan.sense} {plan.objective_name}: £{plan.objective:,.2f} in {plan.effort.seconds:.1f} s")
    print(plan.breakdown().round(2))
    print(plan["sent"].round(1))
