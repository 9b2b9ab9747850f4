"""Sentences and tables as HTML for notebooks."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape

from ruddock.tables import Table


def parts_html(parts: Iterable[str | Table]) -> str:
    """Return sentences and tables as an HTML fragment, all text escaped."""
    written = (part.to_html() if isinstance(part, Table) else f"<p>{escape(part)}</p>" for part in parts)
    return "<div>" + "".join(written) + "</div>"
