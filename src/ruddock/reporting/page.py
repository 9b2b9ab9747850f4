"""A document as one page of HTML that opens without a network or scripts, and prints well."""

from __future__ import annotations

from datetime import UTC, datetime

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from ruddock._version import __version__
from ruddock.characters import in_line, visible
from ruddock.document.content import Block, Document, Figure, Sentence
from ruddock.document.html import block_html, style_sheet
from ruddock.document.numbers import capital
from ruddock.document.plotting import svg


def page(document: Document, question: str | None) -> str:
    """Return a document as a page; its blocks escape what they hold, the template all else."""
    environment = Environment(
        loader=PackageLoader("ruddock.reporting"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    sections = [
        {
            "title": in_line(section.title),
            "appendix": section.appendix,
            "blocks": [Markup(_block(b, document.title)) for b in section.blocks],
        }
        for section in document.sections
    ]
    return environment.get_template("page.html.j2").render(
        title=in_line(document.title),
        question=None if question is None else visible(question),
        sections=sections,
        style=Markup(style_sheet()),
        version=__version__,
        day=f"{datetime.now(UTC):%Y-%m-%d}",
    )


def _block(block: Block, title: str) -> str:
    """Return a block; a verdict begins with the title of the model, which is above it on a page."""
    if isinstance(block, Sentence) and block.verdict and block.words.startswith(f"{title}: "):
        words = block.words.removeprefix(f"{title}: ")
        block = Sentence(capital(words), verdict=True)
    return block_html(block, figure=svg(block.draw, block.height) if isinstance(block, Figure) else "")
