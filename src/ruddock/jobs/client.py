"""The client: jobs sent to a service, asked about, stopped, and fetched as plans."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any

import httpx

from ruddock.errors import FormatError, ModelError, NoPlanError, RuddockError
from ruddock.files import written_whole
from ruddock.insight.scenarios import Answer, Task, work
from ruddock.jobs.parcel import Parcel, model_sent, table_sent
from ruddock.jobs.records import Job, Request
from ruddock.jobs.wire import ARRAYS, OUTCOME, outcome_unpacked, plan_of, problems_packed

if TYPE_CHECKING:
    import pandas as pd

    from ruddock.modelling.model import Model
    from ruddock.modelling.plan import Plan

DEFAULT = "http://127.0.0.1:8765"
ADDRESS, TOKEN = "RUDDOCK_SERVICE", "RUDDOCK_TOKEN"
TIMEOUT = 60.0
LOOKS = (0.02, 1.0)  # the first and the longest time between two looks at a job, in seconds
TRIES = 5  # at a service that does not answer
AT_ONCE = 8  # jobs that an executor has on their way


class RefusedError(RuddockError):
    """A service did not do what it was asked for; the message says why.

    Attributes
    ----------
    code : a word for programs, such as ``too-large``
    """

    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code


class Service(Executor):
    """A service that solves models; `ruddock.service` returns one.

    It can be the ``executor=`` of `Model.scenarios`: each scenario is a job then.

    Raises
    ------
    RefusedError
        By every method: if the service refuses, or does not answer.
    """

    def __init__(self, url: str | None = None, token: str | None = None) -> None:
        self.url = (url or os.environ.get(ADDRESS) or DEFAULT).rstrip("/")
        token = token or os.environ.get(TOKEN)
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        try:
            self._http = httpx.Client(base_url=self.url, timeout=TIMEOUT, headers=headers, trust_env=False)
        except (httpx.InvalidURL, ValueError) as error:
            raise ModelError(f"{self.url} is not the address of a service: {error}") from None
        self._pool: ThreadPoolExecutor | None = None

    def __repr__(self) -> str:
        return f"<Service {self.url}>"

    # ------------------------------------------------------------------ sending

    def send(
        self, model: Model, *, kind: str = "solve", table: pd.DataFrame | str | Path | None = None, **asked: Any
    ) -> SentJob:
        """Send a model away.

        Parameters
        ----------
        model : Model
        kind : ``solve``, ``diagnose``, ``check`` or ``scenarios``
        table : of scenarios: a frame, or a file of one
        **asked
            ``job_class`` (``quick`` or ``long``), ``time_limit``, ``gap``, ``method``, ``presolve``, ``cores``,
            ``give``, ``each_time_limit``, ``reports`` (of ``html``, ``xlsx``, ``md``).

        Raises
        ------
        ModelError
            If something that is asked for is unknown.

        Notes
        -----
        Scenarios that change data need a model that was read from ``.rdk``, which goes with its tables. Those of a
        model made in Python are worked out here: ``model.scenarios(table, executor=service)``.
        """
        files, named = model_sent(model, with_data=kind == "scenarios")
        if table is not None:
            name, content = table_sent(table)
            files[name], asked["table"] = content, name
        give = {name: str(value) for name, value in (asked.pop("give", None) or {}).items()}
        request = Request.of({"kind": kind, "model": named, "give": give, **asked})
        job = self.send_parcel(Parcel(request, files))
        job.model = model
        return job

    def send_parcel(self, parcel: Parcel) -> SentJob:
        """Send files with what is asked for."""
        files = [("files", (name, content)) for name, content in parcel.files.items()]
        answer = self.ask("POST", "/api/jobs", files=files, data={"request": json.dumps(parcel.request.as_dict())})
        held = answer.json()
        return SentJob(self, int(held["number"]), str(held["key"]))

    def job(self, number: int, key: str) -> SentJob:
        """Return a job that was sent before, by its number and key."""
        return SentJob(self, number, key)

    def limits(self) -> dict[str, Any]:
        """Return what the service allows."""
        return dict(self.ask("GET", "/api/limits").json())

    def ask(self, method: str, path: str, *, key: str | None = None, **sent: Any) -> httpx.Response:
        """Ask the service; what it refuses is an error, and what does not answer is asked again, if nothing is sent."""
        headers = {"Job-Key": key} if key is not None else None
        for attempt in range(TRIES):
            try:
                response = self._http.request(method, path, headers=headers, **sent)
                break
            except httpx.TransportError as error:
                if method != "GET" or attempt == TRIES - 1:
                    raise RefusedError(
                        "unreachable", f"no answer from {self.url} ({error or type(error).__name__})"
                    ) from None
                time.sleep(0.3 * 2**attempt)
        if response.is_success:
            return response
        try:
            held = response.json()
            code, reason = str(held["code"]), str(held["reason"])
        except (ValueError, KeyError, TypeError):
            code, reason = (
                "unknown",
                f"{self.url} is not a Ruddock service, or a different version (HTTP {response.status_code})",
            )
        raise RefusedError(code, reason)

    # ------------------------------------------------------------------ as an executor

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> Future[Any]:
        """Have one scenario solved; nothing but arrays is sent, so that other functions are refused."""
        if fn is not work or len(args) != 1 or kwargs or not isinstance(args[0], Task):
            raise ModelError(
                "a service solves models and scenarios, not arbitrary functions: use model.scenarios(executor=service)"
            )
        if self._pool is None:
            self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="ruddock-service")
        return self._pool.submit(self._solved, args[0])

    def _solved(self, task: Task) -> Answer:
        content = problems_packed(task.problems, task.gives, task.options)
        limit = None if task.seconds == float("inf") else max(task.seconds, 1e-3)
        request = Request(kind="arrays", time_limit=limit, gap=task.gap, reports=())
        job = self.send_parcel(Parcel(request, {ARRAYS: content}))
        job.wait()
        outcome, stages, _, seconds = outcome_unpacked(job.file(OUTCOME))
        return Answer(outcome, stages, seconds)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Give connections back; jobs that were sent go on."""
        if self._pool is not None:
            self._pool.shutdown(wait, cancel_futures=cancel_futures)
        self._http.close()


