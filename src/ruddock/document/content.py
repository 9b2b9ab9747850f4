"""The parts of a document: sentences, tables of typed cells, figures, and what to ask next."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from math import isfinite, isnan
from typing import TYPE_CHECKING, Any, NamedTuple, overload

from ruddock.characters import in_line, visible
from ruddock.document.numbers import DUST, Toward, amount, is_money, number

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_ROWS = 40  # of a table that is not asked for in full


class Number(NamedTuple):
    """A number in a table.

    Attributes
    ----------
    value : NaN is an empty cell, infinity reads ``unlimited``
    unit : goes to the heading where a whole column has it
    signed : whether one above zero has a ``+`` in front, as a difference has
    words : what is shown in place of ``unlimited`` or behind the number, such as ``(degenerate)``
    quiet : whether 0 is a dot, in tables that are mostly 0
    toward : whether it is rounded ``up`` or ``down``, where rounding must not overstate it
    """

    value: float
    unit: str | None = None
    signed: bool = False
    words: str = ""
    quiet: bool = False
    toward: Toward = ""

    def text(self, *, bare: bool = False) -> str:
        """Return it in writing, without its unit where that stands in the heading."""
        if isnan(self.value):
            return self.words
        if not isfinite(self.value):
            return self.words or number(self.value)
        if self.quiet and abs(self.value) < DUST:
            return "·"
        text = number(self.value, self.toward) if bare else amount(self.value, self.unit, self.toward)
        if self.signed and self.value > 0 and text.strip("£€$¥0.,") and not text.startswith("0 "):
            text = f"+{text}"
        return f"{text} {self.words}" if self.words else text


class Label(NamedTuple):
    """A label of an axis: as it reads, and the value that a workbook can hold, such as a date."""

    words: str
    value: Any = None

    def text(self) -> str:
        """Return it in writing."""
        return self.words


Cell = str | Number | Label
Row = Sequence[Cell]


def written(cell: Cell, *, bare: bool = False) -> str:
    """Return a cell in writing; a number without its unit where that stands in the heading."""
    if isinstance(cell, Number):
        return cell.text(bare=bare)
    return cell if isinstance(cell, str) else cell.text()


def more_rows(count: int) -> str:
    """Return what is said of rows left out."""
    return f"… {count:,} more {'row' if count == 1 else 'rows'}"


class Column(NamedTuple):
    """A column of a table: its heading, and whether text in it is aligned to the right."""

    heading: str
    right: bool = False


class LazyRows(Sequence[Row]):
    """Rows that are made when they are asked for, so that a table may be long and show few of them."""

    def __init__(self, length: int, make: Callable[[int], Row]) -> None:
        self._length, self._make = length, make

    def __len__(self) -> int:
        return self._length

    @overload
    def __getitem__(self, at: int) -> Row: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[Row]: ...

    def __getitem__(self, at: int | slice) -> Row | Sequence[Row]:
        if isinstance(at, slice):
            return [self._make(k) for k in range(*at.indices(self._length))]
        if not -self._length <= at < self._length:
            raise IndexError(at)
        return self._make(at % self._length)


class Table(NamedTuple):
    """Rows under headings.

    Attributes
    ----------
    title : shown above
    columns : a heading, or a `Column`, each
    rows : cells: text, `Number` or `Label`
    note : sentences below the table
    most : rows shown of it where it is not asked for in full; None shows all
    total : whether the last row is a total
    hidden : rows that were left out when the table was made, and are shown where all is asked for
    """

    title: str
    columns: Sequence[str | Column]
    rows: Sequence[Row]
    note: str = ""
    most: int | None = MOST_ROWS
    total: bool = False
    hidden: int = 0

    @property
    def heads(self) -> list[Column]:
        """The columns."""
        return [column if isinstance(column, Column) else Column(column) for column in self.columns]

    def shown(self, *, all: bool = False) -> tuple[Sequence[Row], int]:
        """Return the rows that are shown, and how many are left out; a cut of one row is not worth it."""
        size = len(self.rows)
        if all or self.most is None or size <= self.most + 1:
            return self.rows[:], self.hidden
        if self.total:
            return [*self.rows[: self.most - 1], self.rows[size - 1]], size - self.most + self.hidden
        return self.rows[: self.most], size - self.most + self.hidden


class Sentence(NamedTuple):
    """One or more sentences; a verdict is what a person reads first."""

    words: str
    verdict: bool = False


class Listing(NamedTuple):
    """Points of a list, each a sentence, under a heading."""

    title: str
    points: Sequence[str]


class Facts(NamedTuple):
    """Headline numbers: what each is, its value with its unit, and perhaps a remark."""

    facts: Sequence[tuple[str, Cell, str]]

    def texts(self) -> Iterator[tuple[str, str, str]]:
        """Yield them in writing."""
        for name, value, note in self.facts:
            yield name, written(value), note


class Verbatim(NamedTuple):
    """Lines that keep their form, such as algebra; long ones go on below, indented."""

    words: str
    title: str = ""


class Figure(NamedTuple):
    """A figure that draws itself on axes.

    Attributes
    ----------
    alt : what it shows, for those who cannot see it
    height : inches
    """

    draw: Callable[[Axes], Axes]
    alt: str
    height: float = 5.0


class Question(NamedTuple):
    """What a reader may ask next, on the command line and in Python."""

    words: str
    command: str
    python: str


class Next(NamedTuple):
    """The next questions."""

    questions: Sequence[Question]


Block = Sentence | Listing | Table | Facts | Verbatim | Figure | Next


class Section(NamedTuple):
    """A heading with what is under it; an appendix holds what few readers need."""

    title: str
    blocks: Sequence[Block]
    appendix: bool = False


class Document(NamedTuple):
    """What is said of a result: blocks, in sections where there are several subjects.

    Attributes
    ----------
    title : of the model, or the subject
    sections : a section without a title has no heading
    whole : whether tables are shown in full
    """

    title: str
    sections: Sequence[Section] = ()
    whole: bool = False

    @staticmethod
    def of(title: str, blocks: Sequence[Block], *, whole: bool = False) -> Document:
        """Return a document without headings."""
        return Document(title, (Section("", tuple(blocks)),), whole)

    @property
    def verdict(self) -> str:
        """The sentence that a person reads first."""
        found = next((b.words for b in self.blocks() if isinstance(b, Sentence) and b.verdict), None)
        return found if found is not None else next((b.words for b in self.blocks() if isinstance(b, Sentence)), "")

    def blocks(self) -> Iterator[Block]:
        """Yield all blocks in order."""
        for section in self.sections:
            yield from section.blocks

    def __str__(self) -> str:
        from ruddock.document.console import text

        return text(self)

    def text(self, width: int | None = None) -> str:
        """Return it as plain text of a width, the terminal's by default."""
        from ruddock.document.console import text

        return text(self, width)

    def _repr_html_(self) -> str:
        from ruddock.document.html import fragment

        return fragment(self)


