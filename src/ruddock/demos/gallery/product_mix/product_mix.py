"""How much of each product this month, within its demand, the hours of each skill and the materials?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the tables of a folder."""
    products, skills, materials = (
        pd.read_csv(folder / f"{name}s.csv").set_index(name) for name in ("product", "skill", "material")
    )
    product, skill = rk.Axis("product", products.index), rk.Axis("skill", skills.index)
    material = rk.Axis("material", materials.index)
    takes = rk.data(pd.read_csv(folder / "hours.csv").set_index("product").fillna(0), product, skill)  # hours for one
    amount = rk.data(pd.read_csv(folder / "uses.csv"), product, material, fill=0)
    price, least, most = (rk.data(products[name], product) for name in ("price", "least", "most"))
    hours, pay, longest = (rk.data(skills[name], skill) for name in ("hours", "pay", "overtime"))
    stock, cost = rk.data(materials["stock"], material), rk.data(materials["cost"], material)

    model = rk.Model("Product mix")
    make = model.decide("make", product, lower=least, upper=most)
    overtime = model.decide("overtime", skill, upper=longest, unit="hour")
    model.maximize(
        "margin",
        unit="£",
        sales=(price * make).sum(),
        materials=-(cost * amount * make).sum(),
        overtime=-(pay * overtime).sum(),
    )
    model.require("work", (takes * make).sum(product) <= hours + overtime, unit="hour")
    model.require("supply", (amount * make).sum(product) <= stock)
    return model


if __name__ == "__main__":
    plan = build().solve()
    print(plan)
    print(plan.sensitivity())
