"""A model file and the tables that it reads, packed to be sent: by name, without paths."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from ruddock.errors import FormatError
from ruddock.formats import read_with
from ruddock.formats.model_json import model_document
from ruddock.formats.rdk.as_read import text_as_read
from ruddock.formats.rdk.read import TextRecipe
from ruddock.formats.tables.given import Given
from ruddock.formats.tables.sources import TableSource, is_database
from ruddock.jobs.records import Request
from ruddock.modelling.model import Model


@dataclass(frozen=True)
class Parcel:
    """What is sent: files by name, and what is asked for."""

    request: Request
    files: Mapping[str, bytes]


def packed(path: Path, given: Given, asked: Mapping[str, Any], table: Path | None = None) -> Parcel:
    """Return what to send of a model in a file; the model is read first, so that errors are told here.

    Where the tables cannot go by their names (two of them have the same, or one is in a database), the model goes with
    all its numbers in it.

    Parameters
    ----------
    given : what stands in for tables of the model
    asked : parts of a `Request`
    table : of scenarios

    Raises
    ------
    RuddockError
        If the model or a table cannot be read.
    """
    model = read_with(path, given, asked.get("sheet"))
    files: dict[str, bytes] = {}
    if table is not None:
        files[table.name] = _content(table)
        asked = {**asked, "table": table.name}
    tables = _tables_of(model)
    frames = any(not isinstance(held, TableSource) for held in given.named.values())
    if frames or not _go_by_name(tables, path.name, *files):
        files[f"{path.stem}.json"] = _as_json(model)
        return Parcel(Request.of({**asked, "model": f"{path.stem}.json", "sheet": None}), files)
    files |= {path.name: _content(path), **{Path(file).name: _content(Path(file)) for file in tables}}
    data = {name: held._replace(file=Path(held.file).name).written for name, held in given.named.items()}
    return Parcel(Request.of({**asked, "model": path.name, "data": data}), files)


def model_sent(model: Model, *, with_data: bool) -> tuple[dict[str, bytes], str]:
    """Return a model as files, and which of them is the model.

    Parameters
    ----------
    with_data : whether its data is to be changed there: where the model still is what its text says, that goes with
        its tables; else it goes with all its numbers in it
    """
    recipe = model._recipe
    if with_data and isinstance(recipe, TextRecipe):
        text, tables = text_as_read(model, recipe.folder), _tables_of(model)
        if text is not None and _go_by_name(tables, "model.rdk"):
            return {"model.rdk": text.encode()} | {Path(f).name: _content(Path(f)) for f in tables}, "model.rdk"
    return {"model.json": _as_json(model)}, "model.json"


def table_sent(table: pd.DataFrame | str | Path) -> tuple[str, bytes]:
    """Return the name and the content of a table of scenarios."""
    if isinstance(table, (str, Path)):
        return Path(table).name, _content(Path(table))
    numbered = isinstance(table.index, pd.RangeIndex)
    held = table if numbered or "scenario" in table.columns else table.rename_axis("scenario")
    return "scenarios.csv", held.to_csv(index=not numbered).encode()


def _go_by_name(tables: Sequence[str], *others: str) -> bool:
    """Say whether tables are files, and no two of them and the other files have the same name."""
    names = [*(Path(file).name for file in tables), *others]
    return not any(map(is_database, tables)) and len(set(names)) == len(names)


def _tables_of(model: Model) -> list[str]:
    recipe = model._recipe
    return recipe.tables.tables.files if isinstance(recipe, TextRecipe) else []


def _as_json(model: Model) -> bytes:
    return json.dumps(model_document(model), ensure_ascii=False, allow_nan=False).encode()


def _content(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise FormatError(f"cannot be read: {error.strerror}", path=str(path)) from None
