"""Starting a service: workers, application and HTTP server."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import uvicorn
from limits import parse
from platformdirs import user_data_path
from sqlalchemy import make_url

from ruddock.errors import DataError, FormatError
from ruddock.files import locked
from ruddock.jobs.app import application
from ruddock.jobs.cluster import Workers
from ruddock.jobs.settings import MEGABYTE, Settings, sqlite_url
from ruddock.jobs.store import hashed

KEEP_ALIVE = 30
BACKLOG = 512
LEAST_TOKEN = 16


def read_tokens(path: Path) -> frozenset[str]:
    """Return what is kept of the tokens in a file, one a line.

    Raises
    ------
    FormatError
        If the file cannot be read, holds none, or one that could be guessed.
    """
    try:
        lines = path.read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise FormatError(f"cannot be read: {error}", path=str(path)) from None
    tokens = [line.strip() for line in lines if line.strip() and not line.startswith("#")]
    if not tokens:
        raise FormatError("no tokens in this file; write one per line", path=str(path))
    short = [number for number, line in enumerate(lines, 1) if 0 < len(line.strip()) < LEAST_TOKEN and line[0] != "#"]
    if short:
        raise FormatError(f"a token needs at least {LEAST_TOKEN} characters", path=str(path), line=short[0])
    return frozenset(map(hashed, tokens))


def default_store() -> str:
    """Return the URL of the store of this machine's user."""
    return sqlite_url(user_data_path("ruddock", appauthor=False, ensure_exists=True) / "jobs.db")


def settings_of(
    *, store: str, workers: int | None, quick_limit: float, long_limit: float, largest: float, sends: str, **given: Any
) -> Settings:
    """Return the settings that a command line says.

    Raises
    ------
    DataError
        If one of them cannot be.
    """
    try:
        parse(sends)
    except ValueError:
        raise DataError(f"--rate {sends}: write a count and a period, such as 60/minute") from None
    if "://" not in store:
        store = sqlite_url(Path(store))
    return Settings(
        store=store,
        workers=workers or os.cpu_count() or 1,
        quick_seconds=quick_limit,
        long_seconds=long_limit,
        job_bytes=int(largest * MEGABYTE),
        unpacked_bytes=int(4 * largest * MEGABYTE),
        sends=sends,
        **given,
    )


def serve(settings: Settings, host: str, port: int, ready: Callable[[str], None] = lambda address: None) -> None:
    """Run a service until it is interrupted.

    Parameters
    ----------
    ready : given the address, once jobs are taken there

    Raises
    ------
    DataError
        If the address is taken, another service has the store, or the scheduler does not answer.
    """
    listener = _bound(host, port)
    with contextlib.closing(listener), _alone(settings.store):
        signal.signal(signal.SIGTERM, signal.default_int_handler)  # so that either signal ends the workers, too
        workers = _workers(settings)
        try:
            app = application(settings, workers)
            config = uvicorn.Config(
                app, log_level="warning", timeout_keep_alive=KEEP_ALIVE, server_header=False, date_header=True
            )
            server = uvicorn.Server(config)
            shown = f"[{host}]" if ":" in host else host
            listener.listen(BACKLOG)
            ready(f"http://{shown}:{listener.getsockname()[1]}")
            server.run(sockets=[listener])
        finally:
            workers.close()


@contextlib.contextmanager
def _alone(store: str) -> Iterator[None]:
    """Keep a store in a file for one service: what runs in it at the start was left behind."""
    path = make_url(store).database if store.startswith("sqlite") else None
    if path is None:
        yield
        return
    try:
        Path(path).parent.mkdir(parents=True, exist_ok=True)
        file = open(f"{path}.lock", "a+", encoding="utf-8")  # noqa: SIM115 - closed below
        os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600))  # models and answers are nobody else's
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=path) from None
    with file:
        if not locked(file):
            raise DataError(f"another service is using {path}: stop it, or choose another --store")
        yield


def _workers(settings: Settings) -> Workers:
    try:
        return Workers(settings.scheduler, settings.workers)
    except (OSError, TimeoutError, ValueError) as error:
        raise DataError(f"the scheduler {settings.scheduler} is not responding: {error}") from None


def _bound(host: str, port: int) -> socket.socket:
    """Return a socket that holds the address from now on, so that a taken one is told before anything starts."""
    listener = None
    try:
        family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        listener = socket.socket(family, kind, protocol)
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listener.bind(address)
    except OSError as error:
        if listener is not None:
            listener.close()
        raise DataError(f"cannot listen on {host}:{port}: {error.strerror or error}; try another --port") from None
    return listener
