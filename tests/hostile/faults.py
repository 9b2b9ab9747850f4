"""Commands run while something goes wrong: killed, out of disk, without a home, with nobody listening.

Whatever happens, each output is whole or as it was before, what was kept is kept, the exit status says what came of it,
and nobody sees a traceback.
"""

from __future__ import annotations

import ctypes
import json
import os
import random
import re
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path
from xml.etree import ElementTree

import pandas as pd

import ruddock as rk
from ruddock import demos

PR_CAPBSET_DROP, CAP_DAC_OVERRIDE = 24, 1
BEFORE = "as it was before\n"  # what the outputs hold at the start, now and then
COMMAND = [sys.executable, "-m", "ruddock"]
ENVIRONMENTS: tuple[dict[str, str | None], ...] = (
    {},
    {"HOME": None, "XDG_CACHE_HOME": None},
    {"HOME": "/nonexistent", "XDG_CACHE_HOME": "/nonexistent/cache"},
    {"LC_ALL": "C", "PYTHONCOERCECLOCALE": "0", "PYTHONUTF8": "0"},
    {"PYTHONUTF8": "0", "PYTHONIOENCODING": "ascii"},
    {"PYTHONIOENCODING": "latin-1"},
    {"COLUMNS": "20"},
    {"COLUMNS": "0"},
    {"PYTHONOPTIMIZE": "1"},
    {"PYTHONOPTIMIZE": "2"},
    {"PYTHONWARNINGS": "error"},
    {"TMPDIR": "/nonexistent"},
    {"TERM": "dumb", "NO_COLOR": "1"},
    {"PYTHONHASHSEED": "7", "OMP_NUM_THREADS": "1"},
    {"MPLCONFIGDIR": "/nonexistent"},
)  # fmt: skip


@cache
def folder() -> Path:
    """Return a folder with what the commands read, made once."""
    here = Path(tempfile.mkdtemp(prefix="faults-"))
    for name in ("packing-week", "spring-haulage", "storm-week", "tariff", "two-products"):
        demos.build(name).write(here / f"{name}.json")
    rows = {"scenario": [f"s{k}" for k in range(30)], "demand[Quay]": [10.0 + k for k in range(30)]}
    pd.DataFrame(rows).to_csv(here / "weeks.csv", index=False)
    return here


@cache
def truth() -> list[float]:
    """Return the objectives of the scenarios, solved undisturbed."""
    study = rk.read(folder() / "spring-haulage.json").scenarios(folder() / "weeks.csv")
    return [result.objective for result in study.results]


def commands(out: Path) -> list[list[str]]:
    """Return commands that write every kind of output into a folder."""
    model = {
        name: str(folder() / f"{name}.json")
        for name in ("packing-week", "spring-haulage", "storm-week", "tariff", "two-products")
    }
    return [
        ["solve", model["packing-week"], "--json", f"{out}/a.json", "--report", f"{out}/a.html", "--report", f"{out}/a.xlsx"],
        ["solve", model["tariff"], "--report", f"{out}/a.md", "--figure", f"{out}/a.svg", "--events", f"{out}/a.jsonl"],
        ["sensitivity", model["packing-week"], "--report", f"{out}/a.xlsx", "--figure", f"{out}/a.png"],
        ["diagnose", model["storm-week"], "--json", "-", "--report", f"{out}/a.html"],
        ["convert", model["two-products"], f"{out}/a.xlsx"],
        ["convert", model["spring-haulage"], f"{out}/a.rdk"],
        ["convert", model["tariff"], f"{out}/a.json"],
        ["what-if", model["packing-week"], "extraction=+10%", "--json", f"{out}/a.json"],
        ["scenarios", model["spring-haulage"], str(folder() / "weeks.csv"), "--keep", f"{out}/kept.jsonl", "--csv", f"{out}/a.csv"],
        ["scenarios", model["spring-haulage"], str(folder() / "weeks.csv"), "--keep", f"{out}/kept.jsonl", "--jobs", "2"],
    ]  # fmt: skip


def one(number: int) -> tuple[str, str]:
    """Run a command under a fault of this number; return what came of it, and what is wrong with that."""
    rng = random.Random(number)
    out = Path(tempfile.mkdtemp(prefix=f"fault-{number}-", dir=folder()))
    try:
        words = rng.choice(commands(out))
        outputs = [Path(w) for w in words if w.startswith(str(out)) and not w.endswith(("kept.jsonl", "a.jsonl"))]
        if rng.random() < 0.5:
            for path in outputs:
                path.write_text(BEFORE)
        fault = rng.choice(list(FAULTS))
        status, text = FAULTS[fault](words, out, rng)
        told = f"{words[0]} {fault} -> {status}"
        return told, _wrong(fault, words, status, text, outputs, out)
    finally:
        out.chmod(0o700)
        shutil.rmtree(out, ignore_errors=True)