def in_signs(block: Block) -> Block:
    """Return a block whose words cannot act where they are shown; the cells of a table are made so when laid out."""
    if isinstance(block, Sentence | Verbatim):
        return block._replace(words=visible(block.words))
    if isinstance(block, Listing):
        return Listing(visible(block.title), [in_line(point) for point in block.points])
    if isinstance(block, Facts):
        return Facts([(in_line(name), cell_in_signs(value), in_line(note)) for name, value, note in block.facts])
    if isinstance(block, Next):
        return Next([Question(*map(in_line, question)) for question in block.questions])
    if isinstance(block, Table):
        return block._replace(title=in_line(block.title), note=visible(block.note))
    return block._replace(alt=in_line(block.alt))


def cell_in_signs(cell: Cell) -> Cell:
    """Return a cell whose words cannot act where they are shown."""
    if isinstance(cell, Number):
        return cell._replace(unit=None if cell.unit is None else in_line(cell.unit), words=in_line(cell.words))
    return in_line(cell) if isinstance(cell, str) else Label(in_line(cell.words), cell.value)


def common_unit(cells: Sequence[Cell]) -> str | None:
    """Return the unit that all numbers of a column have, unless it is money, which is written with each number."""
    units = {cell.unit for cell in cells if isinstance(cell, Number)}
    others = any(isinstance(cell, (str, Label)) and cell for cell in cells)
    if len(units) != 1 or others:
        return None
    (unit,) = units
    return unit if unit and not is_money(unit) else None
