"""Console output: documents, and how many of many are done."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from ruddock.characters import in_line
from ruddock.document.console import Speech, text

if TYPE_CHECKING:
    from ruddock.document.content import Document

EVERY_SECONDS = 10.0  # a line, where there is no terminal
STYLES: dict[str, dict[str, bool]] = {
    "verdict": {"bold": True},
    "heading": {"bold": True},
    "head": {"dim": True},
    "note": {"dim": True},
}


def show(document: Document, *, model: str = "MODEL", err: bool = False) -> None:
    """Print a document; plain where the output is no terminal."""
    click.echo(text(document, speech=Speech(in_line(model)), style=_style), err=err)


def _style(words: str, what: str) -> str:
    held = STYLES.get(what)
    return click.style(words, **held) if held is not None and words else words


@contextmanager
def counting(what: str) -> Iterator[Callable[[int, int], None]]:
    """Give a listener that shows how many of how many are done: on a terminal one line, piped one every ten seconds."""
    terminal = sys.stderr.isatty()
    last = time.monotonic()
    shown = False

    def listen(done: int, of: int) -> None:
        nonlocal last, shown
        now = time.monotonic()
        if now - last < (0.2 if terminal else EVERY_SECONDS):
            return
        last = now
        words = f"{done:,} {what} so far" if done == of else f"{done:,} of {of:,} {what}"
        click.echo(f"\r\033[K{words}" if terminal else words, err=True, nl=not terminal)
        shown = True

    try:
        yield listen
    finally:
        if terminal and shown:
            click.echo("\r\033[K", err=True, nl=False)
