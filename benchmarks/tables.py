"""Tables and grids as files: reading them against what only parses them."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
from openpyxl import Workbook, load_workbook

import ruddock as rk
from benchmarks.measuring import Measured, check, timed
from ruddock.formats.tables.sources import TableSource
from ruddock.formats.tables.tables import Tables

FOLDER = Path(tempfile.gettempdir())


def table() -> Measured:
    """A CSV table of 1,000,000 rows into data over two axes, against ``pandas.read_csv``."""
    path = FOLDER / "ruddock-benchmark-table.csv"
    names = [np.array([f"{word} {i}" for i in range(1000)], dtype=object) for word in ("Apiary", "Market")]
    if not path.exists():
        at = np.arange(1_000_000)
        values = np.round(np.random.default_rng(1).random(len(at)) * 100, 3)
        pd.DataFrame({"apiary": names[0][at % 1000], "market": names[1][at // 1000], "haul": values}).to_csv(
            path, index=False
        )
    axes = rk.Axis("apiary", names[0]), rk.Axis("market", names[1])
    ours, (held, _) = timed(lambda: Tables().data(TableSource(str(path)), "haul", axes, None))
    reference, frame = timed(lambda: pd.read_csv(path))
    check(bool((np.sort(held.values) == np.sort(frame["haul"].to_numpy())).all()), "table")
    return Measured(ours, reference, entries=len(frame))


def grid() -> Measured:
    """A workbook of a grid of 100,000 cells into a model, against a read-only pass over its cells."""
    path = FOLDER / "ruddock-benchmark-grid.xlsx"
    n, m = 200, 500
    if not path.exists():
        rng = np.random.default_rng(1)
        book = Workbook(write_only=True)
        sheet = book.create_sheet("Plan")
        sheet.append(["", *(f"d{j}" for j in range(n)), "relation", "limit"])
        sheet.append(["maximize margin", *rng.random(n).tolist()])
        for i in range(m):
            sheet.append([f"r{i}", *np.round(rng.random(n), 3).tolist(), "<=", i + 10.0])
        book.save(path)

    def passed() -> int:
        book = load_workbook(path, read_only=True, data_only=True)
        return sum(len(row) for sheet in book for row in sheet.iter_rows(values_only=True))

    ours, model = timed(lambda: rk.read(path))
    reference, cells = timed(passed)
    check(model.problem().m == m and model.problem().n == n and cells > n * m, "grid")
    return Measured(ours, reference, entries=n * m)
