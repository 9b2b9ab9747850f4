"""Findings: what looks wrong in a model, why it matters and what to do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any, Literal

from ruddock.modelling.printed import Printed
from ruddock.tables import Table, plural

Severity = Literal["error", "warning", "note"]
ORDER = {"error": 0, "warning": 1, "note": 2}


@dataclass(frozen=True)
class Finding:
    """One thing that looks wrong.

    Attributes
    ----------
    severity : ``error`` (there will be no plan), ``warning`` (probably a slip) or ``note``
    kind : a short name of the kind of finding
    where : the decision, constraint or family
    what, why, remedy : what was found, why it matters, what to do
    """

    severity: Severity
    kind: str
    where: str
    what: str
    why: str
    remedy: str


@dataclass(frozen=True)
class Findings(Printed):
    """All findings of a check, the gravest first.

    Attributes
    ----------
    model : the model's title
    items : the findings
    """

    model: str
    items: tuple[Finding, ...]

    def __len__(self) -> int:
        return len(self.items)

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.items)

    @property
    def clean(self) -> bool:
        """Whether nothing was found."""
        return not self.items

    @property
    def errors(self) -> int:
        """Number of findings that leave no plan."""
        return sum(item.severity == "error" for item in self.items)

    def kinds(self) -> set[str]:
        """Return the kinds found."""
        return {item.kind for item in self.items}

    def as_list(self) -> list[dict[str, Any]]:
        """Return the findings as plain data."""
        return [asdict(item) for item in self.items]

    def parts(self) -> list[str | Table]:
        """Return the findings as a sentence and a table."""
        if self.clean:
            return [f"{self.model}: nothing looks wrong."]
        counts = [sum(item.severity == word for item in self.items) for word in ORDER]
        told = ", ".join(plural(count, word) for word, count in zip(ORDER, counts, strict=True) if count)
        parts: list[str | Table] = [f"{self.model}: {told}."]
        for item in self.items:
            text = f"\n{item.severity}: {item.where}: {item.what}.\n    {item.why}. {item.remedy}."
            parts.append(text)
        return parts

    def _repr_html_(self) -> str:
        rows = [(item.severity, item.where, item.what, item.why, item.remedy) for item in self.items]
        return Table(self.model, ["", "where", "what", "why it matters", "what to do"], rows).to_html()
