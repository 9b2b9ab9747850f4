"""One line that says how far a solve is: on a terminal kept up to date, piped a line every ten seconds."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.numbers import amount, plural

if TYPE_CHECKING:
    from ruddock.engine.outcome import Progress

QUIET_SECONDS = 1.0  # a solve shorter than this shows nothing on the way
EVERY_SECONDS = 10.0  # a line, where there is no terminal


def progress_sentence(progress: Progress, *, maximize: bool, unit: str | None, tree: bool) -> str:
    """Return progress as one sentence: ``12 s, 3,400 nodes, best £9,120.00, at most £9,310.00 (gap 2.08%)``."""
    done = plural(progress.nodes, "node") if tree else plural(progress.iterations, "iteration")
    if progress.doing:
        return f"{progress.seconds:.0f} s, {progress.doing}, {done}"
    parts = [f"{progress.seconds:.0f} s", done]
    if np.isfinite(progress.best):
        parts.append(f"best {amount(progress.best, unit)}")
    elif tree:
        parts.append("no plan yet")
    if np.isfinite(progress.bound):
        edge = "at most" if maximize else "at least"
        gap = abs(progress.best - progress.bound) / max(1.0, abs(progress.best))
        parts.append(f"{edge} {amount(progress.bound, unit)}" + (f" (gap {gap:.2%})" if np.isfinite(gap) else ""))
    text = ", ".join(parts)
    return f"{progress.objective}: {text}" if progress.objective else text


@contextmanager
def progress_line(*, maximize: bool, unit: str | None, tree: bool) -> Iterator[Callable[[Progress], None]]:
    """Give a listener that keeps one line on standard error up to date."""
    from rich.console import Console

    out = Console(stderr=True)
    status = out.status("") if out.is_terminal else None
    told, started = 0.0, False

    def listen(progress: Progress) -> None:
        nonlocal told, started
        if progress.seconds < QUIET_SECONDS:
            return
        sense = maximize if progress.maximize is None else progress.maximize
        sentence = progress_sentence(progress, maximize=sense, unit=progress.unit or unit, tree=tree)
        if status is not None:
            status.update(sentence)
            if not started:
                status.start()
                started = True
        elif progress.seconds - told >= EVERY_SECONDS or not told:
            told = progress.seconds
            out.print(sentence, highlight=False, soft_wrap=True)

    try:
        yield listen
    finally:
        if status is not None and started:
            status.stop()
