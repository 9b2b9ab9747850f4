"""A limit that reaches a target, in words, with the plan there."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Next, Section, Sentence
from ruddock.document.numbers import Toward, amount, capital, number
from ruddock.modelling.answer.verdict import STOPPED_BY

if TYPE_CHECKING:
    from ruddock.insight.reach import Reach


def reach_sentences(found: Reach) -> list[Block]:
    """Return the value that reaches a target, or why none does."""
    lever = found.lever
    unit = lever.unit
    now = (
        "a factor"
        if lever.factor
        else "its members differ"
        if np.isnan(lever.now)
        else f"now {amount(lever.now, unit)}"
    )
    if found.status == "stopped":
        words = f"{found.target}: stopped by {STOPPED_BY[found.reason or 'numerics']} before it was settled."
        return [Sentence(words, verdict=True)]
    if found.value is None:
        limited = np.isfinite(found.within).any()
        edge = f" up to {amount(next(v for v in found.within if np.isfinite(v)), unit)}" if limited else ""
        proven = f"This is proven{' up to there' if limited else ''}."
        head = f"{found.target}: no value of {lever.name} ({now}){edge} reaches it. {proven}"
        return [
            Sentence(head, verdict=True),
            *(Sentence(f"{capital(sentence)}.") for sentence in found.nearest),
        ]
    if np.isinf(found.value):
        return [Sentence(f"{found.target}: {lever.name} ({now}) does not limit it, however tight it is.", verdict=True)]
    word = {"upper": "at least", "lower": "at most", "both": "as near as"}[lever.side]
    toward: Toward = "up" if lever.side == "upper" else "down" if lever.side == "lower" else ""
    if lever.factor:
        return [
            Sentence(f"{found.target} needs {lever.target} times {word} {number(found.value, toward)}.", verdict=True)
        ]
    change = found.change or 0.0
    moved = f": {amount(abs(change), unit, 'up')} {'more' if change > 0 else 'less'} than now"
    if np.isnan(change):
        moved = ", for all members"
    elif np.isinf(change):
        moved = "; it is unlimited now"
    elif abs(change) < 1e-9:
        moved = ": the value it has now"
    return [
        Sentence(f"{found.target} needs {lever.name} {word} {amount(found.value, unit, toward)}{moved}.", verdict=True)
    ]


def reach_sections(found: Reach) -> list[Section]:
    """Return the answer, and the plan there as it is shown by itself, without its verdict and next questions."""
    sections = [Section("", reach_sentences(found))]
    if found.plan is None or found.value is None or np.isinf(found.value):
        return sections
    for section in found.plan.document().sections:
        blocks = [b for b in section.blocks if not (isinstance(b, Next) or (isinstance(b, Sentence) and b.verdict))]
        if blocks:
            sections.append(Section(section.title, blocks))
    return sections