class SentJob:
    """A job at a service.

    Attributes
    ----------
    service : Service
    number : int
    key : str
        Whoever has it can ask for the job, stop it and fetch what came of it.
    model : Model or None
        That was sent, where it was sent from here.
    """

    def __init__(self, service: Service, number: int, key: str) -> None:
        self.service, self.number, self.key = service, number, key
        self.model: Model | None = None

    def __repr__(self) -> str:
        return f"<job {self.number} at {self.service.url}>"

    def _ask(self, method: str, path: str = "") -> httpx.Response:
        return self.service.ask(method, f"/api/jobs/{self.number}{path}", key=self.key)

    def status(self) -> Job:
        """Return how far the job is."""
        return Job.of(self._ask("GET").json())

    def progress(self) -> Iterator[Job]:
        """Yield how far the job is, each time that something is new, until it has ended."""
        pause, last = LOOKS[0], None
        while True:
            job = self.status()
            if job != last:
                yield job
                last = job
            if not job.open:
                return
            time.sleep(pause)
            pause = min(LOOKS[1], 1.5 * pause)

    def wait(self) -> Job:
        """Wait until the job has ended.

        Raises
        ------
        NoPlanError
            If it failed or was cancelled; the message says why.
        """
        *_, last = self.progress()
        if last.state != "done":
            raise NoPlanError(f"job {self.number}: {last.verdict}")
        return last

    def stop(self) -> None:
        """Ask the job to end with what it has."""
        self._ask("POST", "/stop")

    def log(self) -> list[tuple[float, str]]:
        """Return what happened to it: seconds since 1970, and words."""
        return [(moment["at"], moment["words"]) for moment in self._ask("GET", "/log").json()]

    def file(self, name: str) -> bytes:
        """Return a file of the results."""
        return self._ask("GET", f"/files/{name}").content

    def plan(self) -> Plan:
        """Wait until the job has an answer, and return its plan: the same as solving here gives.

        Raises
        ------
        NoPlanError
            If it failed or was cancelled.
        FormatError
            If what came back is not an answer to its model.
        """
        model = self._own_model()
        for found in self.progress():
            if OUTCOME in found.files:  # it need not wait for its reports
                break
        else:
            self.wait()
        return plan_of(model, self.file(OUTCOME))

    def _own_model(self) -> Model:
        if self.model is None:
            raise ModelError("this job was sent from elsewhere: use fetch() for its files, or set job.model first")
        return self.model

    def fetch(self, folder: str | Path) -> list[Path]:
        """Write all files of the results to a folder; return their paths.

        Raises
        ------
        FormatError
            If one cannot be written.
        """
        target = Path(folder)
        try:
            target.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise FormatError(f"cannot be made: {error.strerror}", path=str(target)) from None
        paths = []
        for name in self.status().downloads:
            path = target / Path(name).name
            content = self.file(name)
            with written_whole(path) as temporary:
                temporary.write_bytes(content)
            paths.append(path)
        return paths
