"""Problems, outcomes and plans as bytes: named arrays and a heading in JSON, nothing that could run."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict, fields
from typing import Any

import numpy as np
from scipy.sparse import csc_matrix

from ruddock.engine.in_order import Give, Stage
from ruddock.engine.outcome import Basis, Counters, Moment, Options, Outcome
from ruddock.errors import FormatError
from ruddock.modelling.lowering import lowered
from ruddock.modelling.model import Model
from ruddock.modelling.plan import Plan
from ruddock.problem import Floats, Problem

HEADING = "heading"
ARRAYS, OUTCOME = "arrays.npz", "outcome.npz"  # the files that hold them
VECTORS = ("x", "activity", "y", "reduced", "proof", "ray")
MOST_BYTES = 2**31
# what NumPy, zipfile and zlib raise at bytes that are no archive of arrays
UNREADABLE = (
    ValueError, KeyError, OSError, EOFError, SyntaxError, TypeError, NotImplementedError, RuntimeError,
    zipfile.BadZipFile, zlib.error, struct.error,
)  # fmt: skip


def packed(heading: Mapping[str, Any], arrays: Mapping[str, Any]) -> bytes:
    """Return a heading and arrays as bytes."""
    buffer = io.BytesIO()
    held = {name: np.asarray(array) for name, array in arrays.items() if array is not None}
    text = np.frombuffer(json.dumps(heading, allow_nan=False).encode(), np.uint8)
    everything: dict[str, Any] = {HEADING: text, **held}
    np.savez(buffer, **everything)
    return buffer.getvalue()


def unpacked(content: bytes, most: int = MOST_BYTES) -> tuple[dict[str, Any], dict[str, np.ndarray[Any, Any]]]:
    """Return the heading and the arrays that bytes hold.

    Raises
    ------
    FormatError
        If they hold anything else, or more than ``most`` bytes once unpacked.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > most:
                raise FormatError(f"more than {most:,} bytes once unpacked")
        with np.load(io.BytesIO(content), allow_pickle=False) as held:
            arrays = {name: held[name] for name in held.files}
        heading = json.loads(arrays.pop(HEADING).tobytes())
    except UNREADABLE as error:
        raise FormatError(f"these are no arrays of a problem or plan: {error}") from None
    if not isinstance(heading, dict):
        raise FormatError("these are no arrays of a problem or plan: the heading is no object")
    return heading, arrays


# ---------------------------------------------------------------------- what is asked for


def problems_packed(problems: Sequence[Problem], gives: Sequence[Give], options: Options) -> bytes:
    """Return problems that differ in their costs alone, and how to solve them, as bytes."""
    first = problems[0]
    basis = options.basis
    heading = {
        "rows": first.m,
        "offsets": [problem.offset for problem in problems],
        "gives": [[give.share, give.amount] for give in gives],
        "method": options.method,
        "presolve": options.presolve,
        "repair": options.repair,
    }
    names = ("starts", "indices", "values", "row_lower", "row_upper", "lower", "upper", "kinds")
    arrays: dict[str, Any] = {name: getattr(first, name) for name in names}
    arrays["costs"] = np.array([problem.costs for problem in problems]).reshape(len(problems), first.n)
    arrays["start"], arrays["priorities"] = options.start, options.priorities
    if basis is not None:
        arrays["basis_columns"], arrays["basis_rows"] = basis.columns, basis.rows
    return packed(heading, arrays)


def problems_unpacked(content: bytes, most: int = MOST_BYTES) -> tuple[list[Problem], list[Give], Options]:
    """Return what `problems_packed` made bytes of, every part of it checked.

    Raises
    ------
    FormatError, DataError
        If anything is not as it should be.
    """
    heading, arrays = unpacked(content, most)
    try:
        n = len(arrays["lower"])
        matrix = csc_matrix(
            (arrays["values"].astype(float), arrays["indices"].astype(np.int32), arrays["starts"].astype(np.int32)),
            shape=(int(heading["rows"]), n),
        )
        matrix.check_format(full_check=True)
        matrix.sum_duplicates()
        costs, offsets = arrays["costs"].astype(float), [float(offset) for offset in heading["offsets"]]
        if costs.shape != (len(offsets), n) or not offsets or not np.isfinite(offsets).all():
            raise ValueError("costs and offsets do not belong together")
        if (arrays["kinds"] > 3).any():
            raise ValueError("a kind is from 0 to 3")
        row_lower, row_upper, lower, upper = (arrays[name] for name in ("row_lower", "row_upper", "lower", "upper"))
        problems = [
            Problem.build(matrix, row_lower, row_upper, lower, upper, own, arrays["kinds"], offset)
            for own, offset in zip(costs, offsets, strict=True)
        ]
        gives = [Give(float(share), float(amount)) for share, amount in heading["gives"]]
        if len(gives) != len(problems) or not all(0 <= part < np.inf for give in gives for part in give):
            raise ValueError("gives do not belong to the costs")
        return problems, gives, _options(heading, arrays, problems[0])
    except (KeyError, ValueError, TypeError, OverflowError, AttributeError) as error:
        raise FormatError(f"these are no arrays of a problem: {error}") from None


