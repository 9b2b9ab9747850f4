"""Which projects should the cooperative begin this year?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the table of a folder."""
    table = pd.read_csv(folder / "projects.csv").set_index("project")
    project = rk.Axis("project", table.index)
    cost, gain, crew = (
        rk.data(table[name], project, unit=unit) for name, unit in (("cost", "£k"), ("gain", "£k"), ("crew", None))
    )

    model = rk.Model("Projects")
    begin = model.decide("begin", project, kind="binary")
    model.maximize("worth", (gain * begin).sum(), unit="£k")
    model.quantity("spent", (cost * begin).sum(), unit="£k")
    model.require("budget", (cost * begin).sum() <= 120, unit="£k")
    model.require("people", (crew * begin).sum() <= 20)
    model.require("one_shop", begin["shop at Abbey"] + begin["online shop"] <= 1)
    model.require("cellar_cold", begin["mead cellar"] <= begin["cold store"])  # a cellar only with a cold store
    return model


if __name__ == "__main__":
    print(build().solve())
