"""A fixed sample of the hostile run; all of it is ``python -m tests.long_run hostile``."""

from __future__ import annotations

import gzip
import io
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import tomllib
import zipfile
from collections import Counter
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest

import ruddock as rk
from ruddock import demos
from tests.hostile import parts
from tests.hostile.watched import watched

SAMPLE = {"files": 250, "tiny": 40, "questions": 6, "faults": 4}
ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize("part", SAMPLE)
def test_nothing_goes_wrong_in_a_sample(part: str) -> None:
    work, seconds = parts.PARTS[part]
    seen = Counter[str]()
    wrong = []
    for found in watched(work, range(1, 1 + SAMPLE[part]), 1, 3 * seconds):
        seen[found.said] += 1
        wrong += [f"{part} {found.number}: {found.wrong}"] if found.wrong else []
    assert not wrong
    assert seen.total() == SAMPLE[part]
    assert len(seen) > 2, seen  # not all of them ended alike


def _bomb() -> bytes:
    return gzip.compress(b"NAME x\n" + b" " * (400 << 20), 1)


def _book(*parts_: tuple[str, bytes], base: bytes = b"") -> bytes:
    """Return a workbook with a sheet of one cell, and other parts in place of its own."""
    import openpyxl

    own = openpyxl.Workbook()
    own.active.append(["apiary", "need"])  # type: ignore[union-attr]
    held = io.BytesIO()
    own.save(held)
    new = io.BytesIO()
    with zipfile.ZipFile(held) as old, zipfile.ZipFile(new, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in old.namelist():
            content = dict(parts_).get(name) or old.read(name)
            archive.writestr(name, content)
    return new.getvalue()


SHEET = b'<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>%s</sheetData></worksheet>'
CELL = b'<row r="%d"><c r="XFD%d"><v>1</v></c></row>'
BOMBS: dict[str, tuple[Callable[[], bytes], str]] = {
    "m.mps.gz": (_bomb, "unpacks to more than"),
    "wide.xlsx": (lambda: _book(("xl/worksheets/sheet1.xml", SHEET % b"".join(CELL % (k, k) for k in range(1, 3000)))), "more than 20,000,000 cells"),
    "far.xlsx": (lambda: _book(("xl/worksheets/sheet1.xml", SHEET % (CELL % (2_000_000_000, 5)))), "beyond the last"),
    "large.xlsx": (lambda: _book(("xl/theme/theme1.xml", b"<theme>" + b" " * (200 << 20) + b"</theme>")), "unpacks to more than"),
    "laughs.xlsx": (lambda: _book(("xl/workbook.xml", b'<!DOCTYPE x [<!ENTITY a "aaaa">]><x>&a;</x>')), "defines entities"),
    "deep.json": (lambda: b'{"format": "ruddock-model/1", "x": ' + b"[" * 100_000, "nested too deep"),
    "twice.json": (lambda: b'{"format": "ruddock-model/1", "model": "a", "model": "b"}', "given twice"),
    "wide.csv": (lambda: b"x," * 50_000 + b"\n1", "16,384 columns"),
    "square.csv": (lambda: b"constraints,x,at least,at most\n" + b"r,1,,1\n" * 60_000 + b"\ndecisions,lower,upper,kind\nx,,,\n" + b"x,,,\n" * 60_000, "appears twice"),
    "long.rdk": (lambda: b"decisions\n  x\nminimize o\n  " + b"x+" * 50_000 + b"x", "words and signs"),
    "wrong.rdk": (lambda: b"decisions\n  x\nrequire\n" + b"  ((\n" * 100_000, "errors more"),
    "half.json": (lambda: b'{"format": "ruddock-model/1", "model": "\\ud800"}', "half a character"),
}  # fmt: skip


@pytest.mark.parametrize("name", BOMBS)
def test_a_bomb_is_refused_in_time_and_memory(name: str, tmp_path: Path) -> None:
    make, said = BOMBS[name]
    (tmp_path / name).write_bytes(make())

    def read(_: int) -> tuple[str, str]:
        try:
            rk.read(tmp_path / name)
        except rk.FormatError as error:
            return str(error), "" if said in str(error) and name in str(error) else str(error)[:300]
        return "", "it was read"

    (found,) = watched(read, range(1), 1, 60.0)  # in a process of little memory
    assert not found.wrong


def test_a_search_for_plans_ends_where_its_sums_are_off_by_rounding(tmp_path: Path) -> None:
    shutil.copytree(demos.folder("blending"), tmp_path / "demo")
    lots = tmp_path / "demo" / "lots.csv"
    whole = lots.read_text()
    assert "L04,300,19.6," in whole
    lots.write_text(re.sub(r"L04,300,19.6,\d+,", "L04,300,19.6024,", whole))  # a comma is lost: no cost any more
    assert rk.read(tmp_path / "demo" / "blending.rdk").solve(time_limit=60).status == "optimal"


WAITS = """
import sys
from ruddock.cli import main

@main.command("wait")
def wait():
    exec("import os, signal, time; {}; time.sleep(60)")

sys.argv = ["ruddock", "wait"]
main()
"""
HALF = """
import os, signal, time
{}
time.sleep(0.1)
open("whole", "w").close()
"""


@pytest.mark.parametrize(("sent", "status"), [("SIGTERM", 143), ("SIGINT", 130)])
@pytest.mark.parametrize("during", ["code", "module"])
def test_a_signal_while_code_is_made_ends_a_run_like_any(during: str, sent: str, status: int, tmp_path: Path) -> None:
    send = f"os.kill(os.getpid(), signal.{sent})"
    (tmp_path / "waits.py").write_text(WAITS.format(send if during == "code" else "import half"))
    (tmp_path / "half.py").write_text(HALF.format(send))
    words = [sys.executable, "-m", "waits"]  # where Python would die of an interrupt that was handled
    how = signal.SIG_DFL if sent == "SIGINT" else signal.SIG_IGN  # as where a shell starts it in the background
    begin = partial(signal.signal, signal.SIGINT, how)
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, timeout=120, preexec_fn=begin)
    assert (done.returncode, done.stdout, done.stderr.strip()) == (status, "", "stopped")
    assert (tmp_path / "whole").exists() == (during == "module")  # a module that is left half made can crash Python


