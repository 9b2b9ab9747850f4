"""Logical rules in text: ``if used then ...``, ``either ... or ...``, ``at most 2 of used``, ``run(on, hour) >= 3``."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from ruddock.formats.rdk.evaluate import Evaluator
from ruddock.formats.rdk.grammar import Tree, parse
from ruddock.formats.rdk.source import Entry, Source
from ruddock.modelling.axis import Axis
from ruddock.modelling.expression import Relation
from ruddock.modelling.logic import Rule, at_least, at_most, either, exactly, pause, run, when

IF = re.compile(r"\s*(?P<word>if|unless)\s(?P<condition>.*?)\sthen\s", re.DOTALL)
IF_BEGUN = re.compile(r"\s*(if|unless)\s")
EITHER = re.compile(r"\s*either\s(?P<first>.*?)\sor\s(?P<second>.*)\Z", re.DOTALL)
EITHER_BEGUN = re.compile(r"\s*either\s")
SO_MANY = re.compile(r"\s*(?P<word>at\s+most|at\s+least|exactly)\s+(?P<count>\d+)\s+of\s+(?P<rest>.*)\Z", re.DOTALL)
SO_MANY_BEGUN = re.compile(r"\s*(at\s+(most|least)|exactly)\s+\d")
RUN = re.compile(r"\s*(?P<word>run|pause)\s*\((?P<inside>.*)\)\s*(>=|=>|≥)\s*(?P<least>\d+)\s*\Z", re.DOTALL)
RUN_BEGUN = re.compile(r"\s*(run|pause)\s*\(")
PIECEWISE = re.compile(r"\s*piecewise\s*\((?P<inside>.*)\)\s*\Z", re.DOTALL)
POINT = re.compile(r"\s*([-−+]?[\d.]+(?:[eE][-+]?\d+)?)\s+([-−+]?[\d.]+(?:[eE][-+]?\d+)?)\s*\Z")

Evaluated = Callable[[int], Evaluator]


class RuleReader:
    """Reads the part of an entry after its colon as a rule.

    Parameters
    ----------
    evaluator : gives an evaluator for text that begins at an offset of the entry
    """

    def __init__(self, source: Source, entry: Entry, evaluator: Evaluated) -> None:
        self.source, self.entry, self.evaluator = source, entry, evaluator

    def rule(self, at: int) -> Rule | Relation | None:
        """Return the rule that begins at an offset, or None where the text is none."""
        text = self.entry.text[at:]
        found = IF.match(text)
        if found:
            condition = self.value(at + found.start("condition"), at + found.end("condition"))
            relation = self.relation(at + found.end(), len(self.entry.text))
            given = condition if found["word"] == "if" else 1 - condition
            return self.guarded(at, lambda: when(given, relation))
        if IF_BEGUN.match(text):
            raise self.source.error("then is missing: write if used then ship >= 10", self.entry, len(self.entry.text))
        found = EITHER.match(text)
        if found:
            first = self.relation(at + found.start("first"), at + found.end("first"))
            second = self.relation(at + found.start("second"), at + found.end("second"))
            return self.guarded(at, lambda: either(first, second))
        if EITHER_BEGUN.match(text):
            raise self.source.error("or is missing: write either a <= 3 or b >= 5", self.entry, len(self.entry.text))
        found = SO_MANY.match(text)
        if found:
            word, count = found["word"].split()[-1], int(found["count"])
            chosen = [self.value(*span) for span in self.split(at + found.start("rest"), len(self.entry.text))]
            make = {"most": at_most, "least": at_least, "exactly": exactly}[word]
            return self.guarded(at, lambda: make(count, *chosen))
        if SO_MANY_BEGUN.match(text):
            raise self.source.error("write at most 2 of used: a whole number of yes/no decisions", self.entry, at)
        found = RUN.match(text)
        if found:
            return self.run(at, found)
        if RUN_BEGUN.match(text):
            raise self.source.error("write run(on, hour) >= 3: at least so many in a row", self.entry, at)
        return None

    def run(self, at: int, found: re.Match[str]) -> Rule:
        """Read ``run(on, hour) >= 3``, or with what it was before: ``run(on, hour, 1) >= 3``."""
        spans = self.split(at + found.start("inside"), at + found.end("inside"))
        if len(spans) not in (2, 3):
            raise self.source.error("run takes yes/no decisions, an axis, and what was before it", self.entry, at)
        on, axis = self.value(*spans[0]), self.axis(*spans[1])
        before = self.value(*spans[2]) if len(spans) == 3 else 0
        make = run if found["word"] == "run" else pause
        return self.guarded(at, lambda: make(on, axis, int(found["least"]), before=before))

    def points(self, at: int) -> tuple[Any, list[tuple[float, float]]] | None:
        """Return expression and corners of ``piecewise(expr, x y, x y, ...)``, or None where the text is none."""
        found = PIECEWISE.match(self.entry.text, at)
        if not found:
            return None
        spans = self.split(found.start("inside"), found.end("inside"))
        points = []
        for begin, end in spans[1:]:
            pair = POINT.match(self.entry.text[begin:end])
            try:
                numbers = [float(part.replace("−", "-")) for part in pair.groups()] if pair else []
            except ValueError:
                numbers = []
            if len(numbers) != 2:
                raise self.source.error("a corner is two numbers: how much, and the value there", self.entry, begin)
            points.append((numbers[0], numbers[1]))
        return self.value(*spans[0]), points

    # ------------------------------------------------------------------ parts

    def split(self, begin: int, end: int) -> list[tuple[int, int]]:
        """Return the spans between commas that stand in no brackets."""
        spans, depth, start = [], 0, begin
        for k in range(begin, end):
            sign = self.entry.text[k]
            depth += (sign in "([") - (sign in ")]")
            if sign == "," and depth == 0:
                spans.append((start, k))
                start = k + 1
        return [*spans, (start, end)]

    def tree(self, begin: int, end: int, start: str) -> Tree[Any]:
        """Parse a span."""
        return parse(self.source, self.entry, begin, self.entry.text[begin:end], start)

    def value(self, begin: int, end: int) -> Any:
        """Evaluate a span as a value."""
        return self.evaluator(begin).value(self.tree(begin, end, "value"))

    def relation(self, begin: int, end: int) -> Relation:
        """Evaluate a span as a relation."""
        return self.evaluator(begin).relation(self.tree(begin, end, "relation"))

    def axis(self, begin: int, end: int) -> Axis:
        """Evaluate a span as the name of an axis."""
        tree: Tree[Any] = self.tree(begin, end, "value")
        return self.evaluator(begin).axis(tree.children[0])

    def guarded(self, at: int, work: Callable[[], Any]) -> Any:
        """Run a step; its error becomes one of the file."""
        while self.entry.text[at : at + 1].isspace():
            at += 1
        return self.evaluator(at).guarded(Tree("value", []), work)
