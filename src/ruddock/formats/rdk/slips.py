"""Slips that people bring from other notations, told with the remedy: each kind once, and reading goes on as meant."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field

# words that open a section elsewhere, and what to write here
HEADINGS = {
    "maximize": ("max", "maximise", "maximum", "maximieren", "maximiser"),
    "minimize": ("min", "minimise", "minimum", "minimieren", "minimiser"),
    "require": ("subject to", "such that", "s.t.", "st", "st.", "s.t", "constraints", "constraint", "with", "under"),
    "decisions": ("variables", "variable", "vars", "var", "decision", "bounds", "general", "generals", "binaries"),
    "data": ("parameters", "parameter", "params", "param", "table"),
    "axes": ("sets", "set", "indices", "index", "axis"),
}
MEANT = {said: word for word, others in HEADINGS.items() for said in (word, *others)}
HEADING = re.compile(r"(?:subject to|such that|[^\s:(]+)(?=[\s:(]|$)", re.IGNORECASE)
ENDS = ("end", "end.", "solve", "solve.")
TERMINATOR = re.compile(r";\s*$")
COMMENT = re.compile(r"(?<![:/])//|/\*|\*/|(?<![\w)\]])--\s*(?=[^\W\d])|--(?=\s)|^\s*[!%]|(?<=\s)[!%](?=\s)")
SMART = re.compile("[“”„‟«»]")
POWER = re.compile(r"\^|\*\*|[²³¹⁰⁴-⁹]")
SUBSCRIPT = re.compile("[₀-₉]+")
ELLIPSIS = re.compile(
    r"(?<![^\W\d_])(?P<first>[^\W\d_]+)_?(?P<low>\d+)\s*(?:,\s*)?(?:\.\.\.?|…)\s*(?:,\s*)?(?P=first)_?(?P<high>\d+)"
)
NUMBER_COMMA = re.compile(r"(?<![\w.])(?P<head>\d{1,3}(?:,\d{3})*),(?P<tail>\d+)(?![\w.])")
SPACED = re.compile(r"(?<![\w.\]])(?P<head>[1-9]\d{0,2}) (?P<tail>\d{3})(?![\w.])")


@dataclass(eq=False, repr=False)
class Slips:
    """The slips of a text, each kind once.

    Attributes
    ----------
    found : kind, message, line, column of each
    """

    found: dict[str, tuple[str, int, int]] = field(default_factory=dict)
    again: dict[str, int] = field(default_factory=dict)

    def note(self, kind: str, message: str, line: int, column: int) -> None:
        """Note a slip, or count it where its kind is known already."""
        if kind in self.found:
            self.again[kind] = self.again.get(kind, 0) + 1
        else:
            self.found[kind] = (message, line, column)

    def messages(self) -> list[tuple[str, int, int]]:
        """Return what to say: message, line and column of each kind."""
        messages = []
        for kind, (message, line, column) in self.found.items():
            more = self.again.get(kind, 0)
            messages.append(
                (message + (f" ({more} more such {'place' if more == 1 else 'places'})" if more else ""), line, column)
            )
        return messages

    def heading(self, text: str, line: int) -> str:
        """Return a heading as it is written here; what is known from elsewhere is noted."""
        plain = text.strip().lower().rstrip(":").strip()
        if plain.rstrip(";") in ENDS:
            self.note("end", "no closing word is needed: leave this line out", line, 1)
            return ""
        found = HEADING.match(text)
        said = found.group().lower() if found else ""
        word = MEANT.get(said, "")
        if found and word:
            if said == word and not text.startswith(word):
                self.note(f"case {word}", f"headings are in small letters: write {word}", line, 1)
                return word + text[found.end() :]
            if said != word:
                self.note(f"heading {said}", f"write {word} in place of {found.group()!r}", line, 1)
                return word + _after(word, text[found.end() :])
        return text

    def line(self, text: str, masked: str, number: int, section: str) -> str:
        """Return a line as it was meant, of the same length; slips in it are noted."""
        for pattern, mend in MENDS:
            for found in list(pattern.finditer(masked)):
                change = mend(self, found, number, section, masked)
                if change is not None:
                    text = (
                        text[: found.start()]
                        + change.ljust(len(found.group()))[: len(found.group())]
                        + text[found.end() :]
                    )
                    masked = (
                        masked[: found.start()]
                        + change.ljust(len(found.group()))[: len(found.group())]
                        + masked[found.end() :]
                    )
            found_comment = COMMENT.search(masked) if pattern is TERMINATOR else None
            if found_comment:
                at = found_comment.start() + len(found_comment.group()) - len(found_comment.group().lstrip())
                self.note("comment", "comments begin with #", number, at + 1)
                text, masked = text[:at].ljust(len(text)), masked[:at].ljust(len(text))
        return text


def _after(word: str, rest: str) -> str:
    """Return what follows a heading: of an objective that names none, its expression is no name."""
    return rest if word in ("maximize", "minimize") else ""


Mend = Callable[[Slips, "re.Match[str]", int, str, str], "str | None"]


def _terminator(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str:
    slips.note("terminator", "leave the ; out: a line needs no terminator", line, found.start() + 1)
    return ""


def _smart(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str:
    slips.note("smart", 'write straight quotes: "', line, found.start() + 1)
    return '"'


def _power(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str | None:
    if section == "axes":
        return None
    slips.note(
        "power",
        "a power of a decision is not linear; a piecewise-linear curve(x, 0 0, 10 100) can stand in for it",
        line,
        found.start() + 1,
    )
    return ""


def _subscript(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str | None:
    if section == "axes":
        return None
    digits = "".join(str(ord(c) - 0x2080) for c in found.group())
    slips.note("subscript", f"write {digits} as plain digits, or use an axis: x[{digits}]", line, found.start() + 1)
    return digits


def _ellipsis(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str | None:
    name, low, high = found["first"], found["low"], found["high"]
    slips.note(
        "ellipsis",
        f"use an axis: under axes write i : {low} .. {high}, then {name}[i], and sum({name}) for the whole",
        line,
        found.start() + 1,
    )
    return None


def _comma(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str | None:
    if section == "axes" or (section == "data" and not re.match(r"\s*(,|$)", text[found.end() :])):
        return None
    if _depth(text[: found.start()]):
        return None
    whole = found["head"].replace(",", "")
    if len(found["tail"]) == 3:
        meant = whole + found["tail"]
        slips.note("thousands", f"write {meant}, without a comma in the number", line, found.start() + 1)
    else:
        meant = f"{whole}.{found['tail']}"
        slips.note("decimal", f"write {meant}: the decimal mark is a point", line, found.start() + 1)
    return meant


def _spaced(slips: Slips, found: re.Match[str], line: int, section: str, text: str) -> str | None:
    if section in ("axes", "data") or "curve" in text or _depth(text[: found.start()]):
        return None
    meant = found["head"] + found["tail"]
    slips.note("spaced", f"write {meant}, without a blank in the number", line, found.start() + 1)
    return meant


def _depth(text: str) -> int:
    return sum(c in "([" for c in text) - sum(c in ")]" for c in text)


MENDS: list[tuple[re.Pattern[str], Mend]] = [
    (TERMINATOR, _terminator),
    (SMART, _smart),
    (ELLIPSIS, _ellipsis),
    (POWER, _power),
    (SUBSCRIPT, _subscript),
    (NUMBER_COMMA, _comma),
    (SPACED, _spaced),
]
