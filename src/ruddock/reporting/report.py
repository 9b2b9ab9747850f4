"""Results as documents that can be sent on: a page, a workbook, Markdown, JSON."""

from __future__ import annotations

from collections.abc import Iterable
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING

from ruddock.document.content import Document, Section, Sentence
from ruddock.document.markdown import markdown
from ruddock.document.result import REPORTS, Result
from ruddock.errors import FormatError, known
from ruddock.files import json_text, write_text
from ruddock.modelling.plan import Plan
from ruddock.reporting.plan_report import plan_report, with_figure

if TYPE_CHECKING:
    from ruddock.insight.diagnosis import Diagnosis
    from ruddock.insight.sensitivity import Sensitivity


def write_report(
    result: Result, path: str | PathLike[str], question: str | None = None, diagnosis: Diagnosis | None = None
) -> None:
    """Write a result as a document, in the form that the ending says; see `Result.report`."""
    write_reports(result, [Path(path)], question, diagnosis)


def write_reports(
    result: Result, paths: Iterable[Path], question: str | None = None, diagnosis: Diagnosis | None = None
) -> None:
    """Write a result as documents in several forms; what they say is worked out once."""
    whole: tuple[Document, Sensitivity | None] | None = None
    for target in paths:
        form = target.suffix.lower()
        if form not in REPORTS:
            raise FormatError(f"a report is written as {', '.join(REPORTS)}; {known(form, REPORTS)}", path=str(target))
        if form == ".json":
            write_text(target, json_text(result.as_dict()))
            continue
        whole = whole or report_of(result, diagnosis)
        document, ranges = whole
        if form == ".html":
            from ruddock.reporting.page import page

            write_text(target, page(document, question))
        elif form == ".md":
            asked = (Section("", [Sentence(question)]),) if question else ()
            write_text(target, markdown(Document(document.title, (*asked, *document.sections))))
        else:
            from ruddock.reporting.workbook import write_workbook

            write_workbook(result, document, ranges, question, target)


def report_of(result: Result, diagnosis: Diagnosis | None = None) -> tuple[Document, Sensitivity | None]:
    """Return what a report of a result says: of a plan its own report, else the result with its figure."""
    if isinstance(result, Plan):
        return plan_report(result, diagnosis)
    document, figure = result.document(), result.figure()
    sections = [
        Section(section.title, with_figure(section.blocks, None if k else figure))
        for k, section in enumerate(document.sections)
    ]
    return Document(document.title, tuple(sections)), None
