"""Reading MPS files, fixed and free form.

Lines are split at blanks, which reads both forms as long as names hold none. A file with blanks in
its names is read again by the columns of the fixed form. The large sections are parsed as blocks, COLUMNS
by a kernel; where a block is odd, its lines are gone through one by one to say what and where.
"""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np

from ruddock.errors import FormatError, RuddockWarning, listed
from ruddock.files import read_content
from ruddock.formats.mps.columns import columns_one_by_one, rows, scan
from ruddock.formats.mps.limits import bounds, limits, right_sides
from ruddock.formats.mps.sections import split
from ruddock.formats.mps.source import OddFieldsError, Source
from ruddock.modelling.axis import Axis
from ruddock.modelling.model import Model
from ruddock.problem import INTEGER, Problem


def read_mps(path: Path) -> Model:
    """Read an MPS file into a `Model` whose members go by the file's names.

    Raises
    ------
    FormatError
        With the number and text of the line.
    """
    content = read_content(path)
    source = Source(str(path), content)
    try:
        return _read(source)
    except OddFieldsError as odd:
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", RuddockWarning)
                return _read(Source(str(path), content, fixed=True))
        except (OddFieldsError, FormatError, RuddockWarning):
            raise source.error(odd.line, odd.message) from None


def _read(source: Source) -> Model:
    """Read all sections and put them together; the objective's row becomes the costs."""
    sections = split(source, scan)
    names, kinds, objective = sections.scanned.row_parts if sections.scanned else rows(source, sections)
    parts = sections.scanned.columns() if sections.scanned else None
    if parts is None:
        sections.scanned = None
        parts = columns_one_by_one(source, sections, names, objective)
    columns, matrix, costs, integer = parts
    lower, upper = limits(kinds)
    offset = right_sides(source, sections, names, kinds, objective, lower, upper)
    kinds = np.where(integer, INTEGER, 0).astype(np.uint8)
    low, high = np.zeros(len(columns)), np.full(len(columns), np.inf)
    bounds(source, sections, columns, low, high, kinds)
    if objective >= 0:
        lower, upper = np.delete(lower, objective), np.delete(upper, objective)
    bad = np.flatnonzero((low == np.inf) | (high == -np.inf))
    if len(bad):
        raise FormatError(f"bounds of {listed(columns[bad])} leave no value", path=source.path)
    sign = -1.0 if sections.maximize else 1.0
    problem = Problem.build(matrix, lower, upper, low, high, sign * costs, kinds, sign * offset)
    return Model._from_problem(
        sections.name or Path(source.path).name.split(".")[0],
        problem,
        Axis.of_different("column", columns),
        Axis.of_different("row", names.delete(objective) if objective >= 0 else names),
        str(names[objective]) if objective >= 0 else "objective",
        maximize=sections.maximize,
    )
