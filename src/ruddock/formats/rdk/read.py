"""Reading ``.rdk``: sections and entries to a `Model`. All entries are read before errors are told."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

from ruddock.document.numbers import plural
from ruddock.errors import DataError, FormatError, ModelError, known, together
from ruddock.files import read_text
from ruddock.formats.rdk import inline
from ruddock.formats.rdk.data_changes import with_data_changes
from ruddock.formats.rdk.domains import read_domain
from ruddock.formats.rdk.evaluate import Evaluator, FollowUpError, Names
from ruddock.formats.rdk.grammar import Tree, parse
from ruddock.formats.rdk.heads import BLANKS, DECLARED, HEAD, NAMED, RESERVED, WHERE, Head
from ruddock.formats.rdk.includes import folder_of, with_included
from ruddock.formats.rdk.labels import typed_labels, with_types
from ruddock.formats.rdk.rules import RuleReader
from ruddock.formats.rdk.source import Entry, LineSlipError, Section, Source, split
from ruddock.formats.tables.given import Given
from ruddock.formats.tables.sources import HOW, KeptTables, TableSource
from ruddock.modelling.axis import Axis
from ruddock.modelling.cells import Cells
from ruddock.modelling.changes import Change
from ruddock.modelling.data import Data, as_data, data
from ruddock.modelling.expression import Expression, Relation, sides_of
from ruddock.modelling.model import Model
from ruddock.modelling.names import UnknownNameError
from ruddock.modelling.rules import Rule

MOST_FOUND = 1000  # errors of one file, after which it is not read on
FROM = re.compile(r"from(?=\s)\s*")
OPEN = "decisions open"  # the heading that lets unknown names be decisions


class TextRecipe(NamedTuple):
    """How a model was read: its text and its tables, so that it can be read again with its data changed.

    Attributes
    ----------
    tables : tables as they were when the model was read
    title : the name of the model when it was read
    """

    text: str
    name: str
    folder: Path
    given: Given
    tables: KeptTables
    data_names: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    undeclared: tuple[str, ...] = ()
    taken: tuple[str, ...] = ()
    title: str = ""

    @property
    def allow_outside(self) -> bool:
        """Whether files outside the model's folder may be named."""
        return self.given.allow_outside

    def read(self, changes: Sequence[Change] = ()) -> Model:
        """Read the text with changes made to its data, before other data is computed from them."""
        tables = {change.target: change.table for change in changes if change.table is not None}
        recipe = self._replace(given=self.given.and_also(tables)) if tables else self
        reader = _Reader(Source(self.name, self.text.splitlines()), recipe, [c for c in changes if c.table is None])
        model = reader.read()
        model._recipe = recipe._replace(
            data_names=tuple(reader.names.data),
            notes=tuple(reader.notes),
            undeclared=() if reader.open else tuple(reader.names.taken or ()),
            taken=tuple(reader.names.taken or ()),
            title=model.name,
        )
        model._read = dict(model._parts)
        return model


def read_rdk(path: Path, given: Given | None = None) -> Model:
    """Read a model in text form.

    Parameters
    ----------
    path : Path
    given : Given, optional
        Tables that stand in for those of the model for this once.

    Raises
    ------
    FormatError
        With file, line, column and the line; further errors follow in the same message.
    """
    return read_rdk_text(read_text(path), str(path), path.parent, given)


def read_rdk_text(text: str, name: str, folder: Path, given: Given | None = None) -> Model:
    """Read a model from text; ``name`` stands for the file in messages, ``folder`` is where its tables are."""
    return TextRecipe(text, name, folder, Given() if given is None else given, KeptTables()).read()


