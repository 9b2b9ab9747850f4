"""The pages of a service: send a model, watch it, read what came of it. Made here, not in the browser."""

from __future__ import annotations

import json
import time
from functools import cache
from importlib.resources import files
from itertools import chain
from threading import BoundedSemaphore
from typing import Annotated, Any
from urllib.parse import urlsplit

import jinja2
from fastapi import APIRouter, Form, Response, UploadFile
from fastapi.requests import Request as HttpRequest
from fastapi.responses import HTMLResponse, JSONResponse, RedirectResponse

from ruddock._version import __version__
from ruddock.document.html import style_sheet
from ruddock.document.numbers import amount
from ruddock.errors import RuddockError
from ruddock.jobs.api import MOST_NUMBER, Number
from ruddock.jobs.front import Front, RefusedHttpError
from ruddock.jobs.records import Job, Request
from ruddock.jobs.settings import MEGABYTE
from ruddock.jobs.uploads import MODELS

COOKIE, TOKEN = "ruddock_jobs", "ruddock_token"
REMEMBERED = 60  # jobs that a browser keeps the keys of
KEEP_COOKIE = 60 * 86_400
CHECK_SECONDS = 20.0  # that a check may take
LOOK_SECONDS = 0.05
MOST_CHECKS = 8  # that are waited for at once
MOST_KEY = 64
WORDS = {
    "waiting": "waiting", "running": "running", "done": "finished", "failed": "failed", "cancelled": "cancelled",
}  # fmt: skip


@cache
def _templates() -> jinja2.Environment:
    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("ruddock.jobs"), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )  # fmt: skip
    environment.filters |= {"duration": duration, "ago": ago, "clock": clock, "size": _size}
    return environment


def duration(seconds: float | None) -> str:
    """Return a time as people say it: ``45 s``, ``3 min 20 s``, ``2 h 5 min``."""
    if seconds is None:
        return ""
    whole = round(seconds)
    if whole < 60:
        return f"{seconds:.1f} s" if seconds < 10 and seconds != whole else f"{whole} s"
    minutes, rest = divmod(whole, 60)
    if minutes < 60:
        return f"{minutes} min {rest} s" if rest else f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes} min" if minutes else f"{hours} h"


def ago(moment: float | None) -> str:
    """Return how long ago a moment was."""
    if moment is None:
        return ""
    seconds = max(0.0, time.time() - moment)
    if seconds < 5:
        return "just now"
    return f"{duration(int(seconds) if seconds < 60 else seconds // 60 * 60)} ago"


def clock(moment: float) -> str:
    """Return when a moment was by the clock of this machine, with the day unless it is today."""
    there = time.localtime(moment)
    today = time.strftime("%Y%m%d", there) == time.strftime("%Y%m%d")
    return time.strftime("%H:%M" if today else "%Y-%m-%d %H:%M", there)


def _size(count: int) -> str:
    return f"{count / MEGABYTE:,.1f} MB" if count >= MEGABYTE else f"{max(1, round(count / 1024)):,} kB"


def _page(name: str, status: int = 200, headers: Any = None, **held: Any) -> HTMLResponse:
    text = _templates().get_template(f"{name}.html.j2").render(version=__version__, **held)
    response = HTMLResponse(text, status, headers)
    response.headers["Cache-Control"] = "private, no-store"
    return response


def refusal(status: int, reason: str, headers: Any = None) -> Response:
    """Return the page that says why something was not done."""
    return _page("refusal", status, headers, reason=reason, asks_token=status == 401)


def facts_of(job: Job) -> list[tuple[str, str, str]]:
    """Return what is to be seen first of a job: name, value, note."""
    now, asked = job.progress, job.request
    facts: list[tuple[str, str, str]] = []
    if job.place is not None:
        facts.append(("Place in line", str(job.place), f"{asked.job_class} jobs"))
    if now.best is not None:
        facts.append(("Best plan so far" if job.open else "Best plan", amount(now.best, now.unit), ""))
    if now.bound is not None and now.gap != 0:
        edge = "no plan is better than this"
        facts.append(("At most" if now.maximize else "At least", amount(now.bound, now.unit), edge))
    if now.gap:
        facts.append(("Gap", f"{now.gap:.2%}", "what could still be gained, at most"))
    if job.started is not None and job.state != "waiting":
        took = (job.ended or time.time()) - job.started
        if not job.open and now.seconds:
            took = now.seconds  # of the solve, without reports
        limit = f"of {duration(asked.time_limit)}" if asked.time_limit is not None else ""
        facts.append(("Time", duration(took), limit if job.open else ""))
    return facts


