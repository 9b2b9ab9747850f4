"""The base of every result: one document, and the forms that it takes."""

from __future__ import annotations

from collections.abc import Sequence
from math import isfinite
from os import PathLike
from typing import TYPE_CHECKING, Any, ClassVar

from ruddock.document.content import Block, Document, Figure
from ruddock.errors import ModelError

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
else:  # imported when they are needed
    Axes = Any

REPORTS = (".html", ".xlsx", ".md", ".json")


def records(frame: pd.DataFrame) -> dict[str, dict[str, Any]]:
    """Return a table as plain data by its index."""
    rows: list[dict[Any, Any]] = frame.to_dict("records")
    return {str(name): row for name, row in zip(frame.index, rows, strict=True)}


def finite(held: Any) -> Any:
    """Return plain data for JSON, which has no number that is infinite or unknown: None in place of these."""
    if isinstance(held, dict):
        return {key: finite(part) for key, part in held.items()}
    if isinstance(held, (list, tuple)):
        return [finite(part) for part in held]
    return (float(held) + 0.0 if isfinite(held) else None) if isinstance(held, float) else held  # no -0


class Result:
    """An answer that reads as text when printed, as HTML in a notebook, and can be drawn and reported.

    Each kind of answer says what it has to say in ``_blocks``, what it is called in ``_title``, what programs get in
    ``_facts``, and perhaps how it is drawn in ``figure``.
    """

    # why there may be no figure
    undrawn: ClassVar[str] = "this kind of answer is not drawn; print it to see what it says"

    def _title(self) -> str:
        """Return the title of the model, or the subject."""
        raise NotImplementedError

    def _blocks(self) -> Sequence[Block]:
        """Return what is said, the verdict first."""
        raise NotImplementedError

    def document(self, *, all: bool = False) -> Document:
        """Return what is said of this result; printed, it is text.

        Parameters
        ----------
        all : bool
            Show tables in full, however long they are.
        """
        return Document.of(self._title(), self._blocks())._replace(whole=all)

    def figure(self) -> Figure | None:
        """Return how this result is drawn, or None where there is nothing to draw."""
        return None

    def draw(self, ax: Axes | None = None) -> Axes:
        """Draw this result with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.

        Raises
        ------
        ModelError
            If there is nothing to draw.
        """
        from ruddock.document.plotting import new_axes, plain_words

        figure = self.figure()
        if figure is None:
            raise ModelError(f"there is nothing to draw: {self.undrawn}")
        return plain_words(figure.draw)(ax if ax is not None else new_axes())

    def table(self) -> pd.DataFrame:
        """Return the answer as one table: a row for each thing that was asked about."""
        raise NotImplementedError

    def _facts(self) -> dict[str, Any]:
        """Return plain data; numbers may be infinite or unknown."""
        raise NotImplementedError

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON; a number that is infinite or not known is None."""
        facts: dict[str, Any] = finite(self._facts())
        return facts

    def report(self, path: str | PathLike[str], *, question: str | None = None) -> None:
        """Write this result as a document that can be sent on.

        The ending says the form: ``.html`` is one page that opens without a network and prints well, ``.xlsx`` a
        workbook with numbers as numbers, ``.md`` is Markdown, ``.json`` is for programs.

        Parameters
        ----------
        path : str or path
        question : str, optional
            What was asked, in a sentence or two, at the top.

        Raises
        ------
        FormatError
            If the ending is none of these, or the file cannot be written.
        """
        from ruddock.reporting.report import write_report

        write_report(self, path, question)

    def __str__(self) -> str:
        return str(self.document())

    def __repr__(self) -> str:
        return f"<{type(self).__name__}: {self.document().verdict}>"

    def _repr_html_(self) -> str:
        return self.document()._repr_html_()
