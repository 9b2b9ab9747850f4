"""Findings: what looks wrong in a model, why it matters and what to do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

import pandas as pd

from ruddock.document.content import Block, Listing, Sentence
from ruddock.document.numbers import capital, plural
from ruddock.document.result import Result

Severity = Literal["error", "warning", "note"]
ORDER = {"error": 0, "warning": 1, "note": 2}
HEADINGS = {
    "error": "Errors: there is no optimal plan, or no model to solve",
    "warning": "Warnings: probably a slip",
    "note": "Notes: no action needed if meant",
}


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


@dataclass(frozen=True, repr=False)
class Findings(Result):
    """All findings of a check, the most serious first.

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

    def table(self) -> pd.DataFrame:
        """Return the findings, a row each: severity, kind, where, what, why, remedy."""
        return pd.DataFrame(
            [asdict(item) for item in self.items],
            columns=["severity", "kind", "where", "what", "why", "remedy"],
        )

    def _facts(self) -> dict[str, Any]:
        findings = [asdict(item) for item in self.items]
        return {"format": "ruddock-findings/1", "model": self.model, "findings": findings}

    def _title(self) -> str:
        return self.model

    def _blocks(self) -> Sequence[Block]:
        if self.clean:
            return [Sentence(f"{self.model}: no problems found.", verdict=True)]
        counts = [(word, [item for item in self.items if item.severity == word]) for word in ORDER]
        words = ", ".join(plural(len(own), word) for word, own in counts if own)
        blocks: list[Block] = [Sentence(f"{self.model}: {words}.", verdict=True)]
        for word, own in counts:
            points = [
                f"{item.where}: {_ended(item.what)} {_ended(capital(item.why))} {_ended(capital(item.remedy))}"
                for item in own
            ]
            if points:
                blocks.append(Listing(HEADINGS[word], points))
        return blocks


def _ended(words: str) -> str:
    return words if words.endswith(("?", ".", "!")) else f"{words}."
