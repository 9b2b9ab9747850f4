"""The HTTP front for programs: jobs by number and key. OpenAPI describes it at ``/openapi.json``."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Header, Path, Response, UploadFile
from fastapi.requests import Request as HttpRequest
from pydantic import BaseModel, Field

from ruddock.errors import RuddockError
from ruddock.jobs.front import Front, RefusedHttpError
from ruddock.jobs.records import KINDS, REPORTS, STATES, Job, Request
from ruddock.jobs.uploads import MODELS

MOST_NUMBER = 2**31 - 1
Number = Annotated[int, Path(ge=1, le=MOST_NUMBER)]
Key = Annotated[str, Header(alias="Job-Key", description="the key that came with the job's number")]


class Refusal(BaseModel):
    """Why something was not done."""

    code: str = Field(description="a word for programs")
    reason: str = Field(description="in a sentence")


class Accepted(BaseModel):
    """A job that was taken: what to ask for it with."""

    number: int
    key: str = Field(description="shown this once; the service keeps none")
    place: int | None = Field(description="in the line")


class ProgressView(BaseModel):
    """How far a job is; numbers of the first objective as written, null where they are not known."""

    seconds: float
    nodes: int
    best: float | None
    bound: float | None
    gap: float | None
    maximize: bool | None
    unit: str | None
    said: str
    points: list[tuple[float, float | None, float | None]]


class JobView(BaseModel):
    """A job, format ``ruddock-job/1``."""

    format: str
    number: int
    kind: str = Field(json_schema_extra={"enum": list(KINDS)})
    job_class: str
    model: str = Field(description="its title, or its file's name until it is read")
    state: str = Field(json_schema_extra={"enum": list(STATES)})
    attempt: int
    stop_asked: bool
    created: float = Field(description="seconds since 1970")
    started: float | None
    ended: float | None
    time_limit: float | None
    verdict: str
    status: str | None
    reason: str | None
    place: int | None = Field(description="of a waiting job: its place in the line, from 1")
    progress: ProgressView
    files: dict[str, int] = Field(description="what can be fetched, with sizes in bytes")


class Moment(BaseModel):
    """What happened to a job, and when, in seconds since 1970."""

    at: float
    words: str


class LimitsView(BaseModel):
    """What the service allows."""

    quick_seconds: float
    long_seconds: float
    job_bytes: int
    files: int
    decisions: int
    keep_days: float
    reports: list[str]
    models: list[str]
    closed: bool = Field(description="whether a token is needed")


REFUSALS: dict[int | str, dict[str, Any]] = {
    status: {"model": Refusal, "description": words}
    for status, words in (
        (400, "The request cannot be read."),
        (401, "A token is needed."),
        (403, "Job not found, or wrong key."),
        (404, "Not found."),
        (413, "Too large."),
        (422, "Not accepted; the reason is given."),
        (429, "Too many requests or jobs."),
        (503, "The job store is not responding."),
        (507, "The job store is full."),
    )
}


FILE: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}, "description": "The file."}}


def routes(front: Front) -> APIRouter:
    """Return the routes of a service."""
    router = APIRouter(prefix="/api", responses=REFUSALS)

    def own(http: HttpRequest, number: int, key: str) -> Job:
        front.client(http, reads=True)
        return front.job(number, key)

    @router.get("/limits", summary="Limits of the service")
    def limits(http: HttpRequest) -> LimitsView:
        front.client(http, reads=True, open_to_all=True)
        s = front.settings
        return LimitsView(
            quick_seconds=s.quick_seconds, long_seconds=s.long_seconds, job_bytes=s.job_bytes, files=s.files,
            decisions=s.decisions, keep_days=s.keep_days, reports=list(REPORTS), models=list(MODELS),
            closed=bool(s.tokens),
        )  # fmt: skip

    @router.post("/jobs", status_code=201, summary="Send a job")
    def send(
        http: HttpRequest,
        files: Annotated[list[UploadFile], File(description="the model and the tables it reads, or a .zip of them")],
        request: Annotated[str, Form(description="what is asked for, as JSON; all of it may be left out")] = "{}",
    ) -> Accepted:
        client = front.client(http)
        try:
            asked = Request.of(json.loads(request))
        except (ValueError, RecursionError) as error:
            raise RefusedHttpError(400, "request", f"the request is no JSON: {error}") from None
        except RuddockError as error:
            raise RefusedHttpError(422, "request", str(error)) from None
        number, key = front.accept(client, asked, ((file.filename or "", file.file.read()) for file in files))
        return Accepted(number=number, key=key, place=front.store.job(number).place)

    @router.get("/jobs/{number}", summary="State of a job")
    def job(http: HttpRequest, number: Number, key: Key) -> JobView:
        return JobView(**own(http, number, key).as_dict())

    @router.post("/jobs/{number}/stop", status_code=202, summary="Stop a job and keep its best plan")
    def stop(http: HttpRequest, number: Number, key: Key) -> JobView:
        own(http, number, key)
        front.store.stop(number)
        return JobView(**front.store.job(number).as_dict())

    @router.get("/jobs/{number}/log", summary="History of a job")
    def log(http: HttpRequest, number: Number, key: Key) -> list[Moment]:
        own(http, number, key)
        return [Moment(at=at, words=words) for at, words in front.store.log(number)]

    @router.get(
        "/jobs/{number}/files/{name}",
        summary="A result file",
        response_class=Response,
        responses=FILE,
    )
    def file(http: HttpRequest, number: Number, name: str, key: Key) -> Response:
        own(http, number, key)
        return front.file(number, name)

    @router.get(
        "/jobs/{number}/sent/{name}",
        summary="A file as it was sent",
        response_class=Response,
        responses=FILE,
    )
    def sent(http: HttpRequest, number: Number, name: str, key: Key) -> Response:
        own(http, number, key)
        return front.file(number, name, "sent")

    return router
