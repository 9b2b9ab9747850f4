"""The application: API and pages, bounds on what comes in, and refusals in one form."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

from fastapi import FastAPI, Response
from fastapi.exceptions import RequestValidationError
from fastapi.requests import Request as HttpRequest
from fastapi.responses import JSONResponse
from starlette.datastructures import MutableHeaders
from starlette.exceptions import HTTPException
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ruddock._version import __version__
from ruddock.jobs import api, pages
from ruddock.jobs.cluster import Workers
from ruddock.jobs.dispatch import Dispatcher
from ruddock.jobs.front import Front, RefusedHttpError
from ruddock.jobs.settings import MEGABYTE, Settings
from ruddock.jobs.store import Store, StoreError

ROOM = 2**16  # bytes of a request beside its files
HEADERS = {
    "Content-Security-Policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; "
        "form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}


def application(settings: Settings, workers: Workers | None = None) -> FastAPI:
    """Return the application of a service.

    Parameters
    ----------
    settings : Settings
    workers : Workers, optional
        What does the jobs; without them, jobs are taken and wait.
    """
    store = Store(settings.store, durable=True, aging_seconds=settings.aging_seconds)
    store.prepare()
    line = Store(settings.store, aging_seconds=settings.aging_seconds)
    dispatcher = None if workers is None else Dispatcher(line, workers, settings)
    front = Front(store, settings, dispatcher)

    @asynccontextmanager
    async def life(_: FastAPI) -> AsyncIterator[None]:
        if dispatcher is not None:
            dispatcher.start()
        yield
        if dispatcher is not None:
            dispatcher.close()
        line.close()
        store.close()

    app = FastAPI(
        title="Ruddock jobs",
        summary="Send models, solve them in line, fetch the plans later.",
        version=__version__,
        docs_url=None,
        redoc_url=None,
        lifespan=life,
    )
    app.state.front = front
    app.include_router(api.routes(front))
    app.include_router(pages.routes(front), include_in_schema=False)
    app.add_middleware(Bounded, most=settings.job_bytes + ROOM)
    _tell_refusals(app)

    app.add_middleware(Secure)
    return app


class Secure:
    """Adds the headers that keep pages safe to every response that has none of its own."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on, and its response back."""

        async def headed(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
            await send(message)

        await self.app(scope, receive, headed)


class Bounded:
    """Refuses a request as soon as more of it comes than may, whatever it says of its length."""

    def __init__(self, app: ASGIApp, most: int) -> None:
        self.app, self.most = app, most

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on, counting what comes."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        reason = f"larger than the {self.most / MEGABYTE:,.0f} MB allowed for one job"
        said = dict(scope["headers"]).get(b"content-length", b"")
        if said.isdigit() and int(said) > self.most:
            await JSONResponse({"code": "too-large", "reason": reason}, 413)(scope, receive, send)
            return
        came = 0

        async def counted() -> Message:
            nonlocal came
            message = await receive()
            came += len(message.get("body", b""))
            if came > self.most:
                raise HTTPException(413, reason)
            return message

        await self.app(scope, counted, send)


def _tell_refusals(app: FastAPI) -> None:
    """Give every refusal one form: a code and a reason for programs, a page for people."""

    def told(http: HttpRequest, status: int, code: str, reason: str, headers: Any = None) -> Response:
        if http.url.path.startswith("/api/"):
            return JSONResponse({"code": code, "reason": reason}, status, headers)
        return pages.refusal(status, reason, headers)

    @app.exception_handler(RefusedHttpError)
    def refused(http: HttpRequest, error: RefusedHttpError) -> Response:
        return told(http, error.status, error.code, error.reason, error.headers)

    @app.exception_handler(StoreError)
    def no_store(http: HttpRequest, error: StoreError) -> Response:
        full = "full" in str(error)
        return told(http, 507 if full else 503, "store", str(error))

    @app.exception_handler(RequestValidationError)
    def invalid(http: HttpRequest, error: RequestValidationError) -> Response:
        parts = [f"{'.'.join(map(str, e['loc'][1:]))}: {e['msg']}" for e in error.errors()]
        return told(http, 422, "request", "; ".join(parts) or "the request cannot be read")

    @app.exception_handler(HTTPException)
    def other(http: HttpRequest, error: HTTPException) -> Response:
        code = "too-large" if error.status_code == 413 else "request"
        return told(http, error.status_code, code, str(error.detail), error.headers)
