"""One damaged file and one command about it: answered, or refused in words, with the right status, in time."""

from __future__ import annotations

import os
import random
import re
import sys
import tempfile
import time
import warnings
from contextlib import suppress
from functools import cache
from pathlib import Path

from click.testing import CliRunner

import ruddock as rk
from ruddock.cli import main
from tests.hostile.asking import arguments
from tests.hostile.mutations import damaged, put
from tests.hostile.seeds import Seed, seeds

READ_SECONDS = 2.0
ACTS = re.compile("[\0-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


class Folder:
    """Whole files in a folder of this process."""

    def __init__(self) -> None:
        self.holder = tempfile.TemporaryDirectory(prefix="hostile-")
        self.path = Path(self.holder.name)
        self.seeds = seeds(self.path)
        self.process = os.getpid()

    def own(self) -> Path:
        """Return a folder with the same files for this process alone."""
        if self.process != os.getpid():
            import shutil

            target = Path(tempfile.mkdtemp(prefix=f"own-{os.getpid()}-", dir=self.path.parent))
            shutil.copytree(self.path, target, dirs_exist_ok=True)
            self.path, self.process = target, os.getpid()
        return self.path


@cache
def folder() -> Folder:
    """Return the files, made once."""
    return Folder()


def one(number: int) -> tuple[str, str]:
    """Damage a file, run a command, and return what it did and what was wrong with that."""
    held = folder()
    here = held.own()
    rng = random.Random(number)
    seed: Seed = rng.choice(held.seeds)
    content = damaged(seed.content, seed.damaged, rng)
    path = here / seed.damaged
    put(path, content, rng)
    words = arguments(seed, here, rng)
    try:
        return run(words, seed, path)
    finally:
        if path.is_dir() and not path.is_symlink():
            path.rmdir()
        path.unlink(missing_ok=True)
        path.write_bytes(seed.content)


def run(words: list[str], seed: Seed, path: Path) -> tuple[str, str]:
    """Run a command and judge how it ended."""
    began = time.process_time()
    if seed.role in ("model", "table"):
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            warnings.simplefilter("ignore", rk.RuddockWarning)
            with suppress(rk.RuddockError):
                rk.read(path.parent / Path(seed.model).name)
        took = time.process_time() - began
        if took > READ_SECONDS:
            return "slow", f"{took:.1f} s to read {seed.damaged} | {' '.join(words)}"
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        found = CliRunner().invoke(main, words)
    told = f"{words[0]} {seed.role} {Path(seed.damaged).suffix} -> {found.exit_code}"
    if found.exception is not None and not isinstance(found.exception, SystemExit):
        raise found.exception
    if found.exit_code not in (0, 1, 2):
        return told, f"status {found.exit_code}: {' '.join(words)}"
    if found.exit_code == 2 and not found.stderr.startswith(("error: ", "note: ")) and "error: " not in found.stderr:
        return told, f"no reason given: {' '.join(words)}: {found.stderr[:200]!r}"
    acting = ACTS.search(found.output)
    if acting:
        at = acting.start()
        return (
            told,
            f"{acting.group()!r} acts in the output: {' '.join(words)}: {found.output[max(at - 60, 0) : at + 20]!r}",
        )
    return told, ""


if __name__ == "__main__":
    for number in map(int, sys.argv[1:]):
        print(number, one(number))
