"""Tables of databases and Parquet files."""

from __future__ import annotations

from collections.abc import Callable
from importlib.util import find_spec
from pathlib import Path

import pandas as pd

from ruddock.errors import FormatError, known, listed
from ruddock.files import check_regular
from ruddock.formats.tables.sheets import MOST_CELLS, FrameSheet
from ruddock.formats.tables.sources import PASSWORD

CELLS_A_BYTE = 100  # of a Parquet file: columns of one value take next to nothing
STEPS, STEPS_A_BYTE, AT_ONCE = 20_000_000, 100, 100_000  # of SQLite, in a query


def read_parquet(path: Path) -> FrameSheet:
    """Read a Parquet file.

    Raises
    ------
    FormatError
        If it is none, or the package that reads it is not installed.
    """
    if find_spec("pyarrow") is None:
        raise FormatError('reading Parquet needs pyarrow: pip install "ruddock[parquet]"', path=str(path))
    check_regular(path)
    try:
        from pyarrow import parquet

        with parquet.ParquetFile(path) as file:
            cells = file.metadata.num_rows * file.metadata.num_columns
        if cells > max(MOST_CELLS, CELLS_A_BYTE * path.stat().st_size):
            raise FormatError(f"unpacks to {cells:,} cells, as no table of this size does", path=str(path))
        frame = pd.read_parquet(path, engine="pyarrow")
    except FormatError:
        raise
    except Exception as error:  # what pyarrow raises at a damaged file
        raise FormatError(f"cannot be read: {str(error).splitlines()[0]}", path=str(path)) from None
    held = [name for name in frame.index.names if name is not None]
    return FrameSheet(str(path), frame.reset_index() if held else frame)


def read_sqlite(path: Path, table: str | None) -> FrameSheet:
    """Read a table of a SQLite file, which is not written to."""
    import sqlite3

    check_regular(path)
    steps = STEPS + STEPS_A_BYTE * path.stat().st_size
    connection = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
    try:
        connection.set_progress_handler(_counting(steps // AT_ONCE), AT_ONCE)
        names = [
            row[0]
            for row in connection.execute(
                "select name from sqlite_master where type in ('table', 'view') and name not like 'sqlite_%'"
            )
        ]
        name = _chosen(table, names, str(path))
        quoted = '"' + name.replace('"', '""') + '"'
        frame = pd.read_sql_query(f"select * from {quoted}", connection)
    except (sqlite3.Error, pd.errors.DatabaseError, ValueError, OverflowError) as error:
        said = str(error).splitlines()[0]
        raise FormatError(f"cannot be read as a SQLite database: {said}", path=str(path)) from None
    finally:
        connection.close()
    return FrameSheet(f"{path}, table {name}", frame)


def _counting(most: int) -> Callable[[], int]:
    """Return what SQLite asks now and then; after ``most`` times it ends a query, such as a view that never ends."""
    asked = 0

    def ended() -> int:
        nonlocal asked
        asked += 1
        return int(asked > most)

    return ended


def read_database(url: str, table: str | None) -> FrameSheet:
    """Read a table of any database that SQLAlchemy knows, by its URL."""
    safe = PASSWORD.sub("//", url)
    if find_spec("sqlalchemy") is None:
        raise FormatError('reading a database by its URL needs SQLAlchemy: pip install "ruddock[sql]"', path=safe)
    import sqlalchemy

    try:
        engine = sqlalchemy.create_engine(url)
        names = sqlalchemy.inspect(engine).get_table_names() + sqlalchemy.inspect(engine).get_view_names()
        schema, _, own = (table or "").rpartition(".")
        name = own if schema else _chosen(table, names, safe)
        with engine.connect() as connection:
            frame = pd.read_sql_table(name, connection, schema=schema or None)
    except (sqlalchemy.exc.SQLAlchemyError, ImportError, ValueError) as error:
        raise FormatError(f"cannot be read: {str(error).splitlines()[0]}", path=safe) from None
    return FrameSheet(f"{safe}, table {name}", frame)


def _chosen(table: str | None, names: list[str], path: str) -> str:
    """Return the table asked for, or the only one."""
    if table is None:
        if len(names) == 1:
            return names[0]
        raise FormatError(
            f"which table? There are {listed(names) or 'none'}: write table NAME after the file", path=path
        )
    same = [name for name in names if name == table] or [name for name in names if name.casefold() == table.casefold()]
    if len(same) != 1:
        raise FormatError(f"table {table!r} not found; {known(table, names)}", path=path)
    return same[0]
