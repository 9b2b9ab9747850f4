from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from tests.jobs.running import Running


@pytest.fixture(scope="session")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """A service with two workers, for all tests that leave it alive."""
    held = Running(tmp_path_factory.mktemp("service"), "--quick-limit", "120")
    yield held
    assert held.process.poll() is None, held.log.read_text()
    assert held.end() == 0
    assert "Traceback" not in held.log.read_text()


class Server(NamedTuple):
    """A PostgreSQL server of our own."""

    url: str
    control: list[str]
    user: str | None

    def order(self, *words: str) -> None:
        """Have it started, stopped or restarted."""
        quietly([*self.control, *words], self.user)


def quietly(command: list[str], user: str | None) -> None:
    subprocess.run(
        command, check=True, user=user, group=user, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/"
    )


@pytest.fixture(scope="session")
def postgresql(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """A PostgreSQL server, where one is installed."""
    programs = sorted(Path("/usr/lib/postgresql").glob("*/bin")) if Path("/usr/lib/postgresql").exists() else []
    found = shutil.which("initdb")
    if not programs and found is None:
        pytest.skip("PostgreSQL is not installed (Debian: postgresql)")
    place = programs[-1] if programs else Path(str(found)).parent
    folder = tmp_path_factory.mktemp("postgresql")
    user = "postgres" if os.getuid() == 0 else None  # it does not run as root
    if user is not None:
        for path in (folder, *list(folder.parents)[:3]):
            path.chmod(0o755)
        shutil.chown(folder, user)
    quietly([str(place / "initdb"), "-D", str(folder / "data"), "-A", "trust", "-U", "ruddock"], user)
    options = f"-c listen_addresses= -c unix_socket_directories={folder} -c fsync=off"
    control = [str(place / "pg_ctl"), "-D", str(folder / "data"), "-o", options, "-l", str(folder / "log"), "-w"]
    server = Server(f"postgresql+psycopg://ruddock@/postgres?host={folder}", control, user)
    server.order("start")
    try:
        yield server
    finally:
        server.order("stop", "-m", "immediate")
