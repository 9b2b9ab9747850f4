"""What pages and programs share: who asks, what is let in, and how a refusal is told."""

from __future__ import annotations

import hmac
from collections.abc import Iterable
from threading import BoundedSemaphore

from fastapi import Response
from fastapi.requests import Request as HttpRequest
from limits import RateLimitItem, parse
from limits.storage import MemoryStorage
from limits.strategies import FixedWindowRateLimiter

from ruddock.jobs.dispatch import Dispatcher
from ruddock.jobs.records import Job, Request
from ruddock.jobs.settings import MEGABYTE, Settings
from ruddock.jobs.store import RESULT, Store, hashed
from ruddock.jobs.uploads import NotTakenError, completed, received

AT_ONCE = 4  # jobs whose files are held in memory while they are taken
STATUS = {"too-large": 413, "too-many": 413}  # else 422
TYPES = {
    ".json": "application/json",
    ".txt": "text/plain; charset=utf-8",
    ".md": "text/markdown; charset=utf-8",
    ".html": "text/html; charset=utf-8",
    ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}
# a report shows what others wrote: it runs nothing, fetches nothing, and belongs to no site
REPORT_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; base-uri 'none'; sandbox allow-popups"


class RefusedHttpError(Exception):
    """Something that is not done; ends as a response with a code and a reason."""

    def __init__(self, status: int, code: str, reason: str, **headers: str) -> None:
        super().__init__(reason)
        self.status, self.code, self.reason, self.headers = status, code, reason, headers


class Front:
    """The doors of a service.

    Parameters
    ----------
    store : Store
    settings : Settings
    dispatcher : Dispatcher, or None where nothing is to be begun from here
    """

    def __init__(self, store: Store, settings: Settings, dispatcher: Dispatcher | None) -> None:
        self.store, self.settings, self.dispatcher = store, settings, dispatcher
        self._unpacking = BoundedSemaphore(AT_ONCE)
        self._limiter = FixedWindowRateLimiter(MemoryStorage())
        self._sends, self._reads = parse(settings.sends), parse(settings.reads)

    def client(
        self, http: HttpRequest, *, reads: bool = False, open_to_all: bool = False, token: str | None = None
    ) -> str:
        """Return who asks, where that is let in.

        Parameters
        ----------
        reads : whether nothing is sent
        open_to_all : whether no token is needed
        token : that a page has kept, where no header gives one

        Raises
        ------
        RefusedHttpError
            If a token is needed and this is none, or the client asks too often.
        """
        host = http.client.host if http.client is not None else "unknown"
        client = host
        if self.settings.tokens and not open_to_all:
            scheme, _, given = http.headers.get("authorization", "").partition(" ")
            own = hashed(given.strip() if scheme.lower() == "bearer" else token or "")
            # each is compared, however early one fits
            if not sum(hmac.compare_digest(own, known) for known in self.settings.tokens):
                self._count(self._sends, "token", host)
                raise RefusedHttpError(
                    401, "token", "this service needs an access token: use --token or RUDDOCK_TOKEN",
                    **{"WWW-Authenticate": "Bearer"},
                )  # fmt: skip
            client = own
        self._count(self._reads if reads else self._sends, "reads" if reads else "sends", client)
        return client[:64]

    def _count(self, limit: RateLimitItem, what: str, client: str) -> None:
        if not self._limiter.hit(limit, what, client):
            seconds = limit.get_expiry()
            raise RefusedHttpError(
                429, "too-often", f"more than {limit.amount:,} requests in {seconds} s; wait and try again",
                **{"Retry-After": str(seconds)},
            )  # fmt: skip

    def accept(self, client: str, request: Request, files: Iterable[tuple[str, bytes]]) -> tuple[int, str]:
        """Take a job, or say why not."""
        s = self.settings
        longest = s.longest(request.job_class)
        if request.time_limit is not None and request.time_limit > longest:
            longer = f"; a long job may run for {s.long_seconds:g} s" if s.long_seconds > longest else ""
            raise RefusedHttpError(
                422,
                "time-limit",
                f"a {request.job_class} job may run for at most {longest:g} s, not {request.time_limit:g} s{longer}",
            )
        every, own = self.store.open_jobs(client)
        if every >= s.waiting or own >= s.each_client:
            whose = "of your " if own >= s.each_client else ""
            count = own if whose else every
            already = f"{count:,} {whose}jobs are already waiting or running; wait until some have finished"
            raise RefusedHttpError(429, "line", already)
        with self._unpacking:
            try:
                sent = received(files, s)
                request = completed(request, sent)
            except NotTakenError as error:
                raise RefusedHttpError(STATUS.get(error.code, 422), error.code, str(error)) from None
            number_and_key = self.store.accept(request, request.model or "problem", client, sent)
        if self.dispatcher is not None:
            self.dispatcher.wake()
        return number_and_key

    def job(self, number: int, key: str) -> Job:
        """Return a job of this key; a number that is not there is told in the same words as a wrong key."""
        try:
            return self.store.job(number, key)
        except KeyError:
            raise RefusedHttpError(403, "key", f"job {number} not found, or the key is wrong") from None

    def file(self, number: int, name: str, role: str = RESULT) -> Response:
        """Return a file of a job to be saved, or shown where it is a report."""
        content = self.store.file(number, name, role)
        if content is None:
            raise RefusedHttpError(404, "file", f"job {number} has no file {name[:60]!r}")
        ending = "." + name.rpartition(".")[2].lower()
        shown = role == RESULT and ending == ".html"
        quoted = name.encode("ascii", "replace").decode().replace("?", "_").replace('"', "_")
        return Response(
            content,
            media_type=TYPES.get(ending, "application/octet-stream") if role == RESULT else "application/octet-stream",
            headers={
                "Content-Disposition": "inline" if shown else f'attachment; filename="{quoted}"',
                "Content-Security-Policy": REPORT_POLICY,
                "Cache-Control": "private, no-store",
            },
        )

    @property
    def largest(self) -> str:
        """What may come with a job, in words."""
        return f"{self.settings.job_bytes / MEGABYTE:,.0f} MB"
