"""A running service, as people use it: Python, the command line, a browser; and as it is when things die."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pandas as pd
import pytest
from click.testing import CliRunner

import ruddock as rk
from ruddock import demos
from ruddock.cli import main
from ruddock.jobs.client import RefusedError, SentJob
from tests.jobs.conftest import Server
from tests.jobs.running import Running, crates, hard, kills, running

SECONDS = 60.0


def until(holds: Callable[[], Any], seconds: float = SECONDS) -> Any:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = holds()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError("it was not sent to that")


def answers(ask: Callable[[], Any]) -> bool:
    """Say whether a service answers a question, while its store may not."""
    try:
        ask()
    except RefusedError as error:
        if error.code != "store":
            raise
        return False
    return True


def plain(plan: rk.Plan) -> dict[str, Any]:
    return {name: part for name, part in plan.as_dict().items() if name not in ("effort", "history")}


# ---------------------------------------------------------------------- Python


@pytest.mark.parametrize("name", ["packing-week", "storm-week", "two-objectives", "projects"])
def test_a_plan_from_there_is_the_one_from_here(service: Running, name: str) -> None:
    model = demos.build(name)
    job = service.service.send(model, time_limit=60)
    assert plain(job.plan()) == plain(model.solve())
    found = job.wait()
    assert found.verdict == model.solve().document().verdict
    assert {"solve.json", "solve.txt", "report.html"} <= set(found.files)
    assert json.loads(job.file("solve.json"))["status"] == model.solve().status


def test_scenarios_go_to_the_service_one_by_one_or_as_a_job(service: Running) -> None:
    model = demos.build("spring-haulage")
    table = pd.DataFrame({"scenario": [f"s{k}" for k in range(6)], "need[Quay]": range(40, 100, 10)})
    here = model.scenarios(table).table()
    there = model.scenarios(table, executor=service.service).table()
    pd.testing.assert_frame_equal(here, there)
    job = service.service.send(model, kind="scenarios", table=table, reports=["xlsx"])
    assert job.wait().state == "done"
    told = json.loads(job.file("scenarios.json"))["scenarios"]
    assert [one["objective"] for one in told] == pytest.approx(here["objective"].tolist())
    with pytest.raises(rk.ModelError, match="not arbitrary functions"):
        service.service.submit(print, 1)


def test_other_questions_are_jobs_too(service: Running) -> None:
    model = demos.build("storm-week")
    for kind, own in (("diagnose", model.diagnose()), ("check", model.check())):
        job = service.service.send(model, kind=kind, reports=["md"])
        job.wait()
        assert own.document().verdict in job.file(f"{kind}.txt").decode().replace("\n", " ")


def test_a_stop_and_a_limit_bring_the_best_plan(service: Running) -> None:
    model = hard(1, rows=20, size=150)
    stopped = service.service.send(model, reports=[])
    limited = service.service.send(model, time_limit=3, reports=[])
    until(lambda: stopped.status().progress.best)
    seen = stopped.status().progress
    assert seen.points and seen.said and seen.maximize is True and seen.unit == "£"
    stopped.stop()
    for job, reason in ((stopped, "user"), (limited, "time")):
        plan = job.plan()
        assert (plan.status, plan.reason) == ("stopped", reason)
        assert plan.found
        assert (plan.constraints()["slack"] >= 0).all() and set(plan.decisions()["value"]) <= {0.0, 1.0}
        assert plan.objective <= plan.bound < float("inf")
    assert stopped.plan().objective >= (seen.best or 0.0)


def test_what_cannot_be_done_is_told_at_its_place(service: Running) -> None:
    for text, words in (
        ("maximize m\n  2 jars +\n", "model.rdk, line 2"),
        ("decisions\n  x[k]\nminimize c\n  sum(x)\n", "model.rdk, line 2"),
    ):
        from ruddock.jobs.client import Parcel
        from ruddock.jobs.records import Request

        job = service.service.send_parcel(Parcel(Request(model="model.rdk"), {"model.rdk": text.encode()}))
        with pytest.raises(rk.NoPlanError, match=words):
            job.wait()
        assert job.status().state == "failed"
        assert "/tmp" not in job.status().verdict
    with pytest.raises(RefusedError, match="job 1 not found") as told:
        service.service.job(1, "x").status()
    assert told.value.code == "key"
    with pytest.raises(RefusedError, match="no answer"):
        rk.service("http://127.0.0.1:9").job(1, "x").stop()


# ---------------------------------------------------------------------- the command line


def command(service: Running, *words: str, status: int = 0) -> str:
    ran = CliRunner().invoke(main, [*words, "--service", service.url], catch_exceptions=False)
    assert ran.exit_code == status, ran.output
    return ran.output


def test_a_job_by_commands(service: Running, tmp_path: Path) -> None:
    [path] = [p for p in demos.copy("spring-haulage", tmp_path / "mine") if p.suffix == ".rdk"]
    said = command(service, "send", str(path), "--report", "html,xlsx", "--wait", "--fetch", str(tmp_path / "out"))
    assert "Cost £429.25 is the smallest possible" in said
    assert {p.name for p in (tmp_path / "out").iterdir()} == {"report.html", "report.xlsx", "solve.json", "solve.txt"}
    number, key = said.split("\n")[0].removeprefix("job ").split(", key ")
    assert "finished" in command(service, "job", number, "--key", key, "--log")
    as_json = command(service, "job", number, "--key", key, "--json", str(tmp_path / "job.json"))
    assert "written to" in as_json
    assert json.loads((tmp_path / "job.json").read_text())["state"] == "done"
    assert "not found" in command(service, "job", number, "--key", "x", status=2)
    assert "clash" in command(service, "send", "demo:storm-week", "--diagnose", "--wait", status=1)
    assert "not found" in command(service, "send", str(tmp_path / "nothing.rdk"), status=2)
    assert "a quick job may run for" in command(service, "send", str(path), "--time-limit", "500", status=2)


# ---------------------------------------------------------------------- what dies


def test_whatever_is_killed_every_job_ends_once(tmp_path: Path) -> None:
    done = kills(tmp_path, 4, 3)
    assert done["jobs"] == 4
    assert done["kills"] >= 2


def test_a_job_goes_on_from_its_best_plan_wherever_it_is_killed(tmp_path: Path) -> None:
    model = hard(1, rows=20, size=150)
    with running(tmp_path, workers=1) as held:
        job = held.service.send(model, time_limit=100, reports=[])
        best = until(lambda: job.status().progress.best)
        time.sleep(1.5)  # that plan is kept by now
        held.kill()
        held.start()
        job.service = held.service
        until(lambda: job.status().attempt == 2)
        job.stop()  # before the search has found anything by itself
        plan = job.plan()
        assert plan.status == "stopped" and plan.objective >= best
        assert [w for _, w in job.log()].count("finished") == 1


def test_a_process_that_takes_too_much_memory_ends_with_what_it_has(tmp_path: Path) -> None:
    with running(tmp_path, "--memory", "64", workers=1) as held:
        k = rk.Axis("k", range(400))
        model = rk.Model("Wide")
        x = model.decide("x", k, rk.Axis("l", range(400)), kind="integer", upper=9)
        model.maximize("sum", x.sum())
        model.require("rows", x.sum("l") <= 7.5)
        job = held.service.send(model, reports=[])
        found = until(lambda: None if (now := job.status()).open else now)
        assert found.state == "failed"
        assert "memory" in found.verdict
        plan = held.service.send(hard(1, rows=20, size=150), time_limit=90, reports=[]).plan()
        assert (plan.status, plan.reason, plan.found) == ("stopped", "memory", True)
        small, best = crates(4)
        assert held.service.send(small, reports=[]).plan().objective == best  # the service goes on


def test_workers_of_a_scheduler_elsewhere_and_jobs_in_postgresql(tmp_path: Path, postgresql: Server) -> None:
    where = tmp_path / "scheduler.json"
    dask = [sys.executable, "-m", "dask"]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    scheduler = [
        *dask,
        "scheduler",
        "--host",
        "127.0.0.1",
        "--port",
        "0",
        "--no-dashboard",
        "--dashboard-address",  # a port of its own: another test has a cluster, too
        "127.0.0.1:0",
        "--scheduler-file",
        str(where),
    ]
    workers = [*dask, "worker", "--scheduler-file", str(where), "--nworkers", "2", "--nthreads", "1", "--no-dashboard"]
    held_by = [subprocess.Popen(words, **quiet) for words in (scheduler, workers)]  # type: ignore[call-overload]
    try:
        until(lambda: where.exists() and bool(where.read_text().strip()))
        address = json.loads(where.read_text())["address"]
        with running(tmp_path, "--scheduler", address, store=postgresql.url) as held:
            sent = [(held.service.send(model, reports=[]), best) for model, best in map(crates, range(6))]
            postgresql.order("restart", "-m", "immediate")  # every connection is lost, in the middle of jobs
            until(lambda: answers(sent[0][0].status))
            held.kill()  # its workers go on
            held.start()
            for job, best in sent:
                job.service = held.service
                assert job.plan().objective == best
                assert [words for _, words in job.wait() and job.log()].count("finished") == 1
    finally:
        for process in held_by:
            process.terminate()
            process.wait(30)


def test_a_taken_address_and_a_taken_store_are_told(service: Running, tmp_path: Path) -> None:
    port = service.url.rpartition(":")[2]
    for words, said in (
        (["--port", port, "--store", str(tmp_path / "x.db")], f"cannot listen on 127.0.0.1:{port}"),
        (["--port", "0", "--store", service.store], "another service is using"),
        (["--port", "0", "--store", "mysql://x/y"], "SQLite or PostgreSQL"),
        (["--rate", "often"], "a count and a period"),
        (["--token-file", str(tmp_path / "none")], "cannot be read"),
    ):
        ran = CliRunner().invoke(main, ["serve", *words])
        assert ran.exit_code == 2
        assert said in ran.output


# ---------------------------------------------------------------------- a browser


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    if not (os.path.exists("/usr/bin/chromium") and os.path.exists("/usr/bin/chromedriver")):
        pytest.skip("Chromium is not installed (Debian: chromium chromium-driver)")
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    profile = tmp_path_factory.mktemp("profile")
    for word in (
        "headless=new", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-background-networking",
        "disable-component-update", "disable-sync", "window-size=1280,800", f"user-data-dir={profile}",
    ):  # fmt: skip
        options.add_argument(f"--{word}")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    yield driver
    driver.quit()


def test_a_person_sends_watches_stops_and_reads(service: Running, browser: Any, tmp_path: Path) -> None:
    def find(selector: str) -> Any:
        return browser.find_element("css selector", selector)

    demos.copy("spring-haulage", tmp_path / "mine")
    mine = sorted(str(p) for p in (tmp_path / "mine").iterdir() if p.suffix != ".py")
    browser.get(service.url)
    # a table is missing: said beside the form
    find("#files").send_keys("\n".join(name for name in mine if "markets" not in name))
    find("#check").click()
    until(lambda: find("#refused").is_displayed())
    assert "markets.csv was not sent" in find("#refused").text
    browser.refresh()
    find("#files").send_keys("\n".join(mine))
    find("#check").click()
    until(lambda: find("#findings").is_displayed())
    assert "no problems found" in find("#findings").text
    find("form.send button[type=submit]").click()
    until(lambda: "finished" in browser.page_source)
    assert "£429.25" in find("#verdict").text
    find("a.button").click()  # the report
    until(lambda: "Recommendation" in browser.page_source)
    browser.back()
    # text with markup for a name, and a search to be stopped
    browser.get(service.url)
    text = tmp_path / "vans.rdk"
    model = hard(1, rows=20, size=150)
    model.name = "Vans <img src=x onerror=alert(1)>"
    model.write(text)
    find("#files").send_keys(str(text))
    find("form.send button[type=submit]").click()
    until(lambda: browser.find_elements("css selector", "#chart path.best"))
    assert "best £" in find("#verdict").text
    assert find("h1").text == model.name
    find("main form button").click()
    until(lambda: "finished" in browser.page_source)
    assert "stopped by the user" in find("#verdict").text.lower() or "stopped" in find("#verdict").text
    browser.get(service.url)
    assert len(browser.find_elements("css selector", "table.jobs tbody tr")) == 2
    refused = [entry for entry in browser.get_log("browser") if "422" not in entry["message"]]
    assert not refused


def test_a_signal_ends_the_service_and_keeps_its_jobs(tmp_path: Path) -> None:
    with running(tmp_path, workers=1) as held:
        sent: list[SentJob] = [
            held.service.send(hard(1, rows=20, size=150), time_limit=60, reports=[]) for _ in range(2)
        ]

        def terminated() -> int:
            held.process.send_signal(signal.SIGTERM)
            return held.gone()

        for end in (terminated, held.end):
            until(lambda: sent[0].status().state == "running")
            assert end() == 0
            assert len(held.log.read_text()) == 0, held.log.read_text()
            held.start()
            for job in sent:
                job.service = held.service
        for job in sent:
            job.stop()
        until(lambda: all(not job.status().open for job in sent))
        assert [job.status().state for job in sent] in (["done", "cancelled"], ["done", "done"])