def test_a_pipe_is_refused_and_not_waited_for(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "m.rdk")
    os.mkfifo(tmp_path / "need.csv")
    began = time.monotonic()
    for ask in (
        lambda: rk.read(tmp_path / "m.rdk"),
        lambda: rk.read(ROOT / "examples/spring_haulage/spring_haulage.rdk", {"need": tmp_path / "need.csv"}),
    ):
        with pytest.raises(rk.FormatError, match=r"pipe or device|not a file"):
            ask()
    assert time.monotonic() - began < 60


TEXT = "axes\n  apiary : Fell, Mere\ndata\n  need[apiary] : from {file}\ndecisions\n  x[apiary]\nminimize o\n  sum(x)\nrequire\n  c[apiary] : x >= need\n"


@pytest.mark.parametrize(
    "file",
    [
        "../need.csv",
        "link.csv",
        "sub/../../need.csv",
        "{out}/need.csv",
        "sqlite:///{out}/need.db table t",
        "folder/need.csv",
    ],
)
def test_a_model_names_files_below_its_folder_only(file: str, tmp_path: Path) -> None:
    home = tmp_path / "model"
    (home / "sub").mkdir(parents=True)
    (tmp_path / "need.csv").write_text("apiary,need\nFell,3\nMere,4\n")
    (home / "own.csv").write_text("apiary,need\nFell,3\nMere,4\n")
    (home / "link.csv").symlink_to(tmp_path / "need.csv")
    (home / "folder").symlink_to(tmp_path)
    (home / "inner.csv").symlink_to(home / "own.csv")
    model = home / "m.rdk"
    for inside in ("own.csv", "inner.csv", "sub/../own.csv"):
        model.write_text(TEXT.format(file=inside))
        assert rk.read(model).solve().objective == 7
    model.write_text(TEXT.format(file=file.format(out=tmp_path)))
    with pytest.raises(rk.FormatError, match=r"m\.rdk, line 4, column 23.*--allow-outside"):
        rk.read(model)
    if "sqlite" not in file:
        assert rk.read(model, allow_outside=True).solve().objective == 7
        assert rk.read(model, {"need": tmp_path / "need.csv"}).solve().objective == 7
    (home / "inc.rdk").write_text("include ../outer.rdk\n" + TEXT.format(file="own.csv"))
    (tmp_path / "outer.rdk").write_text("axes\n  more : a, b\n")
    with pytest.raises(rk.FormatError, match="--allow-outside"):
        rk.read(home / "inc.rdk")
    assert rk.read(home / "inc.rdk", allow_outside=True).solve().objective == 7
    (home / "weeks.csv").write_text("scenario,need\na,../need.csv\n")
    model.write_text(TEXT.format(file="own.csv"))
    with pytest.raises(rk.FormatError, match=r"weeks\.csv.*--allow-outside"):
        rk.read(model).scenarios(home / "weeks.csv")
    assert rk.read(model, allow_outside=True).scenarios(home / "weeks.csv").results[0].objective == 7


def test_the_list_of_packages_is_the_one_that_is_installed() -> None:
    needs = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["dependencies"]
    listed = re.findall(r"^\| ([a-z0-9]+) \| (>=\S+) \|", (ROOT / "docs/safety.md").read_text(), flags=re.M)
    assert sorted(name + limits for name, limits in listed) == sorted(needs)
    assert all("<" in need for need in needs)
