"""Jobs sent away to a machine that stays on: the HTTP front, the store of jobs, the workers, and the client."""

from __future__ import annotations

from importlib.util import find_spec
from typing import TYPE_CHECKING, Any

from ruddock.errors import RuddockError

if TYPE_CHECKING:
    from ruddock.jobs.client import Service
else:  # imported with the packages that it needs, when a service is asked for
    Service = Any


def need(*packages: str) -> None:
    """Raise an error that says what to install, unless all packages are there."""
    if any(find_spec(package) is None for package in packages):
        raise RuddockError('jobs need additional packages: pip install "ruddock[service]"')


def service(url: str | None = None, token: str | None = None) -> Service:
    """Return a service that solves models on another machine.

    Parameters
    ----------
    url : str, optional
        Where it is; by default what RUDDOCK_SERVICE says, else this machine.
    token : str, optional
        Of a closed service; by default what RUDDOCK_TOKEN says.

    Raises
    ------
    RuddockError
        If the packages for it are not installed.

    Examples
    --------
    >>> import ruddock as rk
    >>> job = rk.service("http://127.0.0.1:8765").send(model, time_limit=60)  # doctest: +SKIP
    >>> plan = job.plan()  # doctest: +SKIP
    """
    need("httpx")
    from ruddock.jobs.client import Service

    return Service(url, token)
