"""Plans as HTML for notebooks."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape
from typing import TYPE_CHECKING

from ruddock.reporting.text import plan_parts
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan


def plan_html(plan: Plan) -> str:
    """Return a plan as an HTML fragment, all text escaped."""
    return parts_html(plan_parts(plan))


def parts_html(parts: Iterable[str | Table]) -> str:
    """Return sentences and tables as an HTML fragment, all text escaped."""
    written = (part.to_html() if isinstance(part, Table) else f"<p>{escape(part)}</p>" for part in parts)
    return "<div>" + "".join(written) + "</div>"
