"""The headings of a file, what they say, and the bodies below them."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ruddock.errors import FormatError, known
from ruddock.formats.mps.source import Body, Source

if TYPE_CHECKING:
    from ruddock.formats.mps.columns import Scanned

SECTIONS = ("NAME", "OBJSENSE", "OBJNAME", "ROWS", "COLUMNS", "RHS", "RANGES", "BOUNDS", "ENDATA")
OTHER_CLASSES = {
    "QUADOBJ": "quadratic objectives",
    "QMATRIX": "quadratic objectives",
    "QSECTION": "quadratic objectives",
    "QCMATRIX": "quadratic constraints",
    "CSECTION": "conic constraints",
    "SOS": "special ordered sets",
    "SOS1": "special ordered sets",
    "SOS2": "special ordered sets",
    "SETS": "special ordered sets",
    "INDICATORS": "indicator constraints",
    "GENCONS": "general constraints",
    "PWLOBJ": "piecewise-linear objectives",
    "NETWORK": "network blocks",
}
HEADING = re.compile(rb"\n[^\s*]")  # in the first place of a line


@dataclass
class Sections:
    """What the headings say, and the bodies below them."""

    name: str = ""
    maximize: bool = False
    objective: str | None = None
    bodies: dict[str, Body] = field(default_factory=dict)
    scanned: Scanned | None = None  # COLUMNS, where they were read while their end was looked for

    def lines(self, section: str) -> list[tuple[int, str]]:
        """Return the lines of a section; none if it is missing."""
        return self.bodies[section].lines() if section in self.bodies else []


def split(source: Source, scan: Callable[[Source, Sections, int], Scanned | None]) -> Sections:
    """Find the headings, which stand in the first place of a line, and what they say.

    COLUMNS, the largest part, are gone through once: ``scan`` may read them to find their end.
    """
    found, content = Sections(), source.content
    head = 0 if re.match(rb"[^\s*]", content) else heading(source, 0)
    before = Body(content, 0, head).lines()
    if before:
        raise source.error(before[0][0], "data before the first section; a file begins with NAME or ROWS")
    ended = False
    while head < len(content) and not ended:
        stop = content.find(b"\n", head) + 1 or len(content)
        words = [word.decode("utf-8") for word in content[head:stop].split()]  # as HEADING sees blanks: by byte
        section = words[0].upper()
        check_heading(source, found, head, words[0])
        if section == "COLUMNS":
            found.scanned = scan(source, found, stop)
        following = found.scanned.end if section == "COLUMNS" and found.scanned else heading(source, stop)
        found.bodies[section] = Body(content, stop, following)
        if section == "ENDATA":
            ended = True
        elif section == "NAME":
            found.name = content[head:stop].decode("utf-8").strip()[4:].strip()
        elif section == "OBJSENSE":
            for line, text in [(source.line_at(head), " ".join(words[1:])), *found.bodies[section].lines()]:
                if text:
                    sense(source, found, line, text)
        elif section == "OBJNAME":
            found.scanned = None  # the columns were read for another objective
            for _, text in found.bodies[section].lines():
                found.objective = text.strip()
        head = following
    if not ended:
        raise FormatError(
            "the file ends without ENDATA; it may be cut off", path=source.path, line=len(source.lines) or 1
        )
    for needed in ("ROWS", "COLUMNS"):
        if needed not in found.bodies:
            raise FormatError(f"the section {needed} is missing", path=source.path)
    return found


def heading(source: Source, at: int) -> int:
    """Return the place of the first heading after ``at``, which begins a line; the end if there is none."""
    match = HEADING.search(source.content, max(at - 1, 0))
    return match.start() + 1 if match else len(source.content)


def check_heading(source: Source, found: Sections, head: int, word: str) -> None:
    """Raise for a heading that is unknown, of another problem class, or there already."""
    section = word.upper()
    if section in OTHER_CLASSES:
        what = OTHER_CLASSES[section]
        raise source.error(
            source.line_at(head), f"the section {section} is for {what}; Ruddock reads linear and integer models"
        )
    if section not in SECTIONS:
        hint = known(section, SECTIONS)
        raise source.error(source.line_at(head), f"{word!r} is not a section ({hint}); data lines begin with a blank")
    if section in found.bodies:
        raise source.error(source.line_at(head), f"the section {section} appears twice")


def sense(source: Source, found: Sections, number: int, text: str) -> None:
    """Note the sense of the objective."""
    word = text.strip().upper()
    if word not in ("MAX", "MAXIMIZE", "MAXIMISE", "MIN", "MINIMIZE", "MINIMISE"):
        raise source.error(number, f"the sense of the objective is MAX or MIN, not {text.strip()!r}")
    found.maximize = word.startswith("MAX")
