"""What is known of a job: what was asked for, and how far it is."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field, fields
from math import isfinite
from typing import Any, Literal, get_args

from ruddock.engine.outcome import Method
from ruddock.errors import ModelError, known
from ruddock.jobs.settings import CLASSES, QUICK

Kind = Literal["solve", "check", "diagnose", "scenarios", "arrays"]
State = Literal["waiting", "running", "done", "failed", "cancelled"]
KINDS: tuple[str, ...] = get_args(Kind)
STATES: tuple[str, ...] = get_args(State)
MOST_DEATHS = 4  # of a job's own process
MOST_ATTEMPTS = 20  # whatever ended those before
OPEN = ("waiting", "running")
REPORTS = ("html", "xlsx", "md")


@dataclass(frozen=True)
class Request:
    """What a client asks for.

    Attributes
    ----------
    kind : ``solve``, ``check``, ``diagnose``, ``scenarios``, or ``arrays``: a problem without names, for programs
    model : the file, of those that came with it, that holds the model
    data : what stands in for tables of the model, by name, such as ``{"need": "storm.csv"}``
    sheet : of a workbook that holds several grids
    job_class : ``quick`` or ``long``
    time_limit : seconds; None is the longest that the class allows
    gap, method, presolve, cores, give : as of `Model.solve`
    reports : forms of the report, of html, xlsx and md
    table : of scenarios, the file that lists them
    each_time_limit : of scenarios, seconds for each
    """

    kind: str = "solve"
    model: str = ""
    data: dict[str, str] = field(default_factory=dict)
    sheet: str | None = None
    job_class: str = QUICK
    time_limit: float | None = None
    gap: float = 0.0
    method: str = "auto"
    presolve: bool = True
    cores: int = 1
    give: dict[str, str] = field(default_factory=dict)
    reports: tuple[str, ...] = ("html",)
    table: str | None = None
    each_time_limit: float | None = None

    def __post_init__(self) -> None:
        _one_of("kind", self.kind, KINDS)
        _one_of("job_class", self.job_class, CLASSES)
        _one_of("method", self.method, get_args(Method))
        for form in self.reports:
            _one_of("reports", form, REPORTS)
        for name in ("time_limit", "each_time_limit"):
            seconds = getattr(self, name)
            if seconds is not None and not (_is_number(seconds) and seconds > 0):
                raise ModelError(f"{name} is a number of seconds above 0, not {seconds!r}")
        if not _is_number(self.gap) or not 0 <= self.gap <= 1:
            raise ModelError(f"gap is a share from 0 to 1, such as 0.01 for 1 %, not {self.gap!r}")
        if isinstance(self.cores, bool) or self.cores not in (1, 2):
            raise ModelError(f"cores is 1 or 2, not {self.cores!r}")
        if not isinstance(self.presolve, bool):
            raise ModelError(f"presolve is true or false, not {self.presolve!r}")
        for name in ("data", "give"):
            held = getattr(self, name)
            if not isinstance(held, dict) or not all(isinstance(text, str) for pair in held.items() for text in pair):
                raise ModelError(f"{name} is a dict of text to text, not {held!r}")
        for name in ("model", "sheet", "table"):
            text = getattr(self, name)
            if not isinstance(text, str) and (text is not None or name == "model"):
                raise ModelError(f"{name} is a text, not {text!r}")
        if self.kind == "scenarios" and not self.table:
            raise ModelError("scenarios need a table: set table to its file name")

    @classmethod
    def of(cls, given: Any) -> Request:
        """Return a request from plain data.

        Raises
        ------
        ModelError
            If something is unknown or is not what it should be.
        """
        if not isinstance(given, dict):
            raise ModelError(f"a request is a JSON object, not {type(given).__name__}")
        names = [part.name for part in fields(cls)]
        for name in given:
            if name not in names:
                raise ModelError(f"{name!r} is not a field of a request; {known(str(name), names)}")
        reports = given.get("reports", ("html",))
        if not isinstance(reports, (list, tuple)) or not all(isinstance(form, str) for form in reports):
            raise ModelError(f"reports is a list of forms, not {reports!r}")
        return cls(**{**given, "reports": tuple(dict.fromkeys(reports))})

    def as_dict(self) -> dict[str, Any]:
        """Return plain data."""
        return {**asdict(self), "reports": list(self.reports)}

    @property
    def solve_keywords(self) -> dict[str, Any]:
        """The options of `Model.solve`, without limits."""
        keywords: dict[str, Any] = {"gap": self.gap, "method": self.method, "presolve": self.presolve}
        keywords["cores"] = self.cores
        return {**keywords, "give": dict(self.give)} if self.give else keywords


def _one_of(name: str, value: Any, allowed: tuple[str, ...]) -> None:
    if value not in allowed:
        raise ModelError(f"{name} is one of {', '.join(allowed)}, not {value!r}")


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and isfinite(value)


@dataclass(frozen=True)
class Progress:
    """How far a running job is; numbers of the first objective, as written, None where they are not known.

    Attributes
    ----------
    said : in a sentence
    points : (seconds, best, bound) as they came, thinned out
    """

    seconds: float = 0.0
    nodes: int = 0
    best: float | None = None
    bound: float | None = None
    gap: float | None = None
    maximize: bool | None = None
    unit: str | None = None
    said: str = ""
    points: tuple[tuple[float, float | None, float | None], ...] = ()


@dataclass(frozen=True)
class Job:
    """A job as the store knows it.

    Attributes
    ----------
    number : int
    name : of the model, or of its file as long as it has not been read
    state : ``waiting``, ``running``, ``done``, ``failed`` or ``cancelled``
    attempt : how often it was begun
    deaths : how often its own process died, and not that of its worker or of the service
    stop_asked : whether it is to end with what it has
    created, started, ended : seconds since 1970, or None
    verdict : of a job that is done, its answer in a sentence; of one that failed, why
    status, reason : of the plan
    place : of a waiting job, how many are to be begun before it, and itself
    files : what can be fetched, with sizes in bytes
    """

    number: int
    request: Request
    name: str
    state: str
    attempt: int = 0
    deaths: int = 0
    stop_asked: bool = False
    created: float = 0.0
    started: float | None = None
    ended: float | None = None
    verdict: str = ""
    status: str | None = None
    reason: str | None = None
    place: int | None = None
    progress: Progress = Progress()
    files: dict[str, int] = field(default_factory=dict)

    @property
    def last(self) -> bool:
        """Whether this attempt is the last: it delivers the best plan that is known, and looks for none."""
        return self.deaths >= MOST_DEATHS or self.attempt > MOST_ATTEMPTS

    @property
    def downloads(self) -> dict[str, int]:
        """The files that people read; the others are for programs and pages."""
        return {name: size for name, size in self.files.items() if not name.endswith((".npz", ".fragment"))}

    @property
    def open(self) -> bool:
        """Whether it waits or runs."""
        return self.state in OPEN

    def as_dict(self) -> dict[str, Any]:
        """Return plain data, format ``ruddock-job/1``."""
        return {
            "format": "ruddock-job/1",
            "model": self.name,
            "number": self.number,
            "kind": self.request.kind,
            "job_class": self.request.job_class,
            "state": self.state,
            "attempt": self.attempt,
            "stop_asked": self.stop_asked,
            "created": self.created,
            "started": self.started,
            "ended": self.ended,
            "time_limit": self.request.time_limit,
            "verdict": self.verdict,
            "status": self.status,
            "reason": self.reason,
            "place": self.place,
            "progress": {**asdict(self.progress), "points": [list(point) for point in self.progress.points]},
            "files": dict(self.files),
        }

    @classmethod
    def of(cls, held: dict[str, Any]) -> Job:
        """Return a job from plain data that a service has sent."""
        progress = {**held["progress"]}
        progress["points"] = tuple(tuple(point) for point in progress["points"])
        asked = Request(
            kind=held["kind"], job_class=held["job_class"], time_limit=held["time_limit"],
            table="sent" if held["kind"] == "scenarios" else None,
        )  # fmt: skip
        own = {part.name for part in fields(cls)} - {"request", "progress", "deaths", "name"}
        known = {name: held[name] for name in own}
        return cls(request=asked, progress=Progress(**progress), name=held["model"], **known)
