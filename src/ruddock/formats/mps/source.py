"""A file's bytes, its lines and fields, and errors and warnings that tell their place."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from functools import cached_property

from ruddock.errors import FormatError, RuddockWarning

FIXED = ((1, 3), (4, 12), (14, 22), (24, 36), (39, 47), (49, 61))
INFINITE = 1e30  # numbers of this size and more mean no limit


class OddFieldsError(Exception):
    """A line whose blanks do not separate what they should; maybe names hold blanks."""

    def __init__(self, line: int, message: str) -> None:
        super().__init__(message)
        self.line, self.message = line, message


@dataclass
class Body:
    """The lines below a heading, by their place in the file."""

    content: bytes
    begin: int
    end: int

    @property
    def first(self) -> int:
        """The number of the first line; counted when an error or a warning needs it."""
        return self.content.count(b"\n", 0, self.begin) + 1

    @cached_property
    def text(self) -> str:
        """The lines, decoded."""
        return self.content[self.begin : self.end].decode("utf-8")

    def lines(self) -> list[tuple[int, str]]:
        """Return number and text of each line that is neither blank nor a comment."""
        numbered = enumerate(self.text.splitlines(), self.first)
        return [(number, text) for number, text in numbered if text.strip() and text[0] != "*"]

    def tokens(self, width: int) -> list[str] | None:
        """Return all tokens if every line plainly holds ``width`` of them; None calls for a closer look."""
        text = self.text
        if text.startswith("*") or "\n*" in text:
            return None
        tokens = text.split()
        return tokens if len(tokens) == width * text.count("\n") else None


class Source:
    """A file in fixed or free form."""

    def __init__(self, path: str, content: bytes, *, fixed: bool = False) -> None:
        self.path, self.content, self.fixed = path, content, fixed

    @cached_property
    def lines(self) -> list[str]:
        """All lines of the file, for messages."""
        return self.content.decode("utf-8").splitlines()

    def line_at(self, place: int) -> int:
        """Return the number of the line that a place of the file stands in."""
        return self.content.count(b"\n", 0, place) + 1

    def error(self, line: int, message: str) -> FormatError:
        """Return an error that points at a line."""
        return FormatError(message, path=self.path, line=line, text=self.lines[line - 1].rstrip()[:100])

    def warn(self, line: int, message: str) -> None:
        """Warn of a line."""
        warnings.warn(f"{self.path}, line {line}: {message}", RuddockWarning, stacklevel=5)

    def number(self, line: int, text: str) -> float:
        """Return a number of a line, also with D for the exponent, infinite where it means no limit."""
        try:
            value = float(text)
        except ValueError:
            try:
                value = float(text.upper().replace("D", "E"))
            except ValueError:
                raise OddFieldsError(line, f"{text!r} is not a number") from None
        if value != value:
            raise self.error(line, "NaN is not a number to solve with")
        return float("inf") if value >= INFINITE else float("-inf") if value <= -INFINITE else value

    def fields(self, line: int, text: str) -> list[str]:
        """Return the fields of a data line; in fixed form the first may be empty."""
        if not self.fixed:
            return text.split()
        text = text.expandtabs().ljust(61)
        parts = [text[a:b].strip() for a, b in FIXED]
        while parts and not parts[-1]:
            parts.pop()
        return parts
