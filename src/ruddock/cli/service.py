"""Commands about jobs at a service: run one, send a model to it, ask for a job."""

from __future__ import annotations

import contextlib
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ruddock.characters import in_line
from ruddock.cli.main import main
from ruddock.cli.options import READ, SOLVE, Amount, Input, taking, write_json
from ruddock.cli.say import say

if TYPE_CHECKING:
    from ruddock.jobs.client import SentJob, Service
    from ruddock.jobs.records import Job

NEEDED = ("cryptography", "fastapi", "uvicorn", "distributed", "sqlalchemy", "httpx", "limits", "multipart")
STOPPED = 1
SERVICE = taking(
    click.option("--service", metavar="URL", help="URL of the service; default RUDDOCK_SERVICE, else this machine."),
    click.option("--token", metavar="TOKEN", help="Access token of the service; default RUDDOCK_TOKEN."),
)
JSON = click.option("--json", "json_path", metavar="FILE", help="Write the state of the job as JSON; - is stdout.")


def _service(url: str | None, token: str | None) -> Service:
    from ruddock.jobs import service

    held = service(url, token)
    click.get_current_context().call_on_close(held.shutdown)
    return held


# ---------------------------------------------------------------------- running one


@main.command(short_help="Run a service that solves the jobs sent to it.")
@click.option("--host", default="127.0.0.1", help="Address to listen on; 0.0.0.0 listens on all networks.")
@click.option("--port", type=click.IntRange(0, 65535), default=8765)
@click.option(
    "--store", metavar="URL", help="Where jobs are stored: a file, sqlite:///FILE, or postgresql://USER@HOST/NAME."
)
@click.option("--scheduler", metavar="ADDRESS", help="Address of an existing Dask scheduler, such as tcp://HOST:8786.")
@click.option(
    "--workers", type=click.IntRange(1, 1024), help="Number of jobs solved at the same time; by default one per core."
)
@click.option(
    "--token-file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Access tokens, one per line; only clients with a token can send.",
)
@click.option("--memory", type=Amount("MB", 64.0), default=4096.0, help="Memory limit of one job.")
@click.option("--quick-limit", type=Amount("SECONDS", 1.0), default=300.0, help="Longest time limit of a quick job.")
@click.option("--long-limit", type=Amount("SECONDS", 1.0), default=28800.0, help="Longest time limit of a long job.")
@click.option("--largest", type=Amount("MB", 1.0), default=64.0, help="Largest total size of the files of one job.")
@click.option(
    "--decisions",
    type=Amount("COUNT", 1.0, whole=True),
    default=2_000_000,
    help="Largest number of decisions in a model.",
)
@click.option(
    "--waiting", type=Amount("COUNT", 1, whole=True), default=2000, help="Largest number of waiting and running jobs."
)
@click.option(
    "--each-client", type=Amount("COUNT", 1.0, whole=True), default=1500, help="Largest number of them from one client."
)
@click.option("--keep-days", type=Amount("DAYS"), default=30.0, help="How long results are kept.")
@click.option("--rate", metavar="COUNT/TIME", default="3000/minute", help="How often one client may send a job.")
def serve(host: str, port: int, store: str | None, token_file: Path | None, rate: str, **given: Any) -> None:
    """Run a service that accepts jobs from its web page, from `ruddock send` and from Python.

    Jobs wait in line, are solved, and their results are kept. Ctrl-C stops the service; waiting and running jobs
    continue at the next start.
    """
    from ruddock.jobs import need

    need(*NEEDED)
    from ruddock.jobs.serve import default_store, read_tokens, serve, settings_of

    settings = settings_of(
        store=store or default_store(),
        tokens=read_tokens(token_file) if token_file is not None else frozenset(),
        sends=rate,
        **given,
    )
    with contextlib.suppress(KeyboardInterrupt):  # which is how it ends
        serve(
            settings,
            host,
            port,
            ready=lambda address: say(_ready(address, settings.store, bool(settings.tokens), host)),
        )


def _ready(address: str, store: str, closed: bool, host: str) -> str:
    lines = [f"Ruddock service at {address}", f"  jobs stored in {store}"]
    if closed:
        lines.append("  clients need a token")
    elif host not in ("127.0.0.1", "localhost", "::1"):
        lines.append("  open to anyone who can reach this address; --token-file restricts it")
    return "\n".join(
        [*lines, f"  send a job:  ruddock send MODEL --service {address}", "  Ctrl-C stops the service; jobs are kept"]
    )


# ---------------------------------------------------------------------- sending


