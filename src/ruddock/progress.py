"""One line that says how far a solve is: on a terminal kept up to date, piped a line every ten seconds."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from math import isfinite
from typing import TYPE_CHECKING

from ruddock.characters import in_line
from ruddock.document.console import terminal_width
from ruddock.document.numbers import amount, plural

if TYPE_CHECKING:
    from ruddock.engine.outcome import Progress

QUIET_SECONDS = 1.0  # a solve shorter than this shows nothing
EVERY_SECONDS = 10.0  # a line, where there is no terminal
CLEAR = "\r\033[K"  # back to the start of the line, which is wiped


def progress_sentence(progress: Progress, *, maximize: bool, unit: str | None, time_limit: float | None = None) -> str:
    """Return progress as one sentence: ``12 s, 3,400 nodes, best £9,120.00, at most £9,310.00 (gap 2.08%)``."""
    parts = [f"{progress.seconds:.0f} s"]
    parts += [progress.doing] if progress.doing else []
    searching = progress.phase in ("", "search")
    if searching:
        parts.append(plural(progress.nodes, "node"))
    else:
        parts.append(f"{progress.phase}, {plural(progress.iterations, 'iteration')}")
        if progress.infeasibility == progress.infeasibility:
            what = "gap" if progress.phase == "interior point" else "infeasibility"
            parts.append(f"{what} {progress.infeasibility:.2g}")
    if isfinite(progress.best):
        parts.append(f"best {amount(progress.best, unit)}")
    elif searching and not progress.doing:
        parts.append("no plan yet")
    if isfinite(progress.bound) and not progress.doing:
        edge = "at most" if maximize else "at least"
        gap = abs(progress.best - progress.bound) / max(1.0, abs(progress.best))
        parts.append(
            f"{edge} {amount(progress.bound, unit, 'up' if maximize else 'down')}"
            + (f" (gap {gap:.2%})" if isfinite(gap) else "")
        )
    if time_limit is not None:
        parts.append(f"{max(time_limit - progress.seconds, 0.0):.0f} s left")
    text = ", ".join(parts)
    return in_line(f"{progress.objective}: {text}" if progress.objective else text)


@contextmanager
def progress_line(
    *, maximize: bool, unit: str | None, time_limit: float | None = None
) -> Iterator[Callable[[Progress], None]]:
    """Give a listener that keeps one line on standard error up to date."""
    out = sys.stderr
    terminal = out.isatty()
    last, shown = 0.0, False

    def listen(progress: Progress) -> None:
        nonlocal last, shown
        if progress.seconds < QUIET_SECONDS:
            return
        sense = maximize if progress.maximize is None else progress.maximize
        sentence = progress_sentence(progress, maximize=sense, unit=progress.unit or unit, time_limit=time_limit)
        if terminal:
            out.write(CLEAR + sentence[: terminal_width() - 1])
            out.flush()
            shown = True
        elif progress.seconds - last >= EVERY_SECONDS or not last:
            last = progress.seconds
            print(sentence, file=out, flush=True)

    try:
        yield listen
    finally:
        if shown:
            out.write(CLEAR)
            out.flush()
