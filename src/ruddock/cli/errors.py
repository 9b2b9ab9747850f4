"""Ruddock's errors and warnings as a command line shows them: one form for all."""

from __future__ import annotations

import _thread
import errno
import io
import os
import signal
import sys
import threading
import warnings
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from importlib import import_module
from types import FrameType
from typing import Any

import click

from ruddock.cli.say import say
from ruddock.errors import RuddockError, RuddockWarning

READER_GONE = 141  # as of a program that writes on into a closed pipe
SOON = 0.02  # seconds until a signal that came during an import is looked at again


class RuddockGroup(click.Group):
    """A group whose commands show every error in one form, and our warnings as lines.

    A command's module is imported when the command is asked for: the start of one does not pay for all.
    """

    def __init__(self, *args: Any, modules: Mapping[str, Sequence[str]] | None = None, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._modules = {name: module for module, names in (modules or {}).items() for name in names}

    def list_commands(self, context: click.Context) -> list[str]:
        """Return the commands in the order of a model's life."""
        return list(self._modules)

    def get_command(self, context: click.Context, cmd_name: str) -> click.Command | None:
        """Return a command, or None."""
        if cmd_name in self._modules:
            import_module(self._modules[cmd_name])
        return super().get_command(context, cmd_name)

    def invoke(self, context: click.Context) -> Any:
        """Run a command; one whose output is no longer read ends in a way of its own."""
        try:
            return super().invoke(context)
        except OSError as error:
            if error.errno == errno.EPIPE:  # which click would end with the status of a run without a plan
                raise _ReaderGoneError from None
            raise

    def main(  # type: ignore[override]
        self,
        args: Sequence[str] | None = None,
        prog_name: str | None = None,
        *,
        standalone_mode: bool = True,
        **extra: Any,
    ) -> Any:
        """Run the command line; an error ends it with status 2, what a command says with its own."""
        if not standalone_mode:
            return super().main(args, prog_name, standalone_mode=False, **extra)
        for stream in (sys.stdout, sys.stderr):
            if isinstance(stream, io.TextIOWrapper):  # an output that lacks a character shows ? in its place
                stream.reconfigure(errors="replace")
        with warnings.catch_warnings(), _ended_gently() as ended:
            warnings.showwarning = _show_warning
            warnings.simplefilter("always", RuddockWarning)
            try:
                status = super().main(args, prog_name or "ruddock", standalone_mode=False, **extra)
                if sys.stdout is not None:  # which may be closed from the start
                    sys.stdout.flush()
            except RuddockError as error:
                show_error(str(error))
                status = 2
            except click.ClickException as error:
                asked = getattr(error, "ctx", None)
                help_with = f"\nSee {asked.command_path} -h." if asked is not None else ""
                show_error(error.format_message() + help_with)
                status = 2
            except (click.Abort, KeyboardInterrupt):
                say("stopped", err=True)
                status = ended.status
            except (_ReaderGoneError, BrokenPipeError):
                status = READER_GONE
            except OSError as error:
                show_error(f"the output cannot be written: {error.strerror or error}")
                status = 2
        if status in (READER_GONE, 2):
            _give_up_output()
        sys.exit(status if isinstance(status, int) else 0)


class _ReaderGoneError(Exception):
    """What reads the output has closed it."""


class _Interrupt(KeyboardInterrupt):
    """Ctrl-C; of one inside ``exec``, as when a dataclass is made, Python itself dies, however that is handled."""


class _Ended:
    """How a run is ended from outside: status 130 by Ctrl-C, 143 by a signal to terminate."""

    status = 128 + signal.SIGINT


@contextmanager
def _ended_gently() -> Iterator[_Ended]:
    """Take a signal to terminate as Ctrl-C: a solve hands over the best plan it has, and no file is left in part.

    While a module is being imported a signal waits: a compiled module that is left half made ends Python with a
    crash or a traceback of its own.
    """
    ended = _Ended()
    process = os.getpid()

    def end(number: int, frame: FrameType | None) -> None:
        if os.getpid() != process:  # a worker that was forked: it has nothing to hand over
            os._exit(128 + number)
        ended.status = 128 + number
        if signal.getsignal(signal.SIGINT) == signal.SIG_IGN:  # in the background, where Ctrl-C does not count
            interrupt(number, frame)
        else:
            signal.raise_signal(signal.SIGINT)

    def interrupt(number: int, frame: FrameType | None) -> None:
        if not _importing(frame):
            raise _Interrupt
        later = threading.Timer(SOON, _send_to_main, [number])
        later.daemon = True
        later.start()

    if threading.current_thread() is not threading.main_thread():
        yield ended
        return
    before = signal.getsignal(signal.SIGINT), signal.signal(signal.SIGTERM, end)
    if before[0] is signal.default_int_handler:
        signal.signal(signal.SIGINT, interrupt)
    try:
        yield ended
    finally:
        signal.signal(signal.SIGINT, before[0])
        signal.signal(signal.SIGTERM, before[1])


def _importing(frame: FrameType | None) -> bool:
    """Say whether the command line, below its own start, is importing a module."""
    while frame is not None and frame.f_code is not RuddockGroup.main.__code__:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            return True
        frame = frame.f_back
    return False


def _send_to_main(number: int) -> None:
    """Send this process a signal again, so that it wakes the main thread."""
    if hasattr(signal, "pthread_kill"):
        signal.pthread_kill(threading.main_thread().ident or 0, number)
    else:
        _thread.interrupt_main(signal.Signals(number))


def _give_up_output() -> None:
    """Drop what is still to be written to an output that takes nothing: Python would complain of it at its end."""
    try:
        if sys.stdout is not None:
            sys.stdout.flush()
    except (OSError, ValueError):
        with suppress(OSError, ValueError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def show_error(message: str) -> None:
    """Show an error in the one form that all have."""
    click.secho("error: ", fg="red", bold=True, nl=False, err=True)
    say(message, err=True)


def _show_warning(message: Warning | str, *_: Any, **__: Any) -> None:
    click.secho("note: ", fg="yellow", nl=False, err=True)
    say(str(message), err=True)
