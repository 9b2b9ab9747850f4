"""Large text files that are as regular as a program writes them, parsed in one go where pyarrow is installed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ruddock.formats.tables.numerals import Numerals
from ruddock.formats.tables.sheets import Body, without_blank


def parsed_quickly(
    content: bytes, separator: str, width: int, labels: Sequence[int], numbers: Sequence[int]
) -> Body | None:
    """Return columns of rows that all have ``width`` cells and plain numbers; None where one does not."""
    import pyarrow as pa
    from pyarrow import compute, csv

    names = [f"c{k}" for k in range(width)]
    types = {names[k]: pa.dictionary(pa.int32(), pa.string()) for k in labels} | {
        names[k]: pa.float64() for k in numbers
    }
    try:
        table = csv.read_csv(
            pa.BufferReader(content),
            read_options=csv.ReadOptions(column_names=names, block_size=1 << 21),
            parse_options=csv.ParseOptions(delimiter=separator, ignore_empty_lines=False),
            convert_options=csv.ConvertOptions(
                column_types=types, include_columns=list(types), null_values=[""], strings_can_be_null=False
            ),
        )
    except pa.ArrowInvalid:
        return None
    values = [table.column(names[k]) for k in numbers]
    if any(compute.any(compute.is_nan(column)).as_py() for column in values):
        return None  # the word nan, which is no number here
    held = []
    for k in labels:
        column = table.column(names[k]).unify_dictionaries().combine_chunks()
        held.append(without_blank(column.indices.to_numpy(), column.dictionary.to_pylist()))
    return Body(
        held,
        [Numerals(column.to_numpy().astype(np.float64, copy=False), [], []) for column in values],
        table.num_rows,
        [],
    )