class _Keys:
    """The keys that a browser keeps, in a cookie that no script and no other site can read."""

    def __init__(self, http: HttpRequest) -> None:
        self.held: dict[int, str] = {}
        for part in http.cookies.get(COOKIE, "").split("~")[:REMEMBERED]:
            number, _, key = part.partition(".")
            if number.isdigit() and int(number) <= MOST_NUMBER and key:
                self.held[int(number)] = key
        self._secure = http.url.scheme == "https"

    def key(self, number: int) -> str:
        return self.held.get(number, "")

    def remember(self, response: Response, number: int, key: str) -> None:
        newest = {number: key} | {n: k for n, k in self.held.items() if n != number}
        text = "~".join(f"{n}.{k}" for n, k in list(newest.items())[:REMEMBERED])
        _set_cookie(response, COOKIE, text, self._secure)


def _set_cookie(response: Response, name: str, value: str, secure: bool) -> None:
    response.set_cookie(name, value, max_age=KEEP_COOKIE, httponly=True, samesite="strict", secure=secure)


def _from_here(http: HttpRequest) -> None:
    """Refuse what another site's page sends in a person's name."""
    origin = http.headers.get("origin")
    other = origin not in (None, "null") and urlsplit(origin).netloc != http.headers.get("host", "")
    if other or http.headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
        raise RefusedHttpError(403, "site", "this request came from another website and was ignored")


