"""The program ``ruddock``, which is also ``python -m ruddock``."""

from __future__ import annotations

import signal


def main() -> None:
    """Run the command line; Ctrl-C while it is still being loaded ends it without a word."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from ruddock.cli import main as run
    from ruddock.imports import load_when_asked

    load_when_asked()

    signal.signal(signal.SIGINT, signal.default_int_handler)
    run()


if __name__ == "__main__":
    main()
