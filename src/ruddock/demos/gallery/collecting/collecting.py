"""Which collecting points to rent, when honey is lost on the way to each?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the tables of a folder."""
    apiaries, points = (pd.read_csv(folder / f"{name}.csv") for name in ("apiaries", "points"))
    apiary, point = rk.Axis("apiary", apiaries["apiary"]), rk.Axis("point", points["point"])
    crop = rk.data(apiaries, apiary, unit="kg")
    rent = rk.data(points[["point", "rent"]], point, unit="£")
    space = rk.data(points[["point", "room"]], point, unit="kg")
    losses = pd.read_csv(folder / "losses.csv").melt("apiary", var_name="point").dropna()  # empty: no road
    loss = rk.data(losses, apiary, point)  # per cent

    model = rk.Model("Collecting")
    send = model.decide("send", apiary, point, unit="kg", only=loss >= 0)  # a road without a loss is a road
    rented = model.decide("rented", point, kind="binary")
    lost = (4.2 * loss / 100 * send).sum()  # a kilogram is worth £4.20
    model.minimize("cost", unit="£", lost=lost, rent=(rent * rented).sum())
    model.quantity("arrives", ((1 - loss / 100) * send).sum(apiary), unit="kg")
    model.require("all", send.sum(point) == crop, unit="kg")
    model.require("room", send.sum(apiary) <= space * rented, unit="kg")
    return model


if __name__ == "__main__":
    print(build().solve())