@main.command(short_help="Send a model to a service to be solved there.")
@click.argument("model")
@taking(*READ)
@click.option(
    "--class",
    "job_class",
    type=click.Choice(["quick", "long"]),
    default="quick",
    help="Quick jobs go first; long jobs may run for hours.",
)
@click.option("--diagnose", is_flag=True, help="Find out why the model has no plan.")
@click.option(
    "--scenarios", type=click.Path(path_type=Path), metavar="TABLE", help="Solve every scenario of this table."
)
@taking(SOLVE["time_limit"], SOLVE["gap"], SOLVE["give"], SOLVE["method"])
@click.option("--report", "reports", default="html", help="Report formats, such as html,xlsx; also md, or none.")
@click.option("--wait", is_flag=True, help="Wait for the answer and show it. Ctrl-C leaves the job running.")
@click.option(
    "--fetch", type=click.Path(path_type=Path), metavar="DIR", help="With --wait: save the result files in this folder."
)
@SERVICE
@JSON
def send(
    model: str,
    diagnose: bool,
    scenarios: Path | None,
    give: tuple[str, ...],
    reports: str,
    wait: bool,
    fetch: Path | None,
    service: str | None,
    token: str | None,
    json_path: str | None,
    **asked: Any,
) -> None:
    """Send MODEL and the tables it reads to a service; print the job's number and key.

    Anyone with the number and the key can follow the job, stop it and download its results.
    """
    from ruddock.cli.options import given_words

    if diagnose and scenarios is not None:
        raise click.UsageError("--diagnose and --scenarios are separate jobs: send one at a time")
    if fetch is not None and not wait:
        raise click.UsageError("--fetch needs --wait; or use ruddock job NUMBER --key KEY --fetch DIR later")
    at = _service(service, token)
    from ruddock.jobs.parcel import packed

    kind = "diagnose" if diagnose else "scenarios" if scenarios is not None else "solve"
    forms = [form.strip() for form in reports.split(",") if form.strip() not in ("", "none")]
    words = {name: str(value) for name, value in given_words(give).items()}
    read = Input.taken(model, asked)
    request = {**asked, "kind": kind, "sheet": read.sheet, "give": words, "reports": forms}
    job = at.send_parcel(packed(read.path, read.data, request, scenarios))
    err = json_path == "-"
    say(f"job {job.number}, key {job.key}", err=err)
    if wait:
        _follow(job, fetch, json_path)
        return
    here = "" if service is None else f" --service {service}"
    say(f"follow it:  ruddock job {job.number} --key {job.key}{here}", err=err)
    if json_path is not None:
        write_json(json_path, {**job.status().as_dict(), "key": job.key})


# ---------------------------------------------------------------------- asking


@main.command(short_help="Show the state of a job at a service, or its answer.")
@click.argument("number", type=click.IntRange(1, 2**31 - 1))
@click.option("--key", required=True, help="The key that came with the number.")
@click.option("--wait", is_flag=True, help="Wait until the job has finished.")
@click.option("--fetch", type=click.Path(path_type=Path), metavar="DIR", help="Save the result files in this folder.")
@click.option("--stop", is_flag=True, help="Stop the job and keep its best plan.")
@click.option("--log", is_flag=True, help="Show the history of the job.")
@SERVICE
@JSON
def job(
    number: int,
    key: str,
    wait: bool,
    fetch: Path | None,
    stop: bool,
    log: bool,
    service: str | None,
    token: str | None,
    json_path: str | None,
) -> None:
    """Show the state of job NUMBER, or its answer once it has finished.

    Exit status 1 if the job failed, was cancelled, or has no plan.
    """
    asked = _service(service, token).job(number, key)
    if stop:
        asked.stop()
    if log:
        for at, words in asked.log():
            say(f"{time.strftime('%Y-%m-%d %H:%M:%S', time.localtime(at))}  {words}", err=json_path == "-")
    if wait or (stop and asked.status().state != "waiting"):
        _follow(asked, fetch, json_path)
        return
    found = asked.status()
    _show(asked, found, fetch, json_path)


def _follow(job: SentJob, fetch: Path | None, json_path: str | None) -> None:
    """Wait for a job, with a line on how far it is, and show what came of it."""
    terminal = sys.stderr.isatty()
    said, shown = "", False
    try:
        for found in job.progress():
            words = _state(found)
            if found.open and words != said and terminal:
                click.echo(f"\r\033[K{in_line(words)}", err=True, nl=False)
                said, shown = words, True
    except KeyboardInterrupt:
        say("\n" if shown else "", err=True, nl=False)
        say(f"job {job.number} keeps running on the service; --stop stops it", err=True)
        raise click.exceptions.Exit(STOPPED) from None
    finally:
        if shown:
            click.echo("\r\033[K", err=True, nl=False)
    _show(job, found, fetch, json_path)


def _show(job: SentJob, found: Job, fetch: Path | None, json_path: str | None) -> None:
    """Show a job, write its files, and end with the status that it says."""
    err = json_path == "-"
    text = f"{found.request.kind}.txt"
    say(_state(found), err=err)
    if found.state == "done" and text in found.files:
        say("", err=err)
        say(job.file(text).decode(), err=err, nl=False)
    if json_path is not None:
        write_json(json_path, found.as_dict())
    if fetch is not None:
        if found.open:
            say("no files to fetch yet; use --wait", err=True)
        for path in job.fetch(fetch) if not found.open else []:
            say(f"written to {path}", err=err)
    if found.state in ("failed", "cancelled") or found.status in ("infeasible", "unbounded"):
        raise click.exceptions.Exit(1)


def _state(found: Job) -> str:
    """Return in a line how a job is."""
    start = f"job {found.number}, {found.name}"
    if found.state == "waiting":
        return f"{start}: waiting, place {found.place} in line"
    if found.state == "running":
        ending = "; stop requested" if found.stop_asked else ""
        return f"{start}: {found.progress.said or 'running'}{ending}"
    if found.state == "done":
        took = (found.ended or 0.0) - (found.started or 0.0)
        return f"{start}: finished in {took:.1f} s"
    return f"{start}: {found.state}. {found.verdict}"
