"""Files to models and back; a file's ending says its form."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ruddock.errors import DataError, FormatError
from ruddock.modelling.model import Model

if TYPE_CHECKING:
    from ruddock.formats.tables.given import Given

GRIDS = (".csv", ".tsv", ".xlsx", ".xlsm", ".ods")
GRIDS_WRITTEN = (".csv", ".xlsx", ".ods")
FORMS = ".rdk, .mps, .mps.gz, .csv, .xlsx, .xlsm, .ods, .json"
WRITTEN = ".rdk, .mps, .mps.gz, .csv, .xlsx, .ods, .json"


def read(
    path: str | Path,
    data: Mapping[str, Any] | str | Path | None = None,
    *,
    sheet: str | None = None,
    allow_outside: bool = False,
) -> Model:
    """Read a model from a file; its ending says the form.

    Parameters
    ----------
    path : str or Path
        ``.rdk``; ``.mps`` or ``.mps.gz`` in fixed or free form; a coefficient grid ``.csv``, ``.xlsx``, ``.xlsm`` or
        ``.ods``; ``.json``.
    data : dict, or the path of a folder, optional
        What stands in for the tables of a ``.rdk`` model for this once. By the name of data or of an axis: a file
        (``"storm.csv"``, ``"book.xlsx sheet June column need"``), or numbers and labels themselves, such as a
        frame. Of a folder, its files take the place of files of the same name.
    sheet : str, optional
        Of a workbook that holds several grids.
    allow_outside : bool
        Whether a ``.rdk`` model may name tables outside its folder, links resolved, and databases. Files given in
        ``data`` may be anywhere.

    Raises
    ------
    FormatError
        If the form is not known or the file is not what its ending says; with file, line and column.
    """
    from ruddock.formats.tables.given import Given

    return read_with(Path(path), Given.of(data, allow_outside=allow_outside), sheet)


def read_with(path: Path, given: Given, sheet: str | None = None) -> Model:
    """Read a model with what was given in place of its tables."""
    from ruddock.files import check_regular

    check_regular(path)
    if path.suffix.lower() == ".rdk":
        from ruddock.formats.rdk import read_rdk

        return read_rdk(path, given)
    if given:
        raise FormatError("only a .rdk model has data tables to replace", path=str(path))
    try:
        if _is_mps(path):
            from ruddock.formats.mps.read import read_mps

            return read_mps(path)
        if path.suffix.lower() in GRIDS:
            from ruddock.formats.grid.read import read_grid

            return read_grid(path, sheet)
    except DataError as error:  # of the arrays as a whole
        raise FormatError(str(error), path=str(path)) from None
    if path.suffix.lower() == ".json":
        from ruddock.formats.model_json import read_model_json

        return read_model_json(path)
    raise FormatError(f"the ending {path.suffix or '(none)'!r} is not one that can be read: {FORMS}", path=str(path))


def write(model: Model, path: str | Path) -> None:
    """Write a model to a file; its ending says the form."""
    path = Path(path)
    if _is_mps(path):
        from ruddock.formats.mps.write import write_mps

        write_mps(model, path)
        return
    if path.suffix.lower() == ".rdk":
        from ruddock.formats.rdk.write import write_rdk

        write_rdk(model, path)
        return
    if path.suffix.lower() in GRIDS_WRITTEN:
        from ruddock.formats.grid.write import write_grid

        write_grid(model, path)
        return
    if path.suffix.lower() == ".json":
        from ruddock.formats.model_json import write_model_json

        write_model_json(model, path)
        return
    raise FormatError(
        f"the ending {path.suffix or '(none)'!r} is not one that can be written: {WRITTEN}", path=str(path)
    )


def _is_mps(path: Path) -> bool:
    return "".join(path.suffixes[-2:]).lower().endswith((".mps", ".mps.gz"))
