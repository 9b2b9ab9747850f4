"""What a solve took, told: reductions, iterations by method, factorisations, time by part."""

from __future__ import annotations

from ruddock.engine.outcome import Counters
from ruddock.modelling.plan import Plan
from ruddock.tables import Table, number

COUNTED = (
    ("dual_iterations", "iterations of the dual simplex method"),
    ("primal_iterations", "iterations of the primal simplex method"),
    ("interior_steps", "steps of the interior-point method"),
    ("pushes", "iterations of the crossover to a basis"),
    ("bound_flips", "moves from one bound to the other, no iterations"),
    ("factorisations", "factorisations of the basis"),
    ("nodes", "nodes of the search tree"),
)
TIGHTENED = {
    "coefficients": "coefficients made smaller",
    "rows": "constraints that say nothing dropped",
    "fixed": "decisions fixed",
    "probed": "yes/no decisions tried both ways",
    "implied whole": "decisions seen to come out whole by themselves",
    "cliques merged": "constraints merged into ones that exclude more",
    "like columns": "decisions ordered or fixed because another one is like them",
    "restarts": "times that all this was done again after decisions were fixed",
}
PARTS = {
    "presolve": "making the model smaller, and back",
    "interior": "interior-point method",
    "crossover": "from the interior point to a basis",
    "simplex": "simplex method",
    "cuts": "cuts at the root",
    "early plans": "looking for early plans",
    "tree": "search tree",
    "check": "check in exact arithmetic",
}


def effort_parts(plan: Plan) -> list[str | Table]:
    """Return the effort of a plan as tables and sentences."""
    effort = plan.effort
    parts: list[str | Table] = []
    if effort.reductions:
        rows = [(title, number(r), number(c)) for title, (r, c) in effort.reductions.items()]
        total = (sum(r for r, _ in effort.reductions.values()), sum(c for _, c in effort.reductions.values()))
        if len(rows) > 1:
            rows.append(("together", number(total[0]), number(total[1])))
        parts.append(Table("Taken out before the solve", ["reduction", ">rows", ">columns"], rows))
    done = [(TIGHTENED.get(name, name), number(count)) for name, count in effort.tightened.items() if count]
    done += [(f"cuts: {name}", number(count)) for name, count in effort.cuts.items()]
    if done:
        parts.append(Table("Made tighter before the tree", ["what", ">how often"], done))
    counted = [(title, number(getattr(effort, name))) for name, title in COUNTED if getattr(effort, name)]
    if counted:
        parts.append(Table("Work done", ["what", ">how often"], counted))
    parts.append(Table("Time", ["part", ">seconds"], _times(effort)))
    if effort.certified:
        parts.append("Checked in exact arithmetic: the plan is optimal without any rounding error in its basis.")
    return parts


def _times(effort: Counters) -> list[tuple[str, str]]:
    rows = [(PARTS.get(name, name), f"{seconds:.3f}") for name, seconds in effort.parts.items()]
    rest = effort.seconds - sum(effort.parts.values())
    if rows and rest > 0:
        rows.append(("the rest", f"{rest:.3f}"))
    return [*rows, ("together", f"{effort.seconds:.3f}")]
