"""A solve gives the same wherever it runs: threads, an event loop, a forked or spawned process, with warnings as errors."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

SCRIPT = """
import asyncio, multiprocessing, os
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor

import ruddock as rk
from ruddock import demos

WANTED = {"packing-week": 6431.764, "spring-haulage": 429.25, "storm-week": None}


def solved(name):
    plan = demos.build(name).solve()
    right = plan.objective if plan.found else None
    return right == WANTED[name] or abs(right - WANTED[name]) < 1e-2


async def in_a_loop():
    own = solved("spring-haulage")  # in the loop itself
    others = await asyncio.gather(*(asyncio.to_thread(solved, name) for name in WANTED))
    return own and all(others)


def forked():
    child = os.fork()
    if not child:
        os._exit(0 if solved("packing-week") else 1)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


def sure(held, what):
    if not held:  # an assertion says nothing under -O
        raise SystemExit(f"not the same: {what}")


if __name__ == "__main__":
    sure(forked(), "fork before anything else")
    sure(all(map(solved, WANTED)), "alone")
    sure(forked(), "fork after a solve")
    with ThreadPoolExecutor(4) as pool:
        sure(all(pool.map(solved, [*WANTED] * 2)), "threads")
    sure(asyncio.run(in_a_loop()), "an event loop")
    for how in ("spawn", "fork", "forkserver"):
        with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context(how)) as pool:
            sure(all(pool.map(solved, WANTED)), how)
    print("all the same")
"""


def test_a_solve_is_the_same_wherever_it_runs(tmp_path: Path) -> None:
    script = tmp_path / "where.py"
    script.write_text(SCRIPT)
    words = [sys.executable, "-O", "-W", "error", str(script)]
    done = subprocess.run(words, capture_output=True, text=True, timeout=300, env={**os.environ})
    assert (done.returncode, done.stdout) == (0, "all the same\n"), done.stderr[-2000:]