def _options(heading: dict[str, Any], arrays: dict[str, Any], problem: Problem) -> Options:
    def vector(name: str, size: int) -> Any:
        held = arrays.get(name)
        if held is not None and held.shape != (size,):
            raise ValueError(f"{name} has shape {held.shape}, needed is ({size},)")
        return held

    start, priorities = vector("start", problem.n), vector("priorities", problem.n)
    columns, rows = vector("basis_columns", problem.n), vector("basis_rows", problem.m)
    basis = None
    if columns is not None and rows is not None:
        basis = Basis(columns.astype(np.int8), rows.astype(np.int8))
        codes = np.concatenate((basis.columns, basis.rows))
        if ((codes < 0) | (codes > 3)).any() or (codes == 0).sum() != problem.m:
            raise ValueError("the basis has other codes than 0 to 3, or not as many basic ones as rows")
    if heading["method"] not in ("auto", "dual", "primal", "interior", "first-order"):
        raise ValueError(f"there is no method {heading['method']!r}")
    return Options(
        heading["method"],
        bool(heading["presolve"]),
        start=None if start is None else start.astype(float),
        priorities=None if priorities is None else priorities.astype(float),
        basis=basis,
        repair=bool(heading["repair"]),
        cores=1,
    )


# ---------------------------------------------------------------------- what came of it


def outcome_packed(outcome: Outcome, stages: Sequence[Stage], gives: Sequence[Give], seconds: float) -> bytes:
    """Return an outcome with the stages of its objectives as bytes."""
    heading = {
        "status": outcome.status,
        "reason": outcome.reason,
        "crossed": [list(outcome.crossed_columns), list(outcome.crossed_rows)],
        "counters": asdict(outcome.counters),
        "gives": [[give.share, give.amount] for give in gives],
        "seconds": seconds,
    }
    arrays: dict[str, Any] = {name: getattr(outcome, name) for name in VECTORS}
    arrays["numbers"] = np.array([outcome.objective, outcome.bound])
    arrays["history"] = np.array(outcome.history, float).reshape(-1, 4)
    arrays["stages"] = np.array(
        [[s.value, s.bound, s.proven, np.nan if s.top is None else s.top] for s in stages], float
    ).reshape(-1, 4)
    if outcome.basis is not None:
        arrays["basis_columns"], arrays["basis_rows"] = outcome.basis.columns, outcome.basis.rows
    return packed(heading, arrays)


def outcome_unpacked(content: bytes) -> tuple[Outcome, list[Stage], list[Give], float]:
    """Return what `outcome_packed` made bytes of.

    Raises
    ------
    FormatError
        If they are no outcome.
    """
    heading, arrays = unpacked(content)
    try:
        known = {part.name for part in fields(Counters)}
        counters = {name: value for name, value in heading["counters"].items() if name in known}
        counters["reductions"] = {name: tuple(pair) for name, pair in counters.get("reductions", {}).items()}
        objective, bound = arrays["numbers"].tolist()
        crossed_columns, crossed_rows = (tuple(map(int, part)) for part in heading["crossed"])
        basis = Basis(arrays["basis_columns"], arrays["basis_rows"]) if "basis_columns" in arrays else None
        outcome = Outcome(
            heading["status"],
            heading["reason"],
            basis=basis,
            objective=objective,
            bound=bound,
            crossed_columns=crossed_columns,
            crossed_rows=crossed_rows,
            counters=Counters(**counters),
            history=tuple(Moment(s, int(nodes), best, low) for s, nodes, best, low in arrays["history"].tolist()),
            **{name: arrays.get(name) for name in VECTORS},
        )
        stages = [
            Stage(value, low, bool(proven), None if np.isnan(top) else top)
            for value, low, proven, top in arrays["stages"].tolist()
        ]
        gives = [Give(*pair) for pair in heading["gives"]]
        return outcome, stages, gives, float(heading["seconds"])
    except (KeyError, ValueError, TypeError, AttributeError) as error:
        raise FormatError(f"this is no outcome: {error}") from None


def plan_of(model: Model, content: bytes) -> Plan:
    """Return the plan of a model that an outcome in bytes belongs to.

    Raises
    ------
    FormatError
        If the bytes are no outcome, or one of another model.
    """
    outcome, stages, gives, _ = outcome_unpacked(content)
    formulation = model.formulation()
    base = lowered(formulation).base
    for array, size in ((outcome.x, base.n), (outcome.activity, base.m), (outcome.y, base.m)):
        if array is not None and array.shape != (size,):
            raise FormatError(f"the answer is one of another model: it has {len(array):,} values, not {size:,}")
    plan = Plan(formulation, outcome, tuple(stages), tuple(gives))
    plan.model = model
    return plan


def values_packed(x: Floats) -> bytes:
    """Return the values of a plan that is kept."""
    return packed({}, {"x": x})


def values_unpacked(content: bytes) -> Floats:
    """Return the values of a plan that was kept."""
    return np.asarray(unpacked(content)[1]["x"], float)
