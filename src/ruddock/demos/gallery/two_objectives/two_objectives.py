"""Cheap or clean: what does a kilogram of CO2 cost?"""

from pathlib import Path

import matplotlib.pyplot as plt
import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the table of a folder."""
    lanes = pd.read_csv(folder / "lanes.csv").set_index(["apiary", "market"])
    apiary, market = rk.Axis("apiary", ["Fell", "Mere", "Gorse"]), rk.Axis("market", ["Quay", "Abbey", "Station"])
    stock = rk.data({"Fell": 120, "Mere": 80, "Gorse": 150}, apiary, unit="crate")
    need = rk.data({"Quay": 90, "Abbey": 80, "Station": 100}, market, unit="crate")

    model = rk.Model("Haulage, cost and fuel")
    ship = model.decide("ship", apiary, market, unit="crate")
    model.minimize("haulage", (rk.data(lanes["cost"], apiary, market) * ship).sum(), unit="£")
    model.minimize("co2", (rk.data(lanes["fuel"], apiary, market) * ship).sum(), unit="kg")
    model.require("supply", ship.sum(market) <= stock)
    model.require("demand", ship.sum(apiary) >= need)
    return model


if __name__ == "__main__":
    frontier = build().tradeoff("haulage", "co2", points=6)
    print(frontier)
    frontier.draw()
    plt.savefig("frontier.png")
