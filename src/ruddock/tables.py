"""One table object, rendered for the console, as HTML or as Markdown; and how numbers are written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from html import escape
from math import isinf, isnan
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.table import Table as RichTable

MONEY = ("£", "€", "$", "¥")


def number(value: float | None) -> str:
    """Write a number for people: thousands separated, at most four decimals, none that are zero.

    >>> number(1234.5), number(0.00001234), number(-0.0), number(None)
    ('1,234.5', '1.234e-05', '0', '-')
    """
    if value is None or isnan(value):
        return "-"
    if isinf(value):
        return "unlimited" if value > 0 else "-unlimited"
    if value == 0:
        return "0"
    if abs(value) >= 1e15 or abs(value) < 1e-3:
        return f"{value:.4g}"
    text = f"{value:,.4f}".rstrip("0").rstrip(".")
    return "0" if text == "-0" else text


def amount(value: float, unit: str | None) -> str:
    """Write a number with its unit; money to the penny, its sign in front.

    >>> amount(-1234.5, "£"), amount(640, "hour"), amount(2.25, "£/crate")
    ('-£1,234.50', '640 hour', '£2.25/crate')
    """
    if not unit or isnan(value):
        return number(value)
    if unit[0] in MONEY and not isinf(value):
        text = f"{abs(value):,.2f}" if abs(value) >= 0.01 or value == 0 else number(abs(value))
        sign = "-" if value < 0 and float(text.replace(",", "")) != 0 else ""
        return f"{sign}{unit[0]}{text}{unit[1:]}"
    return f"{number(value)} {unit}"


def plural(count: int, noun: str, many: str | None = None) -> str:
    """Write a count with its noun: ``1 node``, ``3,400 nodes``."""
    return f"{count:,} {noun if count == 1 else many or noun + 's'}"


@dataclass(frozen=True)
class Table:
    """Rows under headings.

    Attributes
    ----------
    title : shown above
    headings : one per column; a heading that starts with ``>`` aligns its column to the right
    rows : cells as text
    note : a sentence below the table
    """

    title: str
    headings: Sequence[str]
    rows: Sequence[Sequence[str]]
    note: str = ""
    more: int = 0  # rows left out at the end
    columns: list[tuple[str, bool]] = field(init=False)

    def __post_init__(self) -> None:
        # a column without a single entry tells nothing
        kept = [k for k in range(len(self.headings)) if not self.rows or any(row[k] for row in self.rows)]
        object.__setattr__(self, "rows", [tuple(row[k] for k in kept) for row in self.rows])
        object.__setattr__(self, "headings", [self.headings[k] for k in kept])
        columns = [(heading.removeprefix(">"), heading.startswith(">")) for heading in self.headings]
        object.__setattr__(self, "columns", columns)

    @property
    def below(self) -> str:
        """What stands below the rows: how many are left out, and the note."""
        rest = f"... and {self.more:,} more" if self.more else ""
        return "\n".join(part for part in (rest, self.note) if part)

    def to_rich(self, width: int) -> RichTable:
        """Return the rows and headings for a rich console; title and note are printed around them.

        Where they are wider than the console, a heading such as ``ship[Fell,Quay]`` stands on several lines.
        """
        from rich import box
        from rich.cells import cell_len
        from rich.table import Table as RichTable
        from rich.text import Text

        table = RichTable(
            box=box.SIMPLE_HEAD,
            show_header=any(heading for heading, _ in self.columns),
            header_style="dim",
            border_style="dim",
            pad_edge=False,
            show_edge=False,
        )
        widest = [max(map(cell_len, column)) for column in zip(self.headings, *self.rows, strict=True)]
        broken = sum(widest) + 3 * (len(widest) - 1) > width
        for heading, right in self.columns:
            if broken and right:
                heading = heading.replace("[", "\n[").replace(",", ",\n")
            table.add_column(Text(heading), justify="right" if right else "left", overflow="fold")
        for row in self.rows:
            table.add_row(*(Text(cell) for cell in row))
        return table

    def to_html(self) -> str:
        """Return the table as HTML, all text escaped."""
        style = ("text-align:left", "text-align:right")
        head = "".join(f'<th style="{style[right]}">{escape(text)}</th>' for text, right in self.columns)
        body = "".join(
            "<tr>"
            + "".join(
                f'<td style="{style[right]}">{escape(cell)}</td>'
                for cell, (_, right) in zip(row, self.columns, strict=True)
            )
            + "</tr>"
            for row in self.rows
        )
        title = f"<p><strong>{escape(self.title)}</strong></p>" if self.title else ""
        below = f"<p>{escape(self.below)}</p>" if self.below else ""
        return f"{title}<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{below}"

    def to_markdown(self) -> str:
        """Return the table as Markdown, in which no text makes marks of its own."""
        lines = [f"**{plain(self.title)}**", ""] if self.title else []
        lines.append("| " + " | ".join(plain(text) for text, _ in self.columns) + " |")
        lines.append("|" + "|".join("---:" if right else "---" for _, right in self.columns) + "|")
        lines += ["| " + " | ".join(plain(cell) for cell in row) + " |" for row in self.rows]
        return "\n".join([*lines, *(["", plain(self.below)] if self.below else [])])


def plain(words: str) -> str:
    """Return words in which Markdown sees no marks of its own."""
    for mark in "\\`*_[]<>#|":
        words = words.replace(mark, "\\" + mark)
    return words.replace("\n", " ")


def capped(rows: Sequence[Any], most: int) -> tuple[Sequence[Any], int]:
    """Return at most so many rows, and how many are left out; one more row is not worth a cut."""
    return (rows, 0) if len(rows) <= most + 1 else (rows[:most], len(rows) - most)
