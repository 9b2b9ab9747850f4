"""The tables that ship with the demos."""

from __future__ import annotations

from importlib.resources import files

import pandas as pd


def frame(name: str) -> pd.DataFrame:
    """Return one of the shipped tables, such as ``lanes.csv``."""
    with files("ruddock.demos").joinpath("data", name).open("rb") as file:
        return pd.read_csv(file)
