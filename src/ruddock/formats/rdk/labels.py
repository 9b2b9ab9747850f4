"""The labels of an axis as they are typed: with commas between, or as a count such as ``1 .. 12``."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

import pandas as pd

from ruddock.characters import unquote
from ruddock.errors import FormatError
from ruddock.modelling.axis import ISO_DATE

LABEL = re.compile(r'\s*("(?:\\.|[^"\\\n])*"(?=\s*(?:,|\n|\Z))|[^,\n]+)')
COUNT = re.compile(r"\s*(-?\d+)\s*\.\.\s*(-?\d+)\s*\Z")
MOST_LABELS = 10_000_000


def typed_labels(text: str, error: Callable[[str], FormatError]) -> Sequence[Any]:
    """Return the labels that a text lists: whole numbers and dates are such, text in quotes stays text."""
    count = COUNT.match(text)
    if count:
        if abs(int(count[2]) - int(count[1])) > MOST_LABELS:
            raise error(f"more than {MOST_LABELS:,} labels")
        return range(int(count[1]), int(count[2]) + 1)
    written = [label for match in LABEL.finditer(text) if (label := match[1].strip())]
    if not written:
        raise error("labels are missing: write them with commas between")
    plain = not any(label.startswith('"') for label in written)
    if len(written) == 1 and plain and re.search(r"\s", written[0]):
        raise error(
            f"write commas between labels ({', '.join(written[0].split())}), or quotes around one label with "
            f'blanks ("{written[0]}")'
        )
    labels = [unquote(label) for label in written]
    return with_types(labels) if plain else labels


def with_types(labels: Sequence[Any]) -> Sequence[Any]:
    """Return integers, or dates, where all labels are such, so that they order as numbers and dates."""
    if not all(isinstance(label, str) for label in labels):
        return labels
    if labels and all(ISO_DATE.fullmatch(label) for label in labels):
        try:
            return list(pd.to_datetime(list(labels), format="%Y-%m-%d"))
        except ValueError:  # no date, such as 2026-02-30
            return labels
    if labels and all(re.fullmatch(r"-?(0|[1-9]\d{0,17})", label) for label in labels):
        return [int(label) for label in labels]
    return labels
