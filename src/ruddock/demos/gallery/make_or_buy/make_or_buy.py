"""Which of 300 parts of this year's hives to make, which to buy, and from whom?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the tables of a folder."""
    names = ("parts", "uses", "routes", "offers", "suppliers", "benches")
    parts, uses, routes, offers, suppliers, benches = (pd.read_csv(folder / f"{name}.csv") for name in names)
    part, supplier = rk.Axis("part", parts["part"]), rk.Axis("supplier", suppliers["supplier"])
    whole, bench = rk.Axis("whole", part), rk.Axis("bench", benches["bench"])
    need = rk.data(parts[["part", "need"]], part)
    material = rk.data(parts[["part", "material"]].dropna(), part, unit="£")  # the others cannot be made here
    pieces, minutes = rk.data(uses, whole, part, fill=0), rk.data(routes, part, bench, fill=0)
    price = rk.data(offers[["part", "supplier", "price"]], part, supplier, unit="£")
    most = rk.data(offers[["part", "supplier", "most"]], part, supplier)
    account, hours = rk.data(suppliers, supplier, unit="£"), rk.data(benches, bench)

    model = rk.Model("Make or buy")
    make = model.decide("make", part, only=material)
    buy = model.decide("buy", part, supplier, upper=most, only=price)
    model.minimize("cost", unit="£", material=(material * make).sum(), bought=(price * buy).sum())
    model.quantity("spent", (price * buy).sum(part), unit="£")
    goes_in = (pieces * make.rename(part=whole)).sum(whole)
    model.require("enough", make + buy.sum(supplier) >= need + goes_in)
    model.require("capacity", (minutes * make).sum(part) <= 60 * hours, unit="minute")
    model.require("credit", (price * buy).sum(part) <= account, unit="£")
    return model


if __name__ == "__main__":
    plan = build().solve()
    print(plan.breakdown())
    print("\nSpent with each supplier:")
    print(plan["spent"].round(2))
