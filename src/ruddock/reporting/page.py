"""A report as one page of HTML that opens without a network and prints well."""

from __future__ import annotations

from io import StringIO
from typing import TYPE_CHECKING

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from ruddock.reporting.figures import paper
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.reporting.report import Report, Section


def page(report: Report) -> str:
    """Return a report as HTML; all text from the model is escaped by the template."""
    environment = Environment(
        loader=PackageLoader("ruddock.reporting"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    template = environment.get_template("report.html.j2")
    sections = [
        {
            "title": section.title,
            "parts": [(isinstance(part, Table), part) for part in section.parts],
            "figure": _drawn(section),
        }
        for section in report.sections
    ]
    return template.render(title=report.title, verdict=report.verdict, found=report.plan.found, sections=sections)


def _drawn(section: Section) -> Markup | None:
    """Return a section's figure as SVG, whose text stays text."""
    if section.figure is None:
        return None
    import matplotlib as mpl

    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "ruddock", "font.family": "sans-serif"}):
        ax = section.figure(paper(section.height))
        figure = ax.get_figure()
        assert figure is not None
        out = StringIO()
        figure.savefig(out, format="svg", metadata={"Date": None})  # type: ignore[union-attr]
    text = out.getvalue()
    return Markup(text[text.index("<svg") :])  # drawn by Matplotlib, which escapes the text in it
