"""A clash told in steps: what its rules imply one after another, up to what cannot be."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.numbers import number
from ruddock.engine.clash import Clash
from ruddock.engine.implied import Step, contradiction_chain
from ruddock.errors import listed
from ruddock.insight.proof import terms_written
from ruddock.modelling.written import rule_text
from ruddock.problem import INTEGER, Problem

if TYPE_CHECKING:
    from ruddock.modelling.lowering import Lowered

MOST_SENTENCES = 6  # sentences; a longer chain convinces nobody


def steps_of(whole: Lowered, problem: Problem, clash: Clash) -> tuple[str, ...]:
    """Return sentences that lead from the rules of a clash to the contradiction; none where no short chain does."""
    alone = clash.alone(problem)
    if clash.whole:  # all marks hold in the model, and with them the steps are plainer
        alone = replace(alone, kinds=(alone.kinds | (problem.kinds & INTEGER)).astype(np.uint8))
    chain = contradiction_chain(alone)
    if chain is None:
        return ()
    size, rows = whole.formulation.size, whole.formulation.rows
    if any(step.column >= size or step.row >= rows for step in chain.steps):
        return ()  # by way of what a rule needs, which means nothing to a reader
    *implied, end = chain.steps
    groups = [[step] for step in implied] if len(implied) < MOST_SENTENCES else _groups(whole, implied)
    if len(groups) >= MOST_SENTENCES:
        return ()
    sentences = [_implied(whole, problem, group) for group in groups]
    return (*sentences, _end(whole, problem, end, chain.steps))


def _groups(whole: Lowered, steps: list[Step]) -> list[list[Step]]:
    """Return steps of like kind, next to each other, together."""
    groups: list[list[Step]] = []
    keys: list[tuple[str, str, bool, bool]] = []
    for step in steps:
        key = (_family(whole.row_name(step.row)), _family(whole.column_name(step.column)), step.upper, step.raises)
        if keys and keys[-1] == key:
            groups[-1].append(step)
        else:
            groups.append([step])
            keys.append(key)
    return groups


def _implied(whole: Lowered, problem: Problem, steps: list[Step]) -> str:
    """Say what one row, or several alike, imply: ``supply[Fell] <= 40 keeps ship[Fell, Abbey] at 40 or less``."""
    rows = list(dict.fromkeys(step.row for step in steps))
    columns = list(dict.fromkeys(whole.column_name(step.column) for step in steps))
    values = sorted({step.value for step in steps})
    span = number(values[0]) if len(values) == 1 else f"{number(values[0])} to {number(values[-1])}"
    more = "more" if steps[0].raises else "less"
    rounded = ", as an integer" if any(step.whole for step in steps) else ""
    if len(rows) == 1:
        subject = f"{_rule(whole, problem, steps[0])} keeps"
    else:
        subject = f"{listed([whole.row_name(i) for i in rows], 3)} keep"
    return f"{subject} {listed(columns, 3)} at {span} or {more}{rounded}"


def _end(whole: Lowered, problem: Problem, end: Step, steps: tuple[Step, ...]) -> str:
    if end.row < 0:
        name = whole.column_name(end.column)
        own = {step.raises: step.value for step in steps[:-1] if step.column == end.column}
        low, high = own.get(True, float(problem.lower[end.column])), own.get(False, float(problem.upper[end.column]))
        return f"so {name} would have to be {number(low)} or more and {number(high)} or less"
    row = problem.matrix()[[end.row]].tocsr()
    terms = terms_written(
        dict(zip(row.indices.tolist(), row.data.tolist(), strict=True)), whole.formulation.column_names
    )
    most = "at least" if end.upper else "at most"
    verb = "can come to" if terms else "comes to"
    return f"{_rule(whole, problem, end)} is then out of reach: {terms or 'it'} {verb} {number(end.value)} {most}"


def _rule(whole: Lowered, problem: Problem, step: Step) -> str:
    if step.row >= whole.formulation.rows:
        return f"the rule {whole.row_name(step.row)}"
    return rule_text(whole.formulation, step.row, upper=step.upper)


def _family(name: str) -> str:
    return name.split("[", 1)[0]
