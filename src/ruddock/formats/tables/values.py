"""Values of decisions from a table: a row for each decision, or a family's own table, long or two-way."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from ruddock.errors import FormatError, listed
from ruddock.formats.tables.held import read_data
from ruddock.formats.tables.layout import Layout, Wanted, find_layout, heading, plain
from ruddock.formats.tables.sheets import Sheet, by_row
from ruddock.formats.tables.sources import TableSource
from ruddock.formats.tables.tables import Tables, name_of

if TYPE_CHECKING:
    from ruddock.modelling.decisions import Decisions
    from ruddock.modelling.formulation import Formulation


def read_values(path: Path, formulation: Formulation) -> dict[str, float]:
    """Return values by the names of decisions.

    Parameters
    ----------
    path : Path
        A table with the columns ``decision`` and ``value``; or tables of families over axes, as data is kept: a column
        for each axis and one named like the family, or a two-way table of a family, on a sheet of its name.

    Raises
    ------
    FormatError
        If the file is none of this, with all that is wrong in it.
    """
    sheets = Tables().candidates(TableSource(str(path)))
    for sheet in sheets:
        for row, heads in enumerate(sheet.head):
            names, values = heading(heads, "decision"), heading(heads, "value")
            if names is not None and values is not None:
                return _by_name(sheet, row, names[0], values[0])
    found = [part for sheet in sheets for part in _families(sheet, formulation)]
    given: dict[str, float] = {}
    for sheet, layout, family in found:
        held, _ = read_data(sheet, layout, Wanted(family.name, family.cells.axes, None), None)
        for text, value in zip(held.cells.texts(), held.values.tolist(), strict=True):
            name = f"{family.name}[{text}]"
            if name in given:
                raise FormatError(f"{name} is given in two tables", path=str(path))
            given[name] = value
    if not found:
        raise FormatError(
            "no values found: write the columns decision and value, or a column for each axis of a family and one "
            f"named like it; the families are {listed(family.name for family in formulation.decisions)}",
            path=str(path),
        )
    return given


def _by_name(sheet: Sheet, header: int, names: int, values: int) -> dict[str, float]:
    body = sheet.body(header, [names], [values], None)
    labels, numbers = body.labels[0], body.numbers[0]
    errors = [(row, sheet.error(header + 1 + row, values, message)) for row, message in numbers.wrong]
    errors += body.refused
    wrong = {row for row, _ in errors}
    given: dict[str, float] = {}
    for row, code in enumerate(labels.codes.tolist()):
        at = header + 1 + row
        value = float(numbers.values[row])
        if row in wrong or (code < 0 and np.isnan(value)):
            continue
        name = labels.texts[code] if code >= 0 else ""
        if not name:
            errors.append((row, sheet.error(at, names, "the name of the decision is missing")))
        elif np.isnan(value):
            errors.append((row, sheet.error(at, values, f"the value of {name} is missing")))
        elif name in given:
            errors.append((row, sheet.error(at, names, f"{name} is given twice")))
        else:
            given[name] = value
    if errors:
        raise by_row(errors)
    return given


def _families(sheet: Sheet, formulation: Formulation) -> list[tuple[Sheet, Layout, Decisions]]:
    """Return the families whose values a sheet holds: by a column or sheet of their name, or the only one that fits."""
    fits: list[tuple[Sheet, Layout, Decisions]] = []
    named = []
    for family in formulation.decisions:
        if not family.cells.axes:
            continue
        try:
            layout = find_layout(sheet, Wanted(family.name, family.cells.axes, None))
        except FormatError:
            continue
        fits.append((sheet, layout, family))
        own = {plain(name_of(sheet)), plain(Path(sheet.title).stem)}
        if layout.across is None:
            own.add(plain(sheet.head[layout.header][layout.numbers[0]]))
        if plain(family.name) in own:
            named.append(fits[-1])
    return named or (fits if len(fits) == 1 else [])
