"""Parsed expressions to data and decisions, by name."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from ruddock.characters import unquote
from ruddock.errors import DataError, ModelError, known
from ruddock.formats.rdk.grammar import MEANING, Token, Tree, meaning, start_of
from ruddock.formats.rdk.source import Entry, Source
from ruddock.formats.tables.numerals import too_large
from ruddock.modelling.axis import ISO_DATE, Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, maximum, minimum
from ruddock.modelling.expression import Expression, Relation, turned
from ruddock.modelling.formulation import Quantity, expression_of
from ruddock.modelling.model import Model
from ruddock.modelling.relation import TURNED

SIGNS = {**MEANING, "≠": "!=", "<>": "!="}  # of a comparison, where strict ones stay as they are
FUNCTIONS = ("sum", "previous", "minimum", "maximum")


class Names:
    """What names stand for while a file is read.

    Attributes
    ----------
    taken : None, or the list that collects names taken as decisions, where unknown ones are
    """

    def __init__(self, model: Model) -> None:
        self.model = model
        self.axes: dict[str, Axis] = {}
        self.data: dict[str, Data] = {}
        self.taken: list[str] | None = None
        self.failed: set[str] = set()  # declared, but with an error of their own

    def find(self, name: str) -> Any:
        """Return data, decisions or a quantity's expression by name, or raise `ModelError`."""
        if name in self.data:
            return self.data[name]
        if name in self.model:
            part = self.model[name]
            if isinstance(part, Expression):
                return part
            if isinstance(part, Quantity):
                return expression_of(part.terms)
        if name in self.failed:
            raise FollowUpError(name)
        if self.taken is not None and name not in self.axes:
            self.taken.append(name)
            return self.model.decide(name)
        what = " (it is an axis: axes are used in brackets and in sum)" if name in self.axes else ""
        names = [*self.data, *(f.name for f in self.model.formulation().decisions)]
        raise ModelError(f"{name!r} is neither data nor a decision{what}; {known(name, names)}")


class FollowUpError(Exception):
    """A name whose own declaration is wrong; that error says enough."""


