"""A model file and the tables that it reads, packed to be sent: by name, without paths."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ruddock.errors import FormatError
from ruddock.formats import read_with
from ruddock.formats.model_json import model_document
from ruddock.formats.rdk.read import TextRecipe
from ruddock.formats.tables.given import Given
from ruddock.formats.tables.sources import TableSource, is_database
from ruddock.jobs.client import Parcel
from ruddock.jobs.records import Request


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
    recipe = model._recipe
    tables = recipe.tables.tables.files if isinstance(recipe, TextRecipe) else []
    names = [path.name, *(Path(file).name for file in tables), *files]
    frames = any(not isinstance(held, TableSource) for held in given.named.values())
    if frames or any(map(is_database, tables)) or len(set(names)) < len(names):
        text = json.dumps(model_document(model), ensure_ascii=False, allow_nan=False)
        files[f"{path.stem}.json"] = text.encode()
        return Parcel(Request.of({**asked, "model": f"{path.stem}.json", "sheet": None}), files)
    files |= {path.name: _content(path), **{Path(file).name: _content(Path(file)) for file in tables}}
    data = {name: held._replace(file=Path(held.file).name).written for name, held in given.named.items()}
    return Parcel(Request.of({**asked, "model": path.name, "data": data}), files)


def _content(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise FormatError(f"cannot be read: {error.strerror}", path=str(path)) from None