def routes(front: Front) -> APIRouter:
    """Return the pages of a service."""
    router = APIRouter()
    waiting = BoundedSemaphore(MOST_CHECKS)

    def client(http: HttpRequest, *, reads: bool = True) -> str:
        if not reads:
            _from_here(http)
        return front.client(http, reads=reads, token=http.cookies.get(TOKEN))

    def own(http: HttpRequest, number: int) -> Job:
        client(http)
        return front.job(number, _Keys(http).key(number))

    @router.get("/")
    def first(http: HttpRequest) -> Response:
        client(http)
        known = []
        for number, key in _Keys(http).held.items():
            try:
                known.append(front.job(number, key))
            except RefusedHttpError:  # it is no longer kept
                continue
        s = front.settings
        return _page(
            "first", jobs=[job for job in known if job.request.kind != "check"], words=WORDS,
            models=MODELS, largest=front.largest, quick=duration(s.quick_seconds), long=duration(s.long_seconds),
            keep=f"{s.keep_days:g} days",
        )  # fmt: skip

    @router.post("/send")
    def send(
        http: HttpRequest,
        files: list[UploadFile] | None = None,
        text: Annotated[str, Form()] = "",
        job_class: Annotated[str, Form()] = "quick",
        time_limit: Annotated[str, Form()] = "",
        gap: Annotated[str, Form()] = "",
        kind: Annotated[str, Form()] = "solve",
    ) -> Response:
        written = [("model.rdk", text.replace("\r\n", "\n").encode())] if text.strip() else []
        sent = chain(((f.filename, f.file.read()) for f in files or [] if f.filename), written)
        checks = kind == "check"
        request = _asked(kind, "quick" if checks else job_class, "20" if checks else time_limit, gap)
        number, key = front.accept(client(http, reads=False), request, sent)
        if checks:
            return _checked(front, number, waiting)
        # the script shows a refusal beside the form, and goes on to the job by itself
        by_script = "application/json" in http.headers.get("accept", "")
        place = f"/jobs/{number}"
        response: Response = JSONResponse({"job": place}, 201) if by_script else RedirectResponse(place, 303)
        _Keys(http).remember(response, number, key)
        return response

    @router.post("/open")
    def open_job(http: HttpRequest, number: Annotated[str, Form()] = "", key: Annotated[str, Form()] = "") -> Response:
        client(http, reads=False)
        if not number.strip().isdigit() or int(number) > MOST_NUMBER or len(key.strip()) > MOST_KEY:
            raise RefusedHttpError(422, "request", "enter the number and the key that were shown when the job was sent")
        front.job(int(number), key.strip())
        response = RedirectResponse(f"/jobs/{int(number)}", 303)
        _Keys(http).remember(response, int(number), key.strip())
        return response

    @router.post("/token")
    def keep_token(http: HttpRequest, token: Annotated[str, Form()] = "") -> Response:
        _from_here(http)
        front.client(http, token=token.strip())
        response = RedirectResponse("/", 303)
        _set_cookie(response, TOKEN, token.strip(), http.url.scheme == "https")
        return response

    @router.get("/jobs/{number}")
    def job(http: HttpRequest, number: Number) -> Response:
        found = own(http, number)
        return _page(
            "job", job=found, facts=facts_of(found), words=WORDS, key=_Keys(http).key(number),
            answer=(front.store.file(number, f"{found.request.kind}.fragment") or b"").decode("utf-8", "replace"),
            report="report.html" in found.files, log=front.store.log(number),
            downloads=found.downloads,
            live=json.dumps(found.progress.points) if found.progress.points else "[]",
        )  # fmt: skip

    @router.get("/jobs/{number}/now")
    def now(http: HttpRequest, number: Number) -> Response:
        found = own(http, number)
        held = found.as_dict() | {"facts": facts_of(found)}
        return JSONResponse(held, headers={"Cache-Control": "no-store"})

    @router.post("/jobs/{number}/stop")
    def stop(http: HttpRequest, number: Number) -> Response:
        client(http, reads=False)
        own(http, number)
        front.store.stop(number)
        return RedirectResponse(f"/jobs/{number}", 303)

    @router.get("/jobs/{number}/files/{name}")
    def file(http: HttpRequest, number: Number, name: str) -> Response:
        own(http, number)
        return front.file(number, name)

    @router.get("/style.css")
    def style() -> Response:
        return Response(style_sheet() + _static("jobs.css"), media_type="text/css", headers=KEPT_FOR_LATER)

    @router.get("/jobs.js")
    def script() -> Response:
        return Response(_static("jobs.js"), media_type="text/javascript", headers=KEPT_FOR_LATER)

    return router


KEPT_FOR_LATER = {"Cache-Control": "max-age=300"}


@cache
def _static(name: str) -> str:
    return files("ruddock.jobs").joinpath("static", name).read_text(encoding="utf-8")


def _asked(kind: str, job_class: str, time_limit: str, gap: str) -> Request:
    """Return the request that a form says."""
    given: dict[str, Any] = {
        "kind": kind,
        "job_class": job_class,
        "reports": ["html", "xlsx"] if kind != "check" else [],
    }
    try:
        if time_limit.strip():
            given["time_limit"] = float(time_limit)
        if gap.strip():
            given["gap"] = float(gap.strip().removesuffix("%")) / 100.0
    except ValueError:
        raise RefusedHttpError(422, "request", "time limit and gap are numbers: seconds and percent") from None
    try:
        return Request.of(given)
    except RuddockError as error:
        raise RefusedHttpError(422, "request", str(error)) from None


def _checked(front: Front, number: int, waiting: BoundedSemaphore) -> Response:
    """Wait for a check, and return what it found as a part of the page."""
    until = time.monotonic() + CHECK_SECONDS
    with waiting:  # so that those who wait leave room for those who ask for something else
        while (found := front.store.job(number)).open and time.monotonic() < until:
            time.sleep(LOOK_SECONDS)
    if found.state == "done":
        return HTMLResponse((front.store.file(number, "check.fragment") or b"").decode())
    if found.state == "failed":
        raise RefusedHttpError(422, "model", found.verdict)
    front.store.stop(number)
    raise RefusedHttpError(
        503, "busy", "all workers are busy and the check did not start in time; try again, or send the job"
    )