class Evaluator:
    """Evaluates the tree of one entry; errors tell the place of the part that causes them."""

    def __init__(self, names: Names, source: Source, entry: Entry, offset: int) -> None:
        self.names, self.source, self.entry, self.offset = names, source, entry, offset

    def guarded(self, node: Tree[Any] | Token, work: Callable[[], Any]) -> Any:
        """Run a step; an error of the model or its data becomes one of the file, at the node."""
        try:
            result = work()
        except (ModelError, DataError) as error:
            raise self.source.error(str(error), self.entry, self.offset + start_of(node)) from None
        except OverflowError:
            raise self.source.error("a number is too large", self.entry, self.offset + start_of(node)) from None
        if result is NotImplemented:
            raise self.source.error("these cannot be combined", self.entry, self.offset + start_of(node))
        return result

    def value(self, node: Any) -> Any:
        """Return the number, data or expression that a tree stands for."""
        if isinstance(node, Token):
            raise self.source.error(f"{node!s} has no value", self.entry, self.offset + start_of(node))
        kind, parts = node.data, node.children
        if kind == "value":
            return self.value(parts[0])
        if kind == "number":
            value = float(parts[0])
            if value == float("inf"):
                raise self.source.error(too_large(str(parts[0])), self.entry, self.offset + start_of(node))
            return value
        if kind == "name" and parts[0] == "inf":
            return float("inf")
        if kind == "name":
            return self.guarded(node, lambda: self.find(node, str(parts[0])))
        if kind == "subscript":
            return self.guarded(node, lambda: self.subscript(node))
        if kind == "call":
            return self.call(node)
        if kind == "string":
            raise self.source.error(
                "a quoted label goes in brackets after a name", self.entry, self.offset + start_of(node)
            )
        if kind == "negate":
            held = self.value(parts[1])
            return self.guarded(node, lambda: -held)
        if kind == "keep":
            return self.value(parts[1])
        if kind in ("either", "both", "denied", "compared"):
            message = "a comparison belongs after where, not into an expression"
            raise self.source.error(message, self.entry, self.offset + start_of(node))
        return self.binary(node)

    def find(self, node: Tree[Any], name: str) -> Any:
        """Return what a name means; one behind the last number of a line is probably a unit."""
        try:
            return self.names.find(name)
        except ModelError as error:
            at = self.offset + start_of(node)
            before, after = self.entry.text[:at], self.entry.text[at + len(name) :]
            if re.search(r"[<>=≤≥]\s*[\d.]+\s*\(?$", before) and re.fullmatch(r"\s*\)?\s*", after):
                raise ModelError(
                    f"{name!r} is neither data nor a decision; if it is a unit, write it in parentheses after the name "
                    f"on the left: name ({name}) : ..."
                ) from None
            raise error

    def binary(self, node: Tree[Any]) -> Any:
        """Evaluate a chain of one operation, however long, without recursion into its left end."""
        steps = []
        while isinstance(node, Tree) and node.data in ("add", "subtract", "multiply", "divide"):
            steps.append(node)
            node = node.children[0]
        result = self.value(node)
        for step in reversed(steps):
            right = self.value(step.children[2])
            result = self.guarded(step.children[1], partial(_apply, str(step.data), result, right))
        return result

    def subscript(self, node: Tree[Any]) -> Any:
        """Pick labels and re-label axes: ``flow[place, "Mere"]``."""
        name, *subs = node.children
        held = self.names.find(str(name))
        if isinstance(held, float) or not held.axes:
            raise ModelError(f"{name} has no axes, so no brackets")
        if len(subs) != len(held.axes):
            raise ModelError(
                f"{name} has {len(held.axes)} axes ({', '.join(a.name for a in held.axes)}), not {len(subs)}"
            )
        picked: dict[str, Any] = {}
        renamed: dict[str, Axis] = {}
        for axis, sub in zip(held.axes, subs, strict=True):
            tokens: list[Any] = sub.children if isinstance(sub, Tree) else [sub]
            text = "".join(tokens)
            if tokens[0].type == "NAME" and text in self.names.axes:
                if text != axis.name:
                    renamed[axis.name] = self.names.axes[text]
                continue
            picked[axis.name] = label_of(axis, unquote(text))
        # a name may move to an axis that another one leaves: go by names that are free meanwhile
        result = held.at(**picked) if picked else held
        return result.rename(**renamed) if renamed else result

    def call(self, node: Tree[Any]) -> Any:
        """Evaluate ``sum(expr, axis...)``, ``previous(expr, axis, start)``, ``minimum`` and ``maximum``."""
        name, *arguments = node.children
        if name not in FUNCTIONS:
            hint = f"; to multiply write {name} * (...)" if name in self.names.data or name in self.names.model else ""
            message = f"{str(name)!r} is not a function{hint}; {known(str(name), FUNCTIONS)}"
            raise self.source.error(message, self.entry, self.offset + start_of(node))
        if name == "sum":
            return self.total(node, arguments)
        if name == "previous":
            return self.previous(node, arguments)
        if len(arguments) != 2:
            raise self.source.error(f"{name} takes two arguments", self.entry, self.offset + start_of(node))
        a, b = self.value(arguments[0]), self.value(arguments[1])
        if isinstance(a, Expression) or isinstance(b, Expression):
            message = f"{name} of decisions is not linear; it works on data"
            raise self.source.error(message, self.entry, self.offset + start_of(node))
        return self.guarded(node, lambda: minimum(a, b) if name == "minimum" else maximum(a, b))

    def total(self, node: Tree[Any], arguments: list[Any]) -> Any:
        """Evaluate ``sum(expr, axis...)``."""
        held = self.value(arguments[0])
        axes = [self.axis(argument) for argument in arguments[1:]]
        if isinstance(held, float):
            raise self.source.error("a plain number has nothing to sum over", self.entry, self.offset + start_of(node))
        return self.guarded(node, lambda: held.sum(*axes))

    def previous(self, node: Tree[Any], arguments: list[Any]) -> Any:
        """Evaluate ``previous(expr, axis, start)``."""
        if len(arguments) not in (2, 3):
            message = "previous takes an expression, an axis, and the value before the first label"
            raise self.source.error(message, self.entry, self.offset + start_of(node))
        held, axis = self.value(arguments[0]), self.axis(arguments[1])
        start: Any = None
        if len(arguments) == 3:
            last = arguments[2]
            cyclic = isinstance(last, Tree) and last.data == "name" and str(last.children[0]) == "cyclic"
            start = "cyclic" if cyclic else self.value(last)
        if not isinstance(held, Expression):
            raise self.source.error("previous looks back at decisions", self.entry, self.offset + start_of(node))
        return self.guarded(node, lambda: held.previous(axis, start=start))

    def axis(self, node: Any) -> Axis:
        """Return the axis that an argument names."""
        if isinstance(node, Tree) and node.data == "name":
            name = str(node.children[0])
            if name in self.names.axes:
                return self.names.axes[name]
            if name in self.names.failed:
                raise FollowUpError(name)
            message = f"{name!r} is not an axis; {known(name, self.names.axes)}"
        else:
            message = "the name of an axis is expected here"
        raise self.source.error(message, self.entry, self.offset + start_of(node))

    # ------------------------------------------------------------------ relations and conditions

    def relation(self, tree: Tree[Any]) -> Relation:
        """Return the relation of ``a <= b`` or ``low <= expr <= high``."""
        parts: list[Any] = [*tree.children, None, None]
        left, sign, right, second, last = parts[:5]
        first = meaning(self.source, self.entry, self.offset, sign)
        a, b = self.value(left), self.value(right)
        if second is None:
            result = self.guarded(sign, lambda: _relate(a, first, b))
            if not isinstance(result, Relation):
                message = "this relation holds no decision, it compares plain numbers; was a decision left out?"
                raise self.source.error(message, self.entry, self.offset + start_of(left))
            return result
        other = meaning(self.source, self.entry, self.offset, second)
        c = self.value(last)
        if first != other or first == "==":
            message = "a range is low <= expression <= high, or high >= expression >= low"
            raise self.source.error(message, self.entry, self.offset + start_of(second))
        if not isinstance(b, Expression) or isinstance(a, Expression) or isinstance(c, Expression):
            message = "a range has decisions in the middle and numbers or data at both ends"
            raise self.source.error(message, self.entry, self.offset + start_of(left))
        low, high = (a, c) if first == "<=" else (c, a)
        return self.guarded(sign, lambda: b.between(low, high))

    def condition(self, tree: Tree[Any]) -> Data:
        """Return the mask of ``where``: data that is present and not zero, comparisons, and what combines them."""
        return self.mask(tree.children[0])

    def mask(self, node: Any) -> Data:
        """Return the mask of a part of a condition."""
        kind = node.data if isinstance(node, Tree) else ""
        if kind in ("both", "either"):
            join = _both if kind == "both" else _either
            masks = [(part, self.mask(part)) for part in node.children]
            mask = masks[0][1]
            for part, other in masks[1:]:
                mask = self.guarded(part, partial(join, mask, other))
            return mask
        if kind == "denied":
            return whole(self.mask(node.children[1])) == 0
        held = self.compared(*node.children) if kind == "compared" else self.value(node)
        if not isinstance(held, Data):
            message = "the condition after where is data, or a comparison of data or labels"
            raise self.source.error(message, self.entry, self.offset + start_of(node))
        return held

    def compared(self, left: Any, sign: Token, right: Any) -> Any:
        """Return the mask of a comparison: of data, or of the labels of an axis."""
        sides = [self.names.axes.get(str(node.children[0])) if node.data == "name" else None for node in (left, right)]
        if sides[0] is None and sides[1] is None:
            a, b = self.value(left), self.value(right)
            return self.guarded(sign, lambda: _compare(a, str(sign), b))
        a, b = (node if axis is None else axis for axis, node in zip(sides, (left, right), strict=True))
        return self.guarded(sign, lambda: compared_labels(_written(a), _written(b), SIGNS.get(str(sign), str(sign))))


