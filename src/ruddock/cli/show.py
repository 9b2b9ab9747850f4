"""Console output: tables, sentences, and how many of many are done."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TextIO

from rich.console import Console

from ruddock.reporting.text import print_parts
from ruddock.tables import Table

PIPED_WIDTH = 110


def console(file: TextIO | None = None) -> Console:
    """Return a console; wide enough for tables where the output goes to a file or pipe."""
    target = file or sys.stdout
    return Console(file=target, width=None if target.isatty() else PIPED_WIDTH)


def show(parts: Sequence[str | Table], file: TextIO | None = None) -> None:
    """Print sentences and tables."""
    print_parts(console(file), parts)


@contextmanager
def counting(what: str) -> Iterator[Callable[[int, int], None]]:
    """Give a listener that shows how many of how many are done: a bar on a terminal, piped a line every ten seconds."""
    out = Console(stderr=True)
    if out.is_terminal:
        from rich.progress import Progress as Bar

        with Bar(console=out, transient=True) as bar:
            task = bar.add_task(what, total=None)
            yield lambda done, of: bar.update(task, completed=done, total=of)
        return
    told = time.monotonic()

    def listen(done: int, of: int) -> None:
        nonlocal told
        if time.monotonic() - told >= 10.0:
            told = time.monotonic()
            out.print(f"{done:,} of {of:,} {what}", highlight=False)

    yield listen
