"""How many jars and bottles of mead, when two decisions are all there is?"""

import matplotlib.pyplot as plt

import ruddock as rk


def build() -> rk.Model:
    """Return the model."""
    model = rk.Model("Two products")
    jars, mead = model.decide("jars", unit="item"), model.decide("mead", unit="item")
    model.maximize("margin", 4.2 * jars + 9.5 * mead, unit="£")
    model.require("extraction", 0.5 * jars + 1.2 * mead <= 64, unit="hour")
    model.require("wax", 0.2 * jars + 0.1 * mead <= 15, unit="kg")
    model.require("shelf", (jars - mead).between(-10, 50), unit="item")
    return model


if __name__ == "__main__":
    region = build().region()
    print(region)
    region.draw()
    plt.savefig("region.png")