def label_of(axis: Axis, text: str) -> Any:
    """Return the label of an axis that is written so.

    Raises
    ------
    DataError
        If there is none.
    """
    if text not in axis.places:
        raise DataError(f"axis {axis.name} has no label {text!r}; {known(text, axis.texts)}")
    return axis.labels[axis.places[text]]


def _apply(operation: str, a: Any, b: Any) -> Any:
    if operation == "add":
        return a + b
    if operation == "subtract":
        return a - b
    if operation == "multiply":
        return a * b
    if isinstance(b, float) and b == 0:
        raise DataError("a division by zero")
    return a / b


def _both(a: Data, b: Data) -> Data:
    return a * (b != 0)


def _either(a: Data, b: Data) -> Data:
    return whole(a) + whole(b)


def whole(mask: Data) -> Data:
    """Return a mask over all combinations of its axes, 1 where it keeps and 0 where it does not."""
    values = np.zeros(Cells(mask.axes).size)
    values[mask.cells.keys()] = mask.values != 0
    return Data(Cells(mask.axes), values)


def _written(side: Axis | Tree[Any]) -> Axis | str:
    """Return an axis, or the label that is written beside one."""
    if isinstance(side, Axis):
        return side
    kind, parts = side.data, side.children
    if kind in ("string", "name", "number"):
        return unquote(str(parts[0]))
    if kind == "negate" and isinstance(parts[1], Tree) and parts[1].data == "number":
        return f"-{parts[1].children[0]}"
    raise DataError("an axis is compared with a label or with another axis")


