"""The store by itself: the line, what is kept, and that a job ends once; in SQLite and in PostgreSQL."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import text

from ruddock.errors import DataError
from ruddock.jobs.records import MOST_ATTEMPTS, MOST_DEATHS, Progress, Request
from ruddock.jobs.settings import sqlite_url
from ruddock.jobs.store import KEPT, Claim, Store, StoreError


@pytest.fixture(params=["sqlite", "postgresql"])
def store(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Store]:
    if request.param == "sqlite":
        result = Store(sqlite_url(tmp_path / "jobs.db"), durable=True)
    else:
        result = Store(request.getfixturevalue("postgresql").url)
        with result._engine.begin() as connection:
            for table in ("ruddock_log", "ruddock_files", "ruddock_jobs"):
                connection.execute(text(f"drop table if exists {table}"))
    result.prepare()
    yield result
    result.close()


def sent(store: Store, job_class: str = "quick", client: str = "a") -> int:
    number, _ = store.accept(Request(model="m.rdk", job_class=job_class), "m", client, {"m.rdk": b"x"})
    return number


def claimed(claim: Claim | None) -> tuple[int, int] | None:
    return None if claim is None else claim[:2]


def test_the_line_is_quick_first_and_long_ones_get_their_turn(store: Store) -> None:
    long, quick, later = sent(store, "long"), sent(store), sent(store)
    assert [store.job(n).place for n in (quick, later, long)] == [1, 2, 3]
    store.aging = 0.0  # the long one has waited for long enough
    time.sleep(0.01)
    assert [store.job(n).place for n in (long, quick, later)] == [1, 2, 3]
    assert claimed(store.claim(long_too=False)) == (quick, 1)
    assert claimed(store.claim()) == (long, 1)
    store.aging = 600.0
    assert claimed(store.claim()) == (later, 1)
    assert store.claim() is None


def test_every_job_is_claimed_once_by_many_at_a_time(store: Store) -> None:
    numbers = [sent(store) for _ in range(30)]
    taken: list[tuple[int, int]] = []

    def claim() -> None:
        own = Store(store.url, pooled=False) if "sqlite" in store.url else store
        empty = 0
        while empty < 3:
            found = own.claim()
            empty = empty + 1 if found is None else 0
            taken.extend([found[:2]] if found else [])

    threads = [threading.Thread(target=claim) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(taken) == [(number, 1) for number in numbers]


def test_a_job_ends_once_and_only_by_the_attempt_at_work(store: Store) -> None:
    number = sent(store)
    assert claimed(store.claim()) == (number, 1)
    store.keep(number, 1, "best.npz", b"plan")
    assert store.lost(number, 1, "killed")
    assert not store.lost(number, 1, "killed")  # told twice
    assert store.job(number).state == "waiting"
    assert claimed(store.claim()) == (number, 2)
    assert store.file(number, "best.npz", KEPT) == b"plan"
    store.keep(number, 1, "best.npz", b"of one that is gone")
    store.progress(number, 1, Progress(said="of one that is gone"))
    assert not store.end(number, 1, "late", results={"a.txt": b"late"})
    assert store.beat(number, 1) == (False, False)
    assert store.beat(number, 2) == (True, False)
    store.stop(number)
    assert store.beat(number, 2) == (True, True)
    store.answer(number, 2, "solved", "optimal", Progress(best=1.0, points=((0.0, None, 2.0),)), {"a.json": b"{}"})
    assert store.job(number).files == {"a.json": 2}
    assert store.end(number, 2, "done", status="optimal", results={"report.html": b"page"})
    assert not store.end(number, 2, "again")
    job = store.job(number)
    assert (job.state, job.verdict, job.status, job.files) == (
        "done",
        "done",
        "optimal",
        {"a.json": 2, "report.html": 4},
    )
    assert job.progress.points == ((0.0, None, 2.0),)
    assert store.file(number, "best.npz", KEPT) is None
    assert store.sent(number) == {"m.rdk": b"x"}
    words = [said for _, said in store.log(number)]
    assert words == ["accepted", "started", "killed", "restarted, attempt 2", "stop requested", "solved", "finished"]


@pytest.mark.parametrize(("deaths", "attempts"), [(MOST_DEATHS, 1), (1, MOST_DEATHS), (0, MOST_ATTEMPTS)])
def test_a_job_that_dies_on_and_on_has_a_last_attempt(store: Store, deaths: int, attempts: int) -> None:
    number = sent(store)
    for attempt in range(1, attempts + 1):
        assert claimed(store.claim()) == (number, attempt)
        assert not store.job(number).last
        assert store.lost(number, attempt, "gone", deaths)
    assert claimed(store.claim()) == (number, attempts + 1)
    assert store.job(number).last


def test_a_job_is_only_known_with_its_key(store: Store) -> None:
    number, key = store.accept(Request(model="m.rdk"), "m", "a", {})
    assert store.job(number, key).number == number
    for n, k in ((number, ""), (number, key[:-1]), (number, key + "x"), (number + 1, key)):
        with pytest.raises(KeyError):
            store.job(n, k)
    with store._engine.connect() as connection:
        held = connection.execute(text("select * from ruddock_jobs")).mappings().one()
    assert key not in str(dict(held))


def test_what_waits_is_cancelled_and_what_is_old_forgotten(store: Store) -> None:
    first, second = sent(store, client="a"), sent(store, client="b")
    assert store.open_jobs("a") == (2, 1)
    store.stop(first)
    assert store.job(first).state == "cancelled"
    assert claimed(store.claim()) == (second, 1)
    assert store.forget(time.time() + 1.0) == 1
    with pytest.raises(KeyError):
        store.job(first)
    assert store.sent(first) == {} and store.log(first) == []
    third = sent(store)
    assert third > second  # a number is never given twice


def test_a_store_that_is_full_takes_nothing_and_says_so(tmp_path: Path) -> None:
    store = Store(sqlite_url(tmp_path / "jobs.db"))
    store.prepare()
    with store._engine.connect() as connection:
        pages = connection.exec_driver_sql("pragma page_count").scalar_one()
        connection.exec_driver_sql(f"pragma max_page_count={pages + 8}")
        connection.commit()
    with pytest.raises(StoreError, match="store is full"):
        store.accept(Request(model="m.rdk"), "m", "a", {"m.rdk": b"x" * 1_000_000})
    assert store.open_jobs("a") == (0, 0)


@pytest.mark.parametrize("url", ["mysql://x/y", "jobs", "sqlite", "oracle://a"])
def test_a_store_of_another_sort_is_refused(url: str) -> None:
    with pytest.raises(DataError, match=r"--store"):
        Store(url)
