"""What a person waits for: the start of the command line, the first screen of a plan, a value by name."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path

import ruddock as rk
from benchmarks.measuring import Measured, check, timed
from ruddock import demos

SINGLES = 25_000


def ran(*words: str) -> float:
    """Return the seconds of a process, start to end; modules are compiled once, as after any installation."""
    own = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    return timed(lambda: subprocess.run(words, check=True, capture_output=True, env=own))[0]


def ruddock(*arguments: str) -> float:
    """Return the seconds of a command of ours."""
    script = Path(sys.executable).with_name("ruddock")
    command = [str(script)] if script.exists() else [sys.executable, "-c", "from ruddock.cli import main; main()"]
    return ran(*command, *arguments)


def importing(modules: str) -> float:
    """Return the seconds of a process that imports modules and ends."""
    return ran(sys.executable, "-c", f"import {modules}")


def version() -> Measured:
    """The version, against importing pandas."""
    return Measured(ruddock("--version"), importing("pandas"))


def help_() -> Measured:
    """The list of commands, against importing pandas."""
    return Measured(ruddock("-h"), importing("pandas"))


def command() -> Measured:
    """The whole process of solving a small file, against importing NumPy, SciPy's matrices and pandas."""
    path = Path(tempfile.gettempdir()) / "ruddock-benchmark-small.mps"
    demos.build("spring-haulage").write(path)
    return Measured(ruddock("solve", str(path)), importing("numpy, scipy.sparse, pandas"))


def demo() -> Measured:
    """The whole process of a demo in text form, against importing NumPy, SciPy's matrices and pandas."""
    return Measured(ruddock("demo", "packing-week"), importing("numpy, scipy.sparse, pandas"))


@cache
def singles() -> rk.Model:
    """Return a model written in loops, every decision by itself."""
    model = rk.Model("Singles")
    each = [model.decide(f"x_{k}", upper=1 + k % 3) for k in range(SINGLES)]
    for k in range(0, SINGLES, 10):
        model.require(f"r_{k}", rk.total(each[k : k + 10]) <= 7)
    model.maximize("gain", rk.total((1 + k % 7) * x for k, x in enumerate(each)))
    return model


def printing() -> Measured:
    """The first screen of its plan; it must take less than a second."""
    plan = singles().solve()
    seconds, text = timed(lambda: str(plan))
    check(len(str(text).splitlines()) < 120, "the first screen is short")
    return Measured(seconds, 1.0)


def look_up() -> Measured:
    """A thousand of its values by name; they must take less than a second."""
    plan = singles().solve()
    seconds, found = timed(lambda: [plan[f"x_{k}"] for k in range(0, SINGLES, SINGLES // 1000)])
    check(found == plan.values[:: SINGLES // 1000].tolist(), "the values")
    return Measured(seconds, 1.0)
