"""What a solve took: reductions, iterations by method, factorisations, time by part."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, fields
from typing import Any

import pandas as pd

from ruddock.document.content import Block, Number, Sentence, Table
from ruddock.document.result import Result
from ruddock.engine.outcome import Counters

COUNTED = (
    ("dual_iterations", "dual simplex iterations"),
    ("network_pivots", "network simplex iterations"),
    ("primal_iterations", "primal simplex iterations"),
    ("interior_steps", "interior-point iterations"),
    ("gradient_steps", "first-order iterations"),
    ("pushes", "crossover iterations"),
    ("bound_flips", "bound flips"),
    ("factorisations", "basis factorisations"),
    ("nodes", "nodes of the search tree"),
)
TIGHTENED = {
    "coefficients": "coefficients tightened",
    "rows": "redundant constraints removed",
    "fixed": "decisions fixed",
    "probed": "binary decisions probed",
    "implied integers": "decisions implied integer",
    "cliques merged": "clique constraints merged",
    "like columns": "symmetric or dominated decisions ordered or fixed",
    "restarts": "restarts of the root",
}
PARTS = {
    "presolve": "presolve and postsolve",
    "interior": "interior point",
    "first-order": "first-order method",
    "crossover": "crossover",
    "simplex": "simplex",
    "blocks": "column generation at the root",
    "relaxation": "relaxation at the root",
    "cuts": "cuts at the root",
    "heuristics": "primal heuristics",
    "tree": "search tree",
    "check": "check in exact arithmetic",
}


@dataclass(repr=False)
class Effort(Result, Counters):
    """What a solve took; every count of the engine is an attribute, see `Counters`."""

    title: str = ""

    @classmethod
    def of(cls, counters: Counters, title: str) -> Effort:
        """Return the counts of a solve under the title of its model."""
        return cls(**{f.name: getattr(counters, f.name) for f in fields(counters)}, title=title)

    def _title(self) -> str:
        return self.title

    def _blocks(self) -> Sequence[Block]:
        return [Sentence(f"{self.title}: solved in {self.seconds:.2f} s.", verdict=True), *effort_blocks(self)]

    def table(self) -> pd.DataFrame:
        """Return the seconds of each part."""
        parts = {**self.parts, "total": self.seconds}
        return pd.DataFrame({"seconds": parts}).rename_axis("part")

    def _facts(self) -> dict[str, Any]:
        held = asdict(self)
        return {"format": "ruddock-effort/1", "model": held.pop("title"), **held}


def effort_blocks(effort: Counters) -> list[Block]:
    """Return the effort as tables and sentences."""
    blocks: list[Block] = []
    if effort.reductions:
        rows = [(title, Number(r), Number(c)) for title, (r, c) in effort.reductions.items()]
        total = (sum(r for r, _ in effort.reductions.values()), sum(c for _, c in effort.reductions.values()))
        if len(rows) > 1:
            rows.append(("total", Number(total[0]), Number(total[1])))
        blocks.append(
            Table("Removed by presolve", ["reduction", "rows", "columns"], rows, total=len(effort.reductions) > 1)
        )
    done = [(TIGHTENED.get(name, name), Number(count)) for name, count in effort.tightened.items() if count]
    done += [(f"cuts: {name}", Number(count)) for name, count in effort.cuts.items()]
    if done:
        blocks.append(Table("Tightened before the search", ["what", "count"], done))
    counted = [(title, Number(getattr(effort, name))) for name, title in COUNTED if getattr(effort, name)]
    if counted:
        blocks.append(Table("Work", ["what", "count"], counted))
    times = [(PARTS.get(name, name), f"{seconds:.3f}") for name, seconds in effort.parts.items()]
    rest = effort.seconds - sum(effort.parts.values())
    if times and rest > 0:
        times.append(("other", f"{rest:.3f}"))
    times.append(("total", f"{effort.seconds:.3f}"))
    blocks.append(Table("Time", ["part", "seconds"], times, total=len(times) > 1))
    if effort.certified:
        blocks.append(Sentence("Checked in exact arithmetic: the basis is optimal, without any rounding."))
    return blocks
