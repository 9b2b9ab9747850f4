"""Which crew goes to which apiary?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the table of a folder."""
    hours = pd.read_csv(folder / "hours.csv").set_index(["crew", "apiary"])["hours"]
    crew = rk.Axis("crew", hours.index.get_level_values("crew").unique())
    apiary = rk.Axis("apiary", hours.index.get_level_values("apiary").unique())

    model = rk.Model("Crews")
    go = model.decide("go", crew, apiary)  # no integers needed: they come by themselves
    model.minimize("work", (rk.data(hours, crew, apiary) * go).sum(), unit="hour")
    model.require("somewhere", go.sum(apiary) == 1)
    model.require("someone", go.sum(crew) == 1)
    return model


if __name__ == "__main__":
    print(build().solve())
