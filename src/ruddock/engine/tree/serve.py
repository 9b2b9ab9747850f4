"""The helper's side of a search on two cores: shares in by standard input, what became of them out again."""

from __future__ import annotations

import os
import pickle
import sys

from ruddock.engine.tree.search import work_on
from ruddock.engine.tree.state import SearchState


def serve() -> None:
    """Answer shares on the standard streams until these close; anything printed goes nowhere."""
    source, target = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    try:
        state: SearchState = pickle.load(source)
        while True:
            pickle.dump(work_on(state, pickle.load(source)), target)
            target.flush()
    except (EOFError, OSError):  # the search has ended
        return