class _Reader:
    def __init__(self, source: Source, recipe: TextRecipe, changes: Sequence[Change]) -> None:
        self.source, self.folder, self.given, self.changes = source, recipe.folder, recipe.given, changes
        self.tables = recipe.tables
        self.notes: list[str] = []
        self.errors: list[FormatError] = []
        self.names = Names(Model(Path(source.path).stem or "model"))
        self.unnamed = 0
        self.open = False

    @property
    def model(self) -> Model:
        return self.names.model

    def read(self) -> Model:
        """Read all sections in the order in which they build on each other."""
        sections, self.errors = split(self.source)
        sections = with_included(sections, self.source, self.folder, self.tables, self.errors, self.given)
        if not sections and not self.errors:
            self.errors.append(self.source.error("the file is empty; a model has an objective or constraints"))
        headings = [_heading(section) for section in sections if section.word == "decisions"]
        self.open = OPEN in headings
        if self.open or not headings:
            self.names.taken = []
        readers: dict[str, Callable[[Section], None]] = {
            "model": self.title,
            "axes": lambda s: self.each(s, self.axis),
            "data": lambda s: self.each(s, self.data),
            "decisions": lambda s: self.each(s, self.decisions),
            "minimize": self.objective,
            "maximize": self.objective,
            "quantities": lambda s: self.each(s, self.quantity),
            "require": lambda s: self.each(s, self.constraint),
        }
        for word in ("model", "axes", "data", "decisions", "quantities", "objective", "require"):
            for section in sections:
                if section.word == word or (word == "objective" and section.word in ("minimize", "maximize")):
                    if word not in ("model", "objective") and _heading(section) not in (word, OPEN):
                        self.errors.append(
                            self.source.error(
                                f"write nothing after the heading {word} on its line; its entries are indented below",
                                section.head,
                                len(word),
                            )
                        )
                    self.trying(section.head, partial(readers[section.word], section))
        refused = self.given.refused([*self.names.data, *self.names.axes])
        if refused is not None and not self.errors:
            raise refused
        if self.errors:
            # what follows from a slip on the same line is no news
            slipped = {(error.path, error.line) for error in self.errors if isinstance(error, LineSlipError)}
            self.errors = [e for e in self.errors if isinstance(e, LineSlipError) or (e.path, e.line) not in slipped]
            self.errors.sort(key=lambda e: (e.path != self.source.path, e.path or "", e.line or 0, e.column or 0))
            raise together(self.errors)
        return self.model

    def each(self, section: Section, read: Callable[[Entry], None]) -> None:
        """Read every entry; what is wrong with one does not hide the others."""
        for entry in section.entries:
            self.trying(entry, partial(read, entry))

    def trying(self, entry: Entry, work: Callable[[], None]) -> None:
        """Run a step and keep its error, if it is a new one; after very many, no more is read."""
        if len(self.errors) > MOST_FOUND:
            return
        try:
            work()
        except FollowUpError:
            self.note_failed(entry)
        except FormatError as error:
            self.errors.append(error)
            self.note_failed(entry)
        except inline.SlipError as slip:
            self.errors.append(self.source.error(str(slip), entry, slip.offset))
            self.note_failed(entry)
        except UnknownNameError:
            raise  # a change of data that names nothing, not an error of the file
        except (ModelError, DataError) as error:
            self.errors.append(self.source.error(str(error), entry))
            self.note_failed(entry)
        except RecursionError:
            self.errors.append(self.source.error("this is nested too deep", entry))

    def note_failed(self, entry: Entry) -> None:
        """Remember the names that an entry was to declare: uses of them are not errors of their own."""
        for part in re.split(r",", entry.text.split(":")[0]):
            found = HEAD.match(part)
            if found:
                self.names.failed.add(found["name"])

    # ------------------------------------------------------------------ heads

    def head(self, entry: Entry, start: int = 0) -> Head:
        """Read ``name[axes] (unit)`` at the beginning of an entry."""
        found = HEAD.match(entry.text, start)
        if not found:
            raise self.source.error(
                "a name is expected here: a letter, then letters, digits or _, without blanks or quotes", entry, start
            )
        name = found["name"]
        if name in RESERVED:
            raise self.source.error(f"{name!r} is a reserved word and cannot be a name", entry, found.start("name"))
        axes = None
        if found["axes"] is not None:
            axes = tuple(part.strip() for part in found["axes"].split(","))
            for axis in axes:
                if axis in self.names.failed:
                    raise FollowUpError(axis)
                if axis not in self.names.axes:
                    hint = known(axis, self.names.axes)
                    raise self.source.error(f"{axis!r} is not an axis; {hint}", entry, found.start("axes"))
        unit = found["unit"].strip() or None if found["unit"] is not None else None
        return Head(name, axes, unit, found.start("name"), found.end())

    def rest(self, entry: Entry, head: Head, signs: str) -> tuple[str, int]:
        """Return the sign after a head and where the text after it begins."""
        at = head.end
        while at < len(entry.text) and entry.text[at].isspace():
            at += 1
        if at >= len(entry.text) or entry.text[at] not in signs:
            wanted = " or ".join(repr(sign) for sign in signs)
            raise self.source.error(
                f"{wanted} is expected after {entry.text[head.start : head.end].strip()!r}", entry, at
            )
        return entry.text[at], at + 1

    def axes_of(self, head: Head) -> tuple[Axis, ...]:
        return tuple(self.names.axes[name] for name in head.axes or ())

    def evaluator(self, entry: Entry, offset: int) -> Evaluator:
        return Evaluator(self.names, self.source, entry, offset)

    def tree(self, entry: Entry, offset: int, start: str, end: int | None = None) -> Tree[Any]:
        return parse(self.source, entry, offset, entry.text[offset:end], start)

    def new_name(self, entry: Entry, head: Head) -> None:
        """Refuse a name that stands for something else already."""
        if head.name in self.names.axes or head.name in self.names.data or head.name in self.model:
            raise self.source.error(f"the name {head.name!r} is taken already", entry, head.start)

    # ------------------------------------------------------------------ sections

    def title(self, section: Section) -> None:
        text = section.head.text[len("model") :].strip()
        if text:
            self.model.name = text
        if section.entries:
            raise self.source.error(
                "the title has no lines below it; start a heading such as decisions or require", section.entries[0]
            )

    def axis(self, entry: Entry) -> None:
        """Read ``name : labels``, ``name : from file``, ``name : 1 .. 12`` or ``name : other axis``."""
        head = self.head(entry)
        self.new_name(entry, head)
        if head.axes is not None:
            raise self.source.error("an axis has no axes of its own", entry, head.start)
        _, at = self.rest(entry, head, ":")
        text = entry.text[at:].strip()
        begin = at + len(entry.text[at:]) - len(entry.text[at:].lstrip())
        given = self.given.named.get(head.name)
        source = given if isinstance(given, TableSource) else self.source_of(text, entry, begin)
        if given is not None and not isinstance(given, TableSource):
            labels: Any = given
        elif source is not None:
            found, note = self.tables.tables.labels(source, head.name)
            labels = with_types(found)
            self.notes.append(note if given is None else f"{note} (replaced for this run)")
        elif text in self.names.axes:
            labels = self.names.axes[text]
        elif text in self.names.failed:
            raise FollowUpError(text)
        else:
            labels = typed_labels(text, lambda words: self.source.error(words, entry, begin))
        self.names.axes[head.name] = Axis(head.name, labels)

    def source_of(self, text: str, entry: Entry, at: int) -> TableSource | None:
        """Return the table that ``from FILE ...`` says, if a text begins so."""
        found = FROM.match(text)
        if found is None:
            return None
        source = TableSource.parse(text[found.end() :])
        if source is None:
            raise self.source.error(HOW, entry, at + found.end())
        try:
            return self.given.own(source.within(folder_of(entry, self.source, self.folder)), self.folder)
        except FormatError as error:
            raise self.source.error(str(error), entry, at + found.end()) from None

    def data(self, entry: Entry) -> None:
        """Read ``name[axes] (unit) : numbers [else number]``, ``: from file`` or ``= expression``."""
        head = self.head(entry)
        self.new_name(entry, head)
        sign, at = self.rest(entry, head, ":=")
        axes = self.axes_of(head)
        text, fill, origin = entry.text[at:], None, ""
        if sign == ":":
            text, fill = inline.without_else(text)
        if head.name in self.given.named:
            held = self.given_data(entry, head, axes)
        elif sign == "=":
            held = self.computed(entry, at, head, axes)
        else:
            at += len(text) - len(text.lstrip())
            source = self.source_of(text.strip(), entry, at)
            if source is not None:
                if not axes:
                    raise self.source.error("data from a table has axes; a single number is typed", entry, at)
                held, note = self.tables.tables.data(source, head.name, axes, head.unit)
                self.notes.append(note)
                origin = source.shown
            else:
                try:
                    held = inline.inline(text.lstrip(), axes, head.unit)
                except inline.SlipError as slip:
                    raise self.source.error(str(slip), entry, at + slip.offset) from None
        if fill is not None:
            absent = Cells(axes).size - held.cells.size
            if absent:
                self.notes.append(f"{head.name}: {plural(absent, 'combination')} not there, each counts as {fill:g}")
            held = Data(held.cells, held.values, held.unit, fill)
        held = with_data_changes(head.name, held, self.changes)
        held.origin = origin
        self.names.data[head.name] = held

    def given_data(self, entry: Entry, head: Head, axes: tuple[Axis, ...]) -> Data:
        """Return data that was given in place of the model's own."""
        if not axes:
            raise self.source.error(f"{head.name} is a single number: change it with what-if {head.name}=...", entry)
        given = self.given.named[head.name]
        if isinstance(given, TableSource):
            held, note = self.tables.tables.data(given, head.name, axes, head.unit)
        else:
            held, note = data(given, *axes, unit=head.unit), f"{head.name}: given in Python"
        self.notes.append(f"{note} (replaced for this run)")
        return held

    def computed(self, entry: Entry, at: int, head: Head, axes: tuple[Axis, ...]) -> Data:
        value = self.evaluator(entry, at).value(self.tree(entry, at, "value"))
        if isinstance(value, Expression):
            raise self.source.error("data is computed from data, not from decisions", entry, at)
        held = as_data(value, axes)
        extra = [name for name in held.cells.names if name not in {axis.name for axis in axes}]
        if extra:
            raise self.source.error(
                f"the result has the axis {', '.join(extra)} as well; name it in the brackets", entry, head.start
            )
        lacking = [axis for axis in axes if axis.name not in held.cells.names]
        result = held.repeat(*lacking) if lacking else held
        return Data(result.cells, result.values, head.unit or result.unit, result.fill)

    def decisions(self, entry: Entry) -> None:
        """Read ``names domain``: one or more names with axes and units, a condition, a kind and bounds."""
        heads = [self.head(entry)]
        at = heads[-1].end
        while re.match(r"\s*,", entry.text[at:]):
            heads.append(self.head(entry, at + entry.text[at:].index(",") + 1))
            at = heads[-1].end
        mask: Data | None = None
        where = WHERE.match(entry.text, at)
        if where:
            at = where.end()
            stop = re.compile(r":|\b(integer|binary|semicontinuous|free)\b").search(entry.masked, at)
            end = stop.start() if stop else len(entry.text)
            mask = self.evaluator(entry, at).condition(self.tree(entry, at, "condition", end))
            at = end
        colon = re.compile(r"\s*:").match(entry.text, at)
        at = colon.end() if colon else at
        kind, lower, upper = read_domain(self.source, entry, at, self.evaluator(entry, at))
        for head in heads:
            self.new_name(entry, head)
            self.model.decide(
                head.name, *self.axes_of(head), lower=lower, upper=upper, kind=kind, unit=head.unit, only=mask
            )

    def objective(self, section: Section) -> None:
        """Read ``minimize name (unit)`` and its parts: named ones, or one expression."""
        word = section.word
        entry = section.head
        if not entry.text[len(word) :].strip(" :"):
            head = Head(word, None, None, 0, len(word))
            head.name = "objective"
        else:
            head = self.head(entry, len(word))
            if entry.text[head.end :].strip(" :"):
                raise self.source.error("write the objective's expression on the next line, indented", entry, head.end)
        if not section.entries:
            raise self.source.error("the objective is missing: write it on the next line, indented", entry, len(word))
        parts: dict[str, Any] = {}
        single: Any = None
        for line in section.entries:
            named = re.match(r"\s*[^\W\d_]\w*\s*:", line.text)
            at = named.end() if named else 0
            value = self.evaluator(line, at).value(self.tree(line, at, "value"))
            if isinstance(value, Data) and not value.axes:
                value = float(value.values[0])
            if isinstance(value, Expression) and value.axes:
                over = ", ".join(axis.name for axis in value.axes)
                raise self.source.error(f"this still runs over {over}; write sum(...) to total it", line, at)
            if isinstance(value, Data):
                raise self.source.error(
                    "this holds data only; write sum(...) of it, or was a decision left out?", line, at
                )
            if named:
                part = self.head(line).name
                if part in parts:
                    raise self.source.error(f"the part {part!r} is given twice", line)
                parts[part] = value
            elif single is not None:
                raise self.source.error(
                    "a second expression; give the parts names (name : expression), or indent it deeper to go on", line
                )
            else:
                single = value
        if parts and single is not None:
            raise self.source.error(
                "either all parts of an objective have names, or there is one expression", section.entries[0]
            )
        add = self.model.maximize if word == "maximize" else self.model.minimize
        if parts:
            add(head.name, unit=head.unit, parts=parts)
        else:
            add(head.name, single, unit=head.unit)

    def quantity(self, entry: Entry) -> None:
        """Read ``name[axes] (unit) : expression``."""
        head = self.head(entry)
        self.new_name(entry, head)
        _, at = self.rest(entry, head, ":")
        curve = self.rules(entry).curve(at)
        if curve is not None:
            x, corners, along = curve
            if not isinstance(x, Expression):
                raise self.source.error("a curve is a function of decisions", entry, at)
            self.same_axes(entry, head, x.axes)
            self.rules(entry).guarded(at, lambda: self.model.curve(head.name, x, corners, along=along, unit=head.unit))
            return
        value = self.evaluator(entry, at).value(self.tree(entry, at, "value"))
        if not isinstance(value, Expression):
            raise self.source.error("a quantity is made of decisions", entry, at)
        self.same_axes(entry, head, value.axes)
        self.model.quantity(head.name, value, unit=head.unit)

    def constraint(self, entry: Entry) -> None:
        """Read ``name[axes] (unit) where condition : relation``; the name may be left out."""
        named = NAMED.match(entry.masked)
        if DECLARED.search(entry.masked) and not re.search(r"[<>=≤≥]", entry.masked.split(":")[-1]):
            raise self.source.error("this declares decisions: it goes under the heading decisions", entry)
        if not named:
            blanks = BLANKS.match(entry.text)
            if blanks:
                name = re.sub(r"\W+", "_", blanks["name"].strip('" '))
                raise self.source.error(f"a name has no blanks or quotes: write {name}", entry)
            self.unnamed += 1
            while f"limit_{self.unnamed}" in self.model or f"limit_{self.unnamed}" in self.names.data:
                self.unnamed += 1
            self.kept(f"limit_{self.unnamed}", None, *self.relation(entry, 0))
            return
        head = self.head(entry)
        self.new_name(entry, head)
        mask = None
        where = WHERE.match(entry.text, head.end)
        at = named.end()
        if where is not None:
            mask = self.evaluator(entry, where.end()).condition(self.tree(entry, where.end(), "condition", at - 1))
        relation, sources = self.relation(entry, at)
        if mask is not None:
            if isinstance(relation, Rule):
                raise self.source.error("where keeps a part of a relation; a rule has none", entry, where.start())  # type: ignore[union-attr]
            relation = relation.where(mask)
        axes = relation.cells.axes if isinstance(relation, Rule) else sides_of(relation).cells.axes
        self.same_axes(entry, head, axes)
        self.kept(head.name, head.unit, relation, sources)

    def kept(self, name: str, unit: str | None, relation: Relation | Rule, sources: tuple[str, ...]) -> None:
        """Add constraints or a rule, with the data that they name."""
        part = self.model.require(name, relation, unit=unit)
        self.model._parts[name] = dataclasses.replace(part, sources=sources)

    def relation(self, entry: Entry, at: int) -> tuple[Relation | Rule, tuple[str, ...]]:
        """Read a relation or a logical rule, and the data that its right side, or the whole rule, names."""
        rule = self.rules(entry).rule(at)
        if rule is not None:
            return rule, tuple(name for name in self.names.data if re.search(rf"\b{name}\b", entry.masked[at:]))
        tree: Any = self.tree(entry, at, "relation")
        relation = self.evaluator(entry, at).relation(tree)
        right = tree.children[2] if len(tree.children) > 2 else None
        named = (
            {str(part) for part in right.scan_values(lambda token: token.type == "NAME")}
            if right is not None
            else set()
        )
        return relation, tuple(name for name in self.names.data if name in named)

    def rules(self, entry: Entry) -> RuleReader:
        """Return the reader of the logical rules of an entry."""
        return RuleReader(self.source, entry, partial(self.evaluator, entry))

    def same_axes(self, entry: Entry, head: Head, axes: tuple[Axis, ...]) -> None:
        """Check that a family runs over the axes that its name says."""
        written, held = set(head.axes or ()), {axis.name for axis in axes}
        extra, lacking = sorted(held - written), sorted(written - held)
        if extra:
            over = ", ".join(extra)
            whole = f"{head.name}[{', '.join(axis.name for axis in axes)}]"
            message = f"the expression also runs over {over}: sum over it, or write {whole}"
            raise self.source.error(message, entry, head.start)
        if lacking:
            message = f"the expression has no {', '.join(lacking)} axis; all members would be the same"
            raise self.source.error(message, entry, head.start)


def _heading(section: Section) -> str:
    """Return what stands on the line of a heading, without a colon behind it."""
    return " ".join(section.head.text.rstrip(": ").split())
