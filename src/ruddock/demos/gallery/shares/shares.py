"""How many hives to which forage, when each forage has its least and greatest share of the whole?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the table of a folder."""
    table = pd.read_csv(folder / "forages.csv").set_index("forage")
    forage = rk.Axis("forage", table.index)
    honey, space = rk.data(table["honey"], forage, unit="kg/hive"), rk.data(table["room"], forage, unit="hive")
    least, most = rk.data(table["least"], forage), rk.data(table["most"], forage)

    model = rk.Model("Shares")
    place = model.decide("place", forage, unit="hive")
    model.maximize("crop", (honey * place).sum(), unit="kg")
    model.quantity("placed", place.sum(), unit="hive")
    model.require("hives", place.sum() <= 400, unit="hive")
    model.require("room", place <= space, unit="hive")
    # shares of what is placed, not of the 400
    model.require("at_least", (place - least * place.sum()).where(least) >= 0)
    model.require("at_most", place <= most * place.sum())
    return model


if __name__ == "__main__":
    plan = build().solve()
    print(plan)
    placed = plan.table("place").iloc[:, 0]
    print("\nShares of the whole:")
    print((placed / placed.sum()).map("{:.1%}".format))
