"""Plans as HTML for notebooks."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING

from ruddock.reporting.text import plan_parts
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan


def plan_html(plan: Plan) -> str:
    """Return a plan as an HTML fragment, all text escaped."""
    parts = (part.to_html() if isinstance(part, Table) else f"<p>{escape(part)}</p>" for part in plan_parts(plan))
    return "<div>" + "".join(parts) + "</div>"
