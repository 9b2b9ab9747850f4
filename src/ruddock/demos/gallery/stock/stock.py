"""How much to bottle each month, and how much to keep?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the table of a folder."""
    months = pd.read_csv(folder / "months.csv").set_index("month")
    month = rk.Axis("month", months.index)
    need, most = rk.data(months["need"], month, unit="case"), rk.data(months["most"], month, unit="case")

    model = rk.Model("Bottling and stock")
    bottle = model.decide("bottle", month, lower=80, upper=400, kind="semicontinuous", unit="case")
    keep = model.decide("keep", month, upper=250, unit="case")
    model.minimize("cost", labour=(7.5 * bottle).sum(), storage=(1.2 * keep).sum(), unit="£")
    model.require("balance", keep.previous(month, start=60) + bottle == need + keep, unit="case")
    model.require("crew", bottle <= most, unit="case")
    model.require("closing", keep["Oct"] >= 50, unit="case")
    return model


if __name__ == "__main__":
    print(build().solve())
