"""Logical rules in text: ``if used then ...``, ``either ... or ...``, ``run(on, hour) >= 3``, and curves.

What stands in quotes is blotted out before words are looked for, so that labels may hold any of them.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from ruddock.formats.rdk.evaluate import Evaluator
from ruddock.formats.rdk.grammar import Token, Tree, parse
from ruddock.formats.rdk.source import Entry, Source
from ruddock.modelling.axis import Axis
from ruddock.modelling.expression import Relation
from ruddock.modelling.rules import Rule, beyond, either, pause, run, when

IF = re.compile(r"\s*(?P<word>if|unless)\s(?P<condition>.*?)\sthen\s", re.DOTALL)
IF_BEGUN = re.compile(r"\s*(if|unless)\s")
EITHER = re.compile(r"\s*either\s")
OR = re.compile(r"\sor\s")
COUNTED = re.compile(r"\s*(at\s+(most|least)|exactly)\s+\d")
RUN = re.compile(r"\s*(?P<word>run|pause)\s*\((?P<inside>.*)\)\s*(>=|=>|≥)\s*(?P<least>\d+)\s*\Z", re.DOTALL)
RUN_BEGUN = re.compile(r"\s*(run|pause)\s*\(")
CURVE = re.compile(r"\s*curve\s*\((?P<inside>.*)\)\s*\Z", re.DOTALL)
ALONG = re.compile(r"\salong\s+(?P<axis>[^\W\d_]\w*)\s*\Z")

COMPARED = re.compile("[<>=≤≥≠]")
STRICT = {"<": "<=", ">": ">="}  # signs of a condition without its limit, and those with it
UNEQUAL = ("!=", "≠", "<>")

Evaluated = Callable[[int], Evaluator]


class RuleReader:
    """Reads the part of an entry after its colon as a rule.

    Parameters
    ----------
    evaluator : gives an evaluator for text that begins at an offset of the entry
    """

    def __init__(self, source: Source, entry: Entry, evaluator: Evaluated) -> None:
        self.source, self.entry, self.evaluator = source, entry, evaluator
        self.masked = entry.masked

    def rule(self, at: int) -> Rule | None:
        """Return the rule that begins at an offset, or None where the text is none."""
        text = self.masked
        found = IF.match(text, at)
        if found:
            relation = self.relation(found.end(), len(text))
            if COMPARED.search(self.outside(*found.span("condition"))):
                return self.implication(at, found, relation)
            condition = self.value(found.start("condition"), found.end("condition"))
            if found["word"] == "unless":
                condition = self.guarded(at, lambda: 1 - condition)
            return self.guarded(at, lambda: when(condition, relation))
        if IF_BEGUN.match(text, at):
            raise self.source.error("then is missing: write if used then ship >= 10", self.entry, len(text))
        found = EITHER.match(text, at)
        if found:
            return self.either(at, found.end())
        if COUNTED.match(text, at):
            raise self.source.error(
                "to count binary decisions, add them up: sum(used) <= 2, or used[place] summed over an axis",
                self.entry,
                at,
            )
        found = RUN.match(text, at)
        if found:
            return self.run(at, found)
        if RUN_BEGUN.match(text, at):
            raise self.source.error("write run(on, hour) >= 3: at least that many in a row", self.entry, at)
        return None

    def implication(self, at: int, found: re.Match[str], relation: Relation) -> Rule:
        """Read ``if ship > 10 then used = 1``, or with ``unless``."""
        begin, end = found.span("condition")
        tree = self.tree(begin, end, "relation")
        signs = [child for child in tree.children if isinstance(child, Token) and child.type == "CMP"]
        strict = [sign in STRICT for sign in signs]
        if any(sign in UNEQUAL for sign in signs):
            raise self.source.error("write either a = 3 or ...: it holds unless they are equal", self.entry, begin)
        if any(strict) and not all(strict):
            raise self.source.error("both limits of a condition are strict, or none is", self.entry, begin)
        plain = [Token.new_borrow_pos("CMP", STRICT.get(s, s), s) if isinstance(s, Token) else s for s in tree.children]
        condition = self.evaluator(begin).relation(Tree("relation", plain))
        if found["word"] == "if":
            return self.guarded(at, lambda: (beyond if any(strict) else when)(condition, relation))
        if any(strict):
            raise self.source.error(
                "what holds unless a > b holds up to b itself: write unless a >= b", self.entry, begin
            )
        return self.guarded(at, lambda: either(condition, relation))

    def either(self, at: int, begin: int) -> Rule:
        """Read ``either a or b``, or more relations with ``or`` between."""
        ends = [found.span() for found in OR.finditer(self.masked, begin)]
        if not ends:
            raise self.source.error("or is missing: write either a <= 3 or b >= 5", self.entry, len(self.masked))
        begins = [begin, *(end for _, end in ends)]
        stops = [*(start for start, _ in ends), len(self.masked)]
        relations = [self.relation(*span) for span in zip(begins, stops, strict=True)]
        return self.guarded(at, lambda: either(*relations))

    def run(self, at: int, found: re.Match[str]) -> Rule:
        """Read ``run(on, hour) >= 3``, or with what it was before: ``run(on, hour, 1) >= 3``."""
        spans = self.split(found.start("inside"), found.end("inside"))
        if len(spans) not in (2, 3):
            raise self.source.error("run takes binary decisions, an axis, and what was before it", self.entry, at)
        on, axis = self.value(*spans[0]), self.axis(*spans[1])
        before = self.value(*spans[2]) if len(spans) == 3 else 0
        make = run if found["word"] == "run" else pause
        return self.guarded(at, lambda: make(on, axis, int(found["least"]), before=before))

    def curve(self, at: int) -> tuple[Any, list[tuple[Any, Any]], Axis | None] | None:
        """Return expression, corners and axis of ``curve(expr, x y, x y, ...)``; None where the text is none.

        With ``along axis`` at its end, corners are the labels of that axis.
        """
        found = CURVE.match(self.masked, at)
        if not found:
            return None
        begin, end = found.span("inside")
        ordered = ALONG.search(self.masked[begin:end])
        along = None
        if ordered:
            along = self.axis(begin + ordered.start("axis"), end)
            end = begin + ordered.start()
        spans = self.split(begin, end)
        corners = []
        for begin, end in spans[1:]:
            middle = self.gap(begin, end)
            corners.append((self.value(begin, middle), self.value(middle, end)))
        return self.value(*spans[0]), corners, along

    # ------------------------------------------------------------------ parts

    def gap(self, begin: int, end: int) -> int:
        """Return where the second of two coordinates begins: behind a blank in no brackets and beside no sign."""
        for k, sign in enumerate(self.outside(begin, end), begin):
            if sign.isspace():
                before, after = self.masked[begin:k].rstrip(), self.masked[k:end].lstrip()
                if before and after and before[-1] not in "+-−*/×·" and after[0] not in "+*/×·":
                    return k
        raise self.source.error("a corner is two numbers or data: how much, and the value there", self.entry, begin)

    def split(self, begin: int, end: int) -> list[tuple[int, int]]:
        """Return the spans between commas that stand in no brackets."""
        spans, start = [], begin
        for k, sign in enumerate(self.outside(begin, end), begin):
            if sign == ",":
                spans.append((start, k))
                start = k + 1
        return [*spans, (start, end)]

    def outside(self, begin: int, end: int) -> str:
        """Return a span with ``_`` for what stands in brackets."""
        depth, kept = 0, []
        for sign in self.masked[begin:end]:
            depth += (sign in "([") - (sign in ")]")
            kept.append(sign if depth == 0 else "_")
        return "".join(kept)

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
