"""How few vans carry these lots, and what goes into which?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the table of a folder."""
    lots = pd.read_csv(folder / "lots.csv").set_index("lot")
    lot, van = rk.Axis("lot", lots.index), rk.Axis("van", ["1", "2", "3", "4", "5"])
    weight, room = rk.data(lots["weight"], lot, unit="kg"), rk.data(lots["room"], lot, unit="m3")

    model = rk.Model("Vans")
    load = model.decide("load", lot, van, kind="binary")
    drive = model.decide("drive", van, kind="binary")
    model.minimize("vans", drive.sum())
    model.quantity("weight_on", (weight * load).sum(lot), unit="kg")
    model.require("once", load.sum(van) == 1)
    model.require("carries", (weight * load).sum(lot) <= 1000 * drive, unit="kg")
    model.require("holds", (room * load).sum(lot) <= 7 * drive, unit="m3")
    return model


if __name__ == "__main__":
    print(build().solve())
