"""Results as CSV for people: no text in it runs as a formula of a spreadsheet, or acts on a terminal."""

from __future__ import annotations

from typing import Any

import pandas as pd

from ruddock.characters import FORMULA, in_line


def csv_text(frame: pd.DataFrame) -> str:
    """Return a frame as CSV; text that would run as a formula gets a ``'`` in front, as in spreadsheets."""
    held = frame.map(_harmless).set_axis(pd.Index(map(_harmless, frame.columns)), axis=1)
    held.index = pd.Index(map(_harmless, frame.index), name=_harmless(frame.index.name))
    return held.to_csv()


def _harmless(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    text = in_line(value)
    return f"'{text}" if text.startswith(FORMULA) else text