def compared_labels(left: Axis | str, right: Axis | str, sign: str) -> Data:
    """Return the mask of a comparison of labels: by what they read, or as numbers or dates where they are such.

    Raises
    ------
    DataError
        If a label is not one of the axis, or labels without an order are put in one.
    """
    if isinstance(left, Axis) and isinstance(right, Axis):
        axes: tuple[Axis, ...] = (left, right)
        a, b = (np.array(axis.texts, dtype=object) for axis in axes)
        a, b = np.repeat(a, len(right)), np.tile(b, len(left))
    else:
        axis, label = (left, right) if isinstance(left, Axis) else (right, left)
        assert isinstance(axis, Axis)
        axes = (axis,)
        texts = np.array(axis.texts, dtype=object)
        other = np.full(len(texts), label, dtype=object)
        if sign in ("==", "!="):
            label_of(axis, str(label))
        a, b = (texts, other) if axis is left else (other, texts)
    if sign in ("==", "!="):
        return Data(Cells(axes), ((a == b) == (sign == "==")).astype(np.float64))
    try:
        a, b = a.astype(np.float64), b.astype(np.float64)
    except ValueError:
        if not all(ISO_DATE.match(text) for text in (*a, *b)):
            raise DataError(
                "labels that are text have no order: compare them with = or !=, or keep an order as data"
            ) from None
    compare = {"<=": np.less_equal, ">=": np.greater_equal, "<": np.less, ">": np.greater}[sign]
    return Data(Cells(axes), compare(a, b).astype(np.float64))


def _relate(a: Any, sign: str, b: Any) -> Any:
    if isinstance(b, Expression) and not isinstance(a, Expression):
        # decisions on the right stay there
        return turned(_relate(b, TURNED[sign], a))
    if sign == "<=":
        return a <= b
    return a >= b if sign == ">=" else a == b


def _compare(a: Any, sign: str, b: Any) -> Any:
    sign = SIGNS.get(sign, sign)
    if sign == "!=":
        return a != b
    if sign == "<":
        return a < b
    return a > b if sign == ">" else _relate(a, sign, b)
