"""A file as headings and entries, every character with its place."""

from __future__ import annotations

import re
from bisect import bisect_right
from dataclasses import dataclass, field

from ruddock.errors import FormatError
from ruddock.formats.rdk.slips import Slips

HEADINGS = ("model", "include", "axes", "data", "decisions", "minimize", "maximize", "quantities", "require")
QUOTED = re.compile(r'"(?:\\.|[^"\\\n])*"')  # as in JSON: \" and \\ within


def masked(text: str) -> str:
    """Return a text with what stands in quotes replaced by ``_``, quotes included."""
    return QUOTED.sub(lambda found: "_" * len(found.group()), text) if '"' in text else text


def plain_blanks(line: str) -> str:
    """Return a line with other blanks as plain ones, but for those in quotes, which are of a label."""
    if "\u00a0" not in line and "\t" not in line:
        return line
    blanks = re.compile(rf"{QUOTED.pattern}|[\u00a0\t]")
    return blanks.sub(lambda found: found[0] if len(found[0]) > 1 else " ", line)


class LineSlipError(FormatError):
    """A slip brought from another notation, told with its remedy."""


@dataclass
class Entry:
    """One logical line: a line and those indented deeper below it.

    Attributes
    ----------
    text : the physical lines, stripped and joined with newlines
    source : the text that it stands in
    """

    text: str
    starts: list[int]  # where each physical line begins within the text
    places: list[tuple[int, int]]  # its line number and first column
    source: Source | None = None

    @property
    def masked(self) -> str:
        """The text with what stands in quotes blotted out, so that marks within labels are none; of the same length."""
        return masked(self.text)

    def place(self, offset: int) -> tuple[int, int]:
        """Return line and column of a character of the text."""
        at = bisect_right(self.starts, offset) - 1
        line, column = self.places[at]
        return line, column + offset - self.starts[at]


@dataclass(eq=False, repr=False)
class Section:
    """A heading with what follows the word on its line, and its entries."""

    word: str
    head: Entry
    entries: list[Entry] = field(default_factory=list)


@dataclass(eq=False, repr=False)
class Source:
    """A text with its path, which makes errors."""

    path: str
    lines: list[str]

    def error(self, message: str, entry: Entry | None = None, offset: int = 0) -> FormatError:
        """Return an error at a character of an entry."""
        if entry is None:
            return FormatError(message, path=self.path)
        if entry.source is not None and entry.source is not self:  # of a file that is included
            return entry.source.error(message, entry, offset)
        offset = min(max(offset, 0), len(entry.text))
        line, column = entry.place(offset)
        if line > entry.places[0][0] and "expected here" in message:
            message += f". This line continues line {entry.places[0][0]}, since it is indented deeper"
        text = self.lines[line - 1].rstrip().expandtabs(1)
        shift = 0
        if len(text) > 110 and column > 80:  # show the part around the place
            shift = column - 60
        return FormatError(message, path=self.path, line=line, column=column - shift, text=text[shift : shift + 110])


def split(source: Source) -> tuple[list[Section], list[FormatError]]:
    """Split a text into sections; lines that belong nowhere, and slips, are errors."""
    sections: list[Section] = []
    errors: list[FormatError] = []
    slips = Slips()
    depth = 0
    for number, raw in enumerate(source.lines, 1):
        line = plain_blanks(raw)
        if "#" in line:
            line = line[: (masked(line) + "#").index("#")]
        if not line.strip():
            continue
        if not line[0].isspace():
            line = slips.heading(line, number)
        within = sections[-1].word if sections else ""
        if line[:1].isspace() or not within:
            line = slips.line(line, masked(line), number, within)
        elif line.rstrip().endswith(";"):
            line = slips.line(line, masked(line), number, "axes")
        text = line.strip()
        if not text:
            continue
        indent = len(line) - len(line.lstrip())
        if indent == 0:
            word = re.split(r"[\s(:]", text, maxsplit=1)[0]
            entry = Entry(text, [0], [(number, 1)], source)
            if word not in HEADINGS:
                hint = f"; lines below a heading are indented. Headings are {', '.join(HEADINGS)}"
                errors.append(source.error(f"{word!r} is not a heading{hint}", entry))
                word = ""
            sections.append(Section(word, entry))
            depth = -1
            continue
        if not sections:
            errors.append(
                source.error(
                    "the first line is a heading, such as: model NAME", Entry(text, [0], [(number, indent + 1)], source)
                )
            )
            sections.append(Section("", Entry("", [0], [(number, 1)], source)))
        entries = sections[-1].entries
        if depth >= 0 and indent > depth and entries:
            last = entries[-1]
            last.starts.append(len(last.text) + 1)
            last.places.append((number, indent + 1))
            last.text += "\n" + text
            continue
        entries.append(Entry(text, [0], [(number, indent + 1)], source))
        depth = indent
    errors += [
        LineSlipError(message, path=source.path, line=line, column=column, text=source.lines[line - 1].expandtabs(1))
        for message, line, column in slips.messages()
    ]
    return sections, errors
