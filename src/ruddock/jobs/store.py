"""The store of jobs: what was asked for, how far it is, and what came of it. Whatever dies, it is all here."""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import asdict
from typing import Any, NamedTuple

from sqlalchemy import Connection, and_, case, delete, func, insert, or_, select, update
from sqlalchemy.exc import DBAPIError

from ruddock.errors import RuddockError
from ruddock.jobs.records import OPEN, Job, Progress, Request
from ruddock.jobs.settings import LONG, QUICK
from ruddock.jobs.tables import connected, files, jobs, log, metadata

KEY_BYTES = 18
SENT, KEPT, RESULT = "sent", "kept", "result"


class StoreError(RuddockError):
    """The store does not answer, or takes no more; nothing was changed."""


class Claim(NamedTuple):
    """A job that was taken out of the line, to be done."""

    number: int
    attempt: int
    request: Request


class Store:
    """The jobs of a service.

    Parameters
    ----------
    url : of the database
    pooled : whether connections stay open between uses
    durable : whether what is taken outlasts a loss of power, too
    aging_seconds : what a long job has waited for when it goes before quick ones that came later

    Raises
    ------
    DataError
        If the URL names no database that can hold jobs.
    StoreError
        By every method, if the database does not answer.
    """

    def __init__(self, url: str, *, pooled: bool = True, durable: bool = False, aging_seconds: float = 600.0) -> None:
        self.url, self.aging = url, aging_seconds
        self._engine = connected(url, pooled=pooled, durable=durable)

    def close(self) -> None:
        """Give its connections back."""
        self._engine.dispose()

    def prepare(self) -> None:
        """Make the tables where they are not there yet."""
        with self._writing() as connection:
            metadata.create_all(connection)

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        with _told(), self._engine.connect().execution_options(writes=True) as connection, connection.begin():
            yield connection

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        with _told(), self._engine.connect() as connection:
            yield connection

    # ------------------------------------------------------------------ clients

    def accept(self, request: Request, name: str, client: str, sent: Mapping[str, bytes]) -> tuple[int, str]:
        """Take a job with its files, all or nothing; return its number and its key, which is kept nowhere."""
        key = secrets.token_urlsafe(KEY_BYTES)
        row = {
            "key_hash": hashed(key), "client": client, "request": json.dumps(request.as_dict()), "name": name,
            "job_class": request.job_class, "state": "waiting", "created": time.time(),
        }  # fmt: skip
        with self._writing() as connection:
            number = int(connection.execute(insert(jobs).values(row).returning(jobs.c.number)).scalar_one())
            _put(connection, number, SENT, sent)
            _say(connection, number, "accepted")
        return number, key

    def open_jobs(self, client: str) -> tuple[int, int]:
        """Return how many jobs wait or run in all, and how many of them are a client's."""
        own = func.coalesce(func.sum(case((jobs.c.client == client, 1), else_=0)), 0)
        with self._reading() as connection:
            counts = connection.execute(select(func.count(), own).where(jobs.c.state.in_(OPEN))).one()
        return int(counts[0]), int(counts[1])

    def job(self, number: int, key: str | None = None) -> Job:
        """Return a job.

        Parameters
        ----------
        key : where whoever asks has to show it; a job that is not there takes as long as a wrong key

        Raises
        ------
        KeyError
            If there is none of this number, or it has another key.
        """
        with self._reading() as connection:
            row = connection.execute(select(jobs).where(jobs.c.number == number)).mappings().one_or_none()
            right = key is None or hmac.compare_digest(hashed("") if row is None else row["key_hash"], hashed(key))
            if row is None or not right:
                raise KeyError(number)
            held = connection.execute(
                select(files.c.name, files.c.size).where(files.c.number == number, files.c.role == RESULT)
            )
            sizes = {str(name): int(size) for name, size in held}
            place = self._place(connection, row) if row["state"] == "waiting" else None
        progress = json.loads(row["progress"])
        progress["points"] = tuple(tuple(point) for point in progress.get("points", ()))
        names = ("number", "name", "state", "attempt", "deaths", "stop_asked", "created", "started", "ended", "verdict")
        own = {name: row[name] for name in (*names, "status", "reason")}
        request = Request.of(json.loads(row["request"]))
        return Job(request=request, place=place, progress=Progress(**progress), files=sizes, **own)

    def file(self, number: int, name: str, role: str = RESULT) -> bytes | None:
        """Return one file of a job, or None."""
        chosen = and_(files.c.number == number, files.c.role == role, files.c.name == name)
        with self._reading() as connection:
            content = connection.execute(select(files.c.content).where(chosen)).scalar()
        return None if content is None else bytes(content)

    def sent(self, number: int) -> dict[str, bytes]:
        """Return the files that came with a job."""
        chosen = and_(files.c.number == number, files.c.role == SENT)
        with self._reading() as connection:
            found = connection.execute(select(files.c.name, files.c.content).where(chosen).order_by(files.c.name))
            return {name: bytes(content) for name, content in found}

    def log(self, number: int) -> list[tuple[float, str]]:
        """Return what happened to a job: seconds since 1970, and words."""
        with self._reading() as connection:
            found = connection.execute(select(log.c.at, log.c.words).where(log.c.number == number).order_by(log.c.id))
            return [(at, words) for at, words in found]

    def stop(self, number: int) -> None:
        """Ask a job to end with what it has; a waiting job is cancelled at once."""
        with self._writing() as connection:
            waits = and_(jobs.c.number == number, jobs.c.state == "waiting", jobs.c.attempt == 0)
            gone = update(jobs).where(waits).values(state="cancelled", ended=time.time(), verdict=CANCELLED)
            if connection.execute(gone).rowcount:
                _say(connection, number, "cancelled")
                return
            runs = and_(jobs.c.number == number, jobs.c.state.in_(OPEN), jobs.c.stop_asked.is_(False))
            if connection.execute(update(jobs).where(runs).values(stop_asked=True)).rowcount:
                _say(connection, number, "stop requested")

    # ------------------------------------------------------------------ the line

    def claim(self, *, long_too: bool = True) -> Claim | None:
        """Take the next job of the line, if there is one."""
        with self._writing() as connection:
            chosen = [jobs.c.state == "waiting"] + ([] if long_too else [jobs.c.job_class == QUICK])
            line = (
                select(jobs.c.number, jobs.c.attempt, jobs.c.request)
                .where(*chosen)
                .order_by(self._late(), jobs.c.created)
            )
            found = connection.execute(line.order_by(jobs.c.number).limit(1)).one_or_none()
            if found is None:
                return None
            number, attempt, request = int(found[0]), int(found[1]) + 1, Request.of(json.loads(found[2]))
            mine = and_(jobs.c.number == number, jobs.c.state == "waiting", jobs.c.attempt == attempt - 1)
            values = {"state": "running", "attempt": attempt, "started": time.time()}
            if not connection.execute(update(jobs).where(mine).values(values)).rowcount:
                return None  # another service of the same store was quicker
            _say(connection, number, "started" if attempt == 1 else f"restarted, attempt {attempt}")
            return Claim(number, attempt, request)

    def _late(self) -> Any:
        """Return 0 for jobs that go first: quick ones, and long ones that have waited for long."""
        early = or_(jobs.c.job_class == QUICK, jobs.c.created < time.time() - self.aging)
        return case((early, 0), else_=1)

    def _place(self, connection: Connection, row: Any) -> int:
        late = int(row["job_class"] == LONG and row["created"] >= time.time() - self.aging)
        earlier = or_(
            jobs.c.created < row["created"],
            and_(jobs.c.created == row["created"], jobs.c.number < row["number"]),
        )
        before = or_(self._late() < late, and_(self._late() == late, earlier))
        counted = select(func.count()).where(jobs.c.state == "waiting", before)
        return int(connection.execute(counted).scalar_one()) + 1

    def running(self) -> list[tuple[int, int, int]]:
        """Return number, attempt and beat of the jobs that run."""
        chosen = select(jobs.c.number, jobs.c.attempt, jobs.c.beat).where(jobs.c.state == "running")
        with self._reading() as connection:
            return [(number, attempt, beat) for number, attempt, beat in connection.execute(chosen)]

    def lost(self, number: int, attempt: int, why: str, deaths: int = 0) -> bool:
        """Put a job whose process is gone back in the line, where it was; return whether it was this attempt's.

        Parameters
        ----------
        deaths : of its own process, that this counts as
        """
        with self._writing() as connection:
            values = {"state": "waiting", "deaths": jobs.c.deaths + deaths}
            found = connection.execute(update(jobs).where(_mine(number, attempt)).values(values)).rowcount
            if found:
                _say(connection, number, why)
            return bool(found)

    def forget(self, older_than: float) -> int:
        """Take out jobs that ended before a moment, in seconds since 1970; return how many."""
        with self._writing() as connection:
            old = select(jobs.c.number).where(jobs.c.ended < older_than).scalar_subquery()
            for table in (files, log):
                connection.execute(delete(table).where(table.c.number.in_(old)))
            return connection.execute(delete(jobs).where(jobs.c.ended < older_than)).rowcount

    # ------------------------------------------------------------------ the process at work

    def beat(self, number: int, attempt: int) -> tuple[bool, bool]:
        """Show that a job is worked on; return whether it still is this attempt's, and whether it is to stop."""
        with self._writing() as connection:
            mine = update(jobs).where(_mine(number, attempt)).values(beat=jobs.c.beat + 1)
            found = connection.execute(mine.returning(jobs.c.stop_asked)).one_or_none()
        return found is not None, bool(found and found[0])

    def progress(self, number: int, attempt: int, progress: Progress, name: str | None = None) -> None:
        """Note how far a job is, and what its model is called."""
        values: dict[str, Any] = {"progress": json.dumps(asdict(progress))}
        if name is not None:
            values["name"] = name
        with self._writing() as connection:
            connection.execute(update(jobs).where(_mine(number, attempt)).values(values))

    def keep(self, number: int, attempt: int, name: str, content: bytes) -> None:
        """Keep the best plan so far, for another attempt to start from."""
        with self._writing() as connection:
            if connection.execute(select(jobs.c.number).where(_mine(number, attempt))).one_or_none() is not None:
                connection.execute(delete(files).where(files.c.number == number, files.c.role == KEPT))
                _put(connection, number, KEPT, {name: content})

    def answer(
        self,
        number: int,
        attempt: int,
        verdict: str,
        status: str | None,
        progress: Progress,
        results: Mapping[str, bytes],
    ) -> None:
        """Give the answer of a job whose reports are still to be written."""
        with self._writing() as connection:
            values = {"verdict": verdict, "status": status, "progress": json.dumps(asdict(progress))}
            if connection.execute(update(jobs).where(_mine(number, attempt)).values(values)).rowcount:
                connection.execute(delete(files).where(files.c.number == number, files.c.role == RESULT))
                _put(connection, number, RESULT, results)
                _say(connection, number, "solved")

    def end(
        self,
        number: int,
        attempt: int,
        verdict: str,
        *,
        failed: bool = False,
        status: str | None = None,
        reason: str | None = None,
        name: str | None = None,
        progress: Progress | None = None,
        results: Mapping[str, bytes] | None = None,
    ) -> bool:
        """End a job with further results, all or nothing and once; return whether it was this attempt's to end."""
        values: dict[str, Any] = {
            "state": "failed" if failed else "done", "ended": time.time(), "verdict": verdict, "status": status,
            "reason": reason,
        }  # fmt: skip
        if name is not None:
            values["name"] = name
        if progress is not None:
            values["progress"] = json.dumps(asdict(progress))
        with self._writing() as connection:
            if not connection.execute(update(jobs).where(_mine(number, attempt)).values(values)).rowcount:
                return False
            connection.execute(delete(files).where(files.c.number == number, files.c.role == KEPT))
            _put(connection, number, RESULT, results or {})
            _say(connection, number, "failed" if failed else "finished")
            return True


CANCELLED = "Cancelled before it started."


def hashed(key: str) -> str:
    """Return what is kept of a key or a token."""
    return hashlib.sha256(key.encode()).hexdigest()


def _mine(number: int, attempt: int) -> Any:
    return and_(jobs.c.number == number, jobs.c.state == "running", jobs.c.attempt == attempt)


def _put(connection: Connection, number: int, role: str, contents: Mapping[str, bytes]) -> None:
    rows = [
        {"number": number, "role": role, "name": name, "size": len(content), "content": content}
        for name, content in contents.items()
    ]
    if rows:
        connection.execute(insert(files), rows)


def _say(connection: Connection, number: int, words: str) -> None:
    connection.execute(insert(log).values(number=number, at=time.time(), words=words))


@contextmanager
def _told() -> Iterator[None]:
    """Turn what a database says into an error of ours."""
    try:
        yield
    except DBAPIError as error:
        said = str(error.orig).splitlines()[0] if str(error.orig) else type(error.orig).__name__
        full = any(word in said.casefold() for word in ("full", "no space"))
        what = "the job store is full" if full else "the job store is not responding"
        raise StoreError(f"{what} ({said}); try again later") from error
