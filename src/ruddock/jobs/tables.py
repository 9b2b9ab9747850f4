"""The tables of the store, and the connection to its database: SQLite or PostgreSQL, through SQLAlchemy."""

from __future__ import annotations

from functools import partial
from typing import Any

from sqlalchemy import (
    Boolean,
    Column,
    Engine,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    create_engine,
    event,
)
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError
from sqlalchemy.pool import NullPool

from ruddock.errors import DataError

POOL = 25  # connections that stay open, and as many more for a moment
BUSY_SECONDS = 30  # that a write waits for another one to end

_compiled: dict[Any, Any] = {}  # statements, of which there are few; a process that forks has them ready
metadata = MetaData()

jobs = Table(
    "ruddock_jobs",
    metadata,
    Column("number", Integer, primary_key=True, autoincrement=True),
    Column("key_hash", String(64), nullable=False),
    Column("client", String(64), nullable=False),
    Column("request", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("job_class", String(16), nullable=False),
    Column("state", String(16), nullable=False),
    Column("attempt", Integer, nullable=False, default=0),
    Column("deaths", Integer, nullable=False, default=0),  # of its own process
    Column("beat", Integer, nullable=False, default=0),  # goes up while a process works on it
    Column("stop_asked", Boolean, nullable=False, default=False),
    Column("created", Float, nullable=False),
    Column("started", Float),
    Column("ended", Float),
    Column("verdict", Text, nullable=False, default=""),
    Column("status", String(16)),
    Column("reason", String(16)),
    Column("progress", Text, nullable=False, default="{}"),
    Index("ruddock_jobs_line", "state", "job_class", "created"),
    sqlite_autoincrement=True,  # a number is never given twice
)

files = Table(
    "ruddock_files",
    metadata,
    Column("number", Integer, ForeignKey("ruddock_jobs.number", ondelete="CASCADE"), primary_key=True),
    Column("role", String(8), primary_key=True),  # sent, kept or result
    Column("name", String(255), primary_key=True),
    Column("size", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
)

log = Table(
    "ruddock_log",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=True),
    Column("number", Integer, ForeignKey("ruddock_jobs.number", ondelete="CASCADE"), nullable=False, index=True),
    Column("at", Float, nullable=False),
    Column("words", Text, nullable=False),
)


def connected(url: str, *, pooled: bool = True, durable: bool = True) -> Engine:
    """Return an engine for a database.

    Parameters
    ----------
    pooled : bool
        Whether connections stay open between uses; not in a process that forks.
    durable : bool
        Whether what SQLite has taken outlasts a loss of power, too; what a job notes while it works need not.

    Raises
    ------
    DataError
        If the URL is none of a database that can hold jobs, or its driver is not installed.
    """
    try:
        parsed = make_url(url)
    except ArgumentError:
        raise DataError(f"--store {url}: write sqlite:///FILE or postgresql://USER@HOST/NAME") from None
    if parsed.drivername == "postgresql":
        parsed = parsed.set(drivername="postgresql+psycopg")
    if parsed.get_backend_name() not in ("sqlite", "postgresql"):
        raise DataError(f"--store: jobs are kept in SQLite or PostgreSQL, not in {parsed.get_backend_name()}")
    options: dict[str, Any] = (
        {"pool_pre_ping": True, "pool_size": POOL, "max_overflow": POOL} if pooled else {"poolclass": NullPool}
    )
    options["execution_options"] = {"compiled_cache": _compiled}
    sqlite = parsed.get_backend_name() == "sqlite"
    if sqlite:
        options["connect_args"] = {"timeout": BUSY_SECONDS, "check_same_thread": False}
    try:
        engine = create_engine(parsed, **options)
    except ImportError:
        raise DataError('jobs in PostgreSQL need its driver: pip install "psycopg[binary]"') from None
    if sqlite:
        event.listen(engine, "connect", partial(_begin_sqlite, "FULL" if durable else "NORMAL"))
        event.listen(engine, "begin", _begin_transaction)
    return engine


def _begin_sqlite(synchronous: str, connection: Any, _: Any) -> None:
    connection.isolation_level = None  # transactions are begun below, and not by the driver
    cursor = connection.cursor()
    for pragma in ("journal_mode=WAL", f"synchronous={synchronous}", "foreign_keys=ON"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _begin_transaction(connection: Any) -> None:
    """Begin a transaction that writes as one, so that it waits for another one instead of failing half-way."""
    writes = connection.get_execution_options().get("writes", False)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")
