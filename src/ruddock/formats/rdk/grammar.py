"""The grammar of expressions, relations, conditions and domains, and its parser."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from typing import Any
from zlib import crc32

import lark
from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken
from platformdirs import user_cache_path

from ruddock.formats.rdk.source import Entry, Source, masked

GRAMMAR = r"""
relation: expr CMP expr [CMP expr]
condition: any
domain: [KIND] [bounds]
bounds: CMP expr                -> side
      | expr ".." [expr]        -> span
      | ".." expr               -> below
value: expr

?any: all
    | all ("or" all)+           -> either
?all: single
    | single ("and" single)+    -> both
?single: expr
       | expr CMP expr          -> compared
       | NOT single             -> denied

?expr: term
     | expr PLUS term           -> add
     | expr MINUS term          -> subtract
?term: factor
     | term STAR factor         -> multiply
     | term SLASH factor        -> divide
?factor: MINUS factor           -> negate
       | PLUS factor            -> keep
       | atom
?atom: NUMBER                   -> number
     | NAME                     -> name
     | NAME "(" expr ("," expr)* ")"  -> call
     | NAME "[" _subs "]"       -> subscript
     | STRING                   -> string
     | "(" any ")"
_subs: sub ("," sub)*
sub: NAME | STRING | NUMBER | MINUS NUMBER

KIND.2: /(integer|binary|semicontinuous|free)(?!\w)/
NOT: "not"
CMP: /<=|=<|≤|>=|=>|≥|==|!=|≠|<>|=|<|>/
PLUS: "+"
MINUS: /[-−–]/
STAR: /[*×·]/
SLASH: "/"
NUMBER: /(\d+(\.(?!\.)\d*)?|\.\d+)([eE][+-]?\d+)?/
NAME: /[^\W\d_]\w*/
STRING: /"(\\.|[^"\\\n])*"/
%ignore /\s+/
"""

MEANING = {"<=": "<=", "=<": "<=", "≤": "<=", ">=": ">=", "=>": ">=", "≥": ">=", "=": "==", "==": "=="}
WORDS = {
    "CMP": "<=, >= or =", "PLUS": "+", "MINUS": "-", "STAR": "*", "SLASH": "/", "NUMBER": "a number", "NAME": "a name",
    "STRING": "a quoted label", "KIND": "a kind", "LPAR": "(", "RPAR": ")", "LSQB": "[", "RSQB": "]", "COMMA": ",",
    "__ANON_0": "..", "AND": "and", "OR": "or", "NOT": "not", "$END": "the end of the entry",
}  # fmt: skip
MOST_SIGNS = 20_000  # words and signs of one expression
SIGN = re.compile(r"\w+|[^\w\s]")
MOST_NESTED = 60  # brackets within brackets


class _ImpliedProducts:
    """Puts a ``*`` between a number and a name or bracket right after it."""

    always_accept = ()

    def process(self, stream: Iterator[Token]) -> Iterator[Token]:
        """Pass the tokens on, with the products written out."""
        before: Token | None = None
        depth = 0
        for token in stream:
            if (
                before is not None
                and before.type == "NUMBER"
                and token.type in ("NAME", "LPAR", "NUMBER")
                and depth == 0
            ):
                if token.type == "NUMBER":
                    raise UnexpectedToken(token, {"STAR", "PLUS", "CMP"})
                yield Token.new_borrow_pos("STAR", "*", token)
            depth += (token.type == "LSQB") - (token.type == "RSQB")
            before = token
            yield token


@cache
def _parser() -> Lark:
    starts = ["relation", "condition", "domain", "value"]
    return Lark(
        GRAMMAR,
        parser="lalr",
        lexer="basic",
        start=starts,
        propagate_positions=True,
        postlex=_ImpliedProducts(),
        cache=_kept_table(),
    )


def _kept_table() -> str | bool:
    """Return where the parser's table is kept between runs: making it takes a tenth of a small run's time."""
    try:
        folder = user_cache_path("ruddock", appauthor=False, ensure_exists=True)
    except OSError:  # no home, or one that cannot be written to
        return False
    return str(folder / f"grammar-{crc32(GRAMMAR.encode()):08x}-{lark.__version__}")


def parse(source: Source, entry: Entry, offset: int, text: str, start: str) -> Tree[Any]:
    """Parse ``text``, which stands at ``offset`` of an entry; positions in the tree count within it.

    Raises
    ------
    FormatError
        With the place, what was found and what was expected.
    """
    signs = len(SIGN.findall(text)) if len(text) > MOST_SIGNS else 0
    if signs > MOST_SIGNS:
        raise source.error(
            f"an expression of {signs:,} words and signs, and {MOST_SIGNS:,} is the most: keep its numbers in a table, "
            "or split it into quantities",
            entry,
            offset,
        )
    if _nesting(text) > MOST_NESTED:
        raise source.error(f"brackets are nested more than {MOST_NESTED} deep", entry, offset)
    try:
        return _parser().parse(text, start=start)
    except UnexpectedInput as unexpected:
        raise source.error(_explain(unexpected, text), entry, offset + _where(unexpected, text)) from None


def _nesting(text: str) -> int:
    depth = deepest = 0
    text = masked(text)
    for sign in text:
        depth += (sign in "([") - (sign in ")]")
        deepest = max(deepest, depth)
    return max(deepest, text.count("--") // 2)


def _where(unexpected: UnexpectedInput, text: str) -> int:
    if isinstance(unexpected, UnexpectedToken) and unexpected.token.type == "$END":
        return len(text)
    at = getattr(unexpected, "pos_in_stream", None)
    return len(text) if at is None or at < 0 else int(at)


def _explain(unexpected: UnexpectedInput, text: str) -> str:
    if isinstance(unexpected, UnexpectedCharacters):
        found = text[_where(unexpected, text) :][:1] or "the end"
        return f"{found!r} has no meaning here"
    expected: set[str] = set()
    found = "the end of the entry"
    if isinstance(unexpected, UnexpectedToken):
        expected = set(unexpected.accepts or unexpected.expected)
        if unexpected.token.type != "$END":
            found = repr(str(unexpected.token))
    elif isinstance(unexpected, UnexpectedEOF):
        expected = set(unexpected.expected)
    hint = ""
    if isinstance(unexpected, UnexpectedToken) and unexpected.token.type in ("NAME", "LPAR") and "STAR" in expected:
        hint = "; between names write *"
    wanted = sorted({WORDS.get(name, name.lower()) for name in expected})
    choice = ", ".join(wanted[:-1]) + " or " + wanted[-1] if len(wanted) > 1 else "".join(wanted)
    return f"{found} is not expected here{hint}; expected {choice}"


def start_of(node: Tree[Any] | Token) -> int:
    """Return where a node begins within its text."""
    if isinstance(node, Token):
        return node.start_pos or 0
    return getattr(node.meta, "start_pos", 0)


def meaning(source: Source, entry: Entry, offset: int, sign: Token) -> str:
    """Return the relation that a sign means; strict ones are errors."""
    if sign in MEANING:
        return MEANING[str(sign)]
    raise source.error(f"a strict {sign} is not a linear relation; write {sign}=", entry, offset + start_of(sign))


__all__ = ["Token", "Tree", "meaning", "parse", "start_of"]
