"""Console output: tables, sentences, and the line that tells progress."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, TextIO

from rich.console import Console

from ruddock.reporting.text import print_parts, progress_sentence
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.engine.outcome import Progress
    from ruddock.modelling.model import Model

QUIET_SECONDS = 1.0  # a solve shorter than this tells nothing on the way
PIPED_WIDTH = 110


def console(file: TextIO | None = None) -> Console:
    """Return a console; wide enough for tables where the output goes to a file or pipe."""
    target = file or sys.stdout
    return Console(file=target, width=None if target.isatty() else PIPED_WIDTH)


def show(parts: Sequence[str | Table], file: TextIO | None = None) -> None:
    """Print sentences and tables."""
    print_parts(console(file), parts)


@contextmanager
def show_progress(model: Model) -> Iterator[Callable[[Progress], None]]:
    """Give a listener that keeps one line on standard error up to date; piped, a line every ten seconds."""
    formulation = model.formulation()
    objectives = formulation.objectives
    maximize, unit = (objectives[0].maximize, objectives[0].unit) if objectives else (False, None)
    tree = any(family.marks.any() for family in formulation.decisions)
    out = Console(stderr=True)
    told = 0.0
    status = out.status("") if out.is_terminal else None
    started = False

    def listen(progress: Progress) -> None:
        nonlocal told, started
        if progress.seconds < QUIET_SECONDS:
            return
        sentence = progress_sentence(progress, maximize=maximize, unit=unit, tree=tree)
        if status is not None:
            status.update(sentence)
            if not started:
                status.start()
                started = True
        elif progress.seconds - told >= 10.0 or not told:
            told = progress.seconds
            out.print(sentence, highlight=False, soft_wrap=True)

    try:
        yield listen
    finally:
        if status is not None and started:
            status.stop()


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
