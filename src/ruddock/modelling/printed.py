"""Results that print themselves, and show themselves in notebooks."""

from __future__ import annotations

from ruddock.tables import Table


class Printed:
    """A result made of sentences and tables: text when printed, HTML in a notebook."""

    def parts(self) -> list[str | Table]:
        """Return what is told, sentence by sentence and table by table."""
        raise NotImplementedError

    def __str__(self) -> str:
        from ruddock.reporting.text import to_text

        return to_text(self.parts())

    def _repr_html_(self) -> str:
        from ruddock.reporting.html import parts_html

        return parts_html(self.parts())