def _wrong(fault: str, words: list[str], status: int, text: str, outputs: list[Path], out: Path) -> str:
    if fault == "interrupted" and "KeyboardInterrupt" in text and not re.search(r'File "\S*/ruddock/', text):
        return ""  # Python itself was still starting
    if "Traceback" in text or "Error:" in text or "Exception ignored" in text:
        return f"{fault} {words}: {text[-900:]}"
    if status not in STATUS[fault]:
        return f"{fault} {words}: status {status}: {text[-300:]}"
    for path in outputs:
        if not _whole(path):
            return f"{fault} {words}: {path.name} is there in part"
    left = [p.name for p in out.iterdir() if ".part" in p.name]
    if left and fault != "killed":
        return f"{fault} {words}: left behind {left}"
    if (
        status == 0
        and fault == "environment"
        and not all(p.exists() and p.read_bytes() != BEFORE.encode() for p in outputs)
    ):
        return f"{fault} {words}: an output is missing"
    kept = out / "kept.jsonl"
    if kept.exists() and words[0] == "scenarios":
        again = subprocess.run([*COMMAND, *words], capture_output=True, text=True, timeout=120)
        found = [json.loads(line) for line in kept.read_text().splitlines()[1:]]
        by_name = {row["scenario"]: row["objective"] for row in found}
        if again.returncode != 0 or [by_name.get(f"s{k}") for k in range(30)] != truth() or len(found) != 30:
            return f"{fault} {words}: continued with {again.returncode}, {len(found)} kept: {again.stderr[-200:]}"
    return ""


def _whole(path: Path) -> bool:
    """Say whether an output is not there, as it was before, or whole."""
    if not path.exists():
        return True
    content = path.read_bytes()
    if content == BEFORE.encode():
        return True
    if path.suffix == ".json":
        return bool(json.loads(content))
    if path.suffix == ".xlsx":
        with zipfile.ZipFile(path) as archive:
            return archive.testzip() is None
    if path.suffix == ".svg":
        return ElementTree.fromstring(content) is not None
    if path.suffix == ".png":
        return content.endswith(b"IEND\xaeB`\x82")
    if path.suffix == ".csv":
        return len(pd.read_csv(path)) > 0  # all scenarios, or those solved before it was stopped
    if path.suffix == ".rdk":
        return rk.read(path).solve().found
    return content.rstrip().endswith(b"</html>") if path.suffix == ".html" else content.endswith(b"\n")


def _run(words: list[str], *, before: Callable[[], None] | None = None, **given: object) -> tuple[int, str]:
    found = subprocess.run([*COMMAND, *words], capture_output=True, timeout=120, preexec_fn=before, **given)  # type: ignore[call-overload]
    return found.returncode, (found.stdout + found.stderr).decode("utf-8", "replace")


def _environment(words: list[str], out: Path, rng: random.Random) -> tuple[int, str]:
    own = {**os.environ}
    for name, value in rng.choice(ENVIRONMENTS).items():
        own.pop(name, None)
        if value is not None:
            own[name] = value
    return _run(words, env=own, cwd=out)


def _ended(words: list[str], rng: random.Random, what: int) -> tuple[int, str]:
    """Send a signal after a random time; the text is what it printed."""
    process = subprocess.Popen([*COMMAND, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    time.sleep(rng.choice((0.0, 0.3, 1.0)) + rng.random() * 1.2)
    with suppress(ProcessLookupError):
        process.send_signal(what)
    out, err = process.communicate(timeout=120)
    return process.returncode, (out + err).decode("utf-8", "replace")


def _full_disk(words: list[str], out: Path, rng: random.Random) -> tuple[int, str]:
    size = rng.choice((0, 1, 100, 1000, 4096, 10_000, 40_000))

    def limited() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))

    return _run(words, before=limited, cwd=out)


def _read_only(words: list[str], out: Path, rng: random.Random) -> tuple[int, str]:
    out.chmod(0o555)

    def bound_by_modes() -> None:
        if os.getuid() == 0:  # who may write everywhere, unless the right to do so is dropped
            ctypes.CDLL(None).prctl(PR_CAPBSET_DROP, CAP_DAC_OVERRIDE, 0, 0, 0)

    return _run(words, before=bound_by_modes)


def _nobody_reads(words: list[str], out: Path, rng: random.Random) -> tuple[int, str]:
    """Close the output after some bytes."""
    process = subprocess.Popen([*COMMAND, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert process.stdout is not None and process.stderr is not None
    process.stdout.read(rng.choice((0, 1, 100)))
    process.stdout.close()
    err = process.stderr.read()
    return process.wait(120), err.decode("utf-8", "replace")


def _closed_from_the_start(words: list[str], out: Path, rng: random.Random) -> tuple[int, str]:
    closed = rng.choice(((1,), (2,), (0,), (0, 1, 2)))

    def close() -> None:
        for number in closed:
            os.close(number)

    return _run(words, before=close)


def _full_device(words: list[str], out: Path, rng: random.Random) -> tuple[int, str]:
    with open("/dev/full", "wb") as full:
        found = subprocess.run([*COMMAND, *words], stdout=full, stderr=subprocess.PIPE, timeout=120)
    return found.returncode, found.stderr.decode("utf-8", "replace")


FAULTS: dict[str, Callable[[list[str], Path, random.Random], tuple[int, str]]] = {
    "environment": _environment,
    "interrupted": lambda words, _, rng: _ended(words, rng, signal.SIGINT),
    "terminated": lambda words, _, rng: _ended(words, rng, signal.SIGTERM),
    "killed": lambda words, _, rng: _ended(words, rng, signal.SIGKILL),
    "full disk": _full_disk,
    "read-only folder": _read_only,
    "nobody reads": _nobody_reads,
    "closed from the start": _closed_from_the_start,
    "full device": _full_device,
}
STATUS: dict[str, set[int]] = {
    "environment": {0, 1},  # 1: the model of a diagnosis has no plan
    "interrupted": {0, 1, 130, -signal.SIGINT},  # the last two: before the command began
    "terminated": {0, 1, 143, -signal.SIGTERM},
    "killed": {0, 1, -signal.SIGKILL},
    "full disk": {0, 1, 2},
    "read-only folder": {0, 1, 2},
    "nobody reads": {0, 1, 141},
    "closed from the start": {0, 1},
    "full device": {0, 1, 2},
}
