"""A folder of tables as people really have them, each with what must be understood of it, or why it is refused."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import Any, NamedTuple

import pandas as pd
from openpyxl import Workbook

NEED = {"Fell": 120.0, "Mere": 80.0, "Gorse": 60.5}
HAUL = {"Fell,Quay": 3.5, "Fell,Abbey": 4.0, "Mere,Quay": 2.25, "Mere,Abbey": 5.0}
PLAIN = "apiary,need\nFell,120\nMere,80\nGorse,60.5\n"
GRID = ",Quay,Abbey\nFell,3.5,4\nMere,2.25,5\n"


class Awkward(NamedTuple):
    """A file, the data asked of it, and what must come of it.

    Attributes
    ----------
    values : by label; None where it must be refused
    words : what the note, or the error, must say
    """

    name: str
    make: Callable[[Path], None]
    values: dict[str, float] | None
    words: tuple[str, ...] = ()
    data: str = "need"
    rest: str = ""  # behind the file's name


def text(
    name: str, content: str, values: dict[str, float] | None, *words: str, encoding: str = "utf-8", **more: Any
) -> Awkward:
    """Return a text file."""
    return Awkward(name, lambda path: path.write_bytes(content.encode(encoding)) and None, values, words, **more)


def book(
    name: str, rows: list[list[Any]], values: dict[str, float] | None, *words: str, change: Any = None, **more: Any
) -> Awkward:
    """Return a workbook of one sheet."""

    def make(path: Path) -> None:
        workbook = Workbook()
        sheet = workbook.active
        for row in rows:
            sheet.append(row)
        if change is not None:
            change(workbook)
        workbook.save(path)

    return Awkward(name, make, values, words, **more)


def ods(name: str, rows: list[list[Any]], values: dict[str, float] | None, *words: str, **more: Any) -> Awkward:
    """Return an OpenDocument workbook; a pair is a cell that spans so many columns, ``=`` begins a formula without value."""

    def make(path: Path) -> None:
        from odf.opendocument import OpenDocumentSpreadsheet
        from odf.table import CoveredTableCell, Table, TableCell, TableRow
        from odf.text import P

        document = OpenDocumentSpreadsheet()
        table = Table(name="Demand")
        for held in rows:
            row = TableRow()
            for value in held:
                span = 1
                if isinstance(value, tuple):
                    value, span = value
                if isinstance(value, str) and value.startswith("="):
                    cell = TableCell(formula=f"of:{value}")
                elif isinstance(value, (int, float)):
                    cell = TableCell(valuetype="float", value=str(value), numbercolumnsspanned=span)
                else:
                    cell = TableCell(valuetype="string", numbercolumnsspanned=span)
                    cell.addElement(P(text=value or ""))
                row.addElement(cell)
                for _ in range(span - 1):
                    row.addElement(CoveredTableCell())
            table.addElement(row)
        document.spreadsheet.addElement(table)
        document.save(str(path))

    return Awkward(name, make, values, words, **more)


def _sheets(**sheets: list[list[Any]]) -> Callable[[Path], None]:
    def make(path: Path) -> None:
        workbook = Workbook()
        workbook.remove(workbook.active)
        for name, rows in sheets.items():
            sheet = workbook.create_sheet(name)
            for row in rows:
                sheet.append(row)
        workbook.save(path)

    return make


def _database(path: Path) -> None:
    connection = sqlite3.connect(path)
    frame = pd.DataFrame({"apiary": list(NEED), "need": list(NEED.values())})
    frame.to_sql("demand", connection, index=False)
    frame.assign(need=0.0).to_sql("old demand", connection, index=False)
    connection.close()


def _saved(path: Path, rows: list[list[Any]]) -> None:
    """Write a workbook whose formulas have saved values, as a spreadsheet leaves them."""
    import zipfile

    workbook = Workbook()
    for row in rows:
        workbook.active.append(row)
    workbook.save(path)
    with zipfile.ZipFile(path) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    sheet = parts["xl/worksheets/sheet1.xml"].replace(b"<f>60*2</f><v></v>", b"<f>60*2</f><v>120</v>")
    parts["xl/worksheets/sheet1.xml"] = sheet.replace(b"<f>60*2</f><v />", b"<f>60*2</f><v>120</v>")
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)


ROWS: list[list[Any]] = [["apiary", "need"], ["Fell", 120], ["Mere", 80], ["Gorse", 60.5]]
TITLED: list[list[Any]] = [["Demand of June"], ["as agreed on Monday"], [], *ROWS]

FILES = [
    text("plain.csv", PLAIN, NEED, "column 'need' of plain.csv, a row for each apiary"),
    text("bom.csv", "\ufeff" + PLAIN, NEED),
    text("semicolons.csv", PLAIN.replace(",", ";"), NEED, "semicolons"),
    text("decimal_commas.csv", "apiary;need\nFell;120\nMere;80\nGorse;60,5\n", NEED, "decimal commas: '60,5' is 60.5"),
    text("tabs.tsv", PLAIN.replace(",", "\t"), NEED, "tabs"),
    text("bars.txt", PLAIN.replace(",", "|"), NEED, "bars"),
    text("says_separator.csv", "sep=;\n" + PLAIN.replace(",", ";"), NEED),
    text("dos_lines.csv", PLAIN.replace("\n", "\r\n"), NEED),
    text("old_mac_lines.csv", PLAIN.replace("\n", "\r"), NEED),
    text("utf16.csv", "\ufeff" + PLAIN, NEED, "UTF-16", encoding="utf-16-le"),
    text("utf16_without_mark.csv", PLAIN, NEED, "UTF-16", encoding="utf-16-be"),
    text("latin.csv", "apiary,need,Ort\nFell,120,Möhn\nMere,80,x\nGorse,60.5,y\n", NEED, "Windows-1252", "'Ort' not used", encoding="cp1252"),
    text("title.csv", "Demand of June\nas agreed on Monday\n\n" + PLAIN, NEED, "headings in line 4"),
    text("trailing_notes.csv", PLAIN + "\nSource: the order book\nask Ann,\n", NEED, "2 lines without a number left out", "Source"),
    text("total.csv", PLAIN + "Total,260.5\n", NEED, "1 line with a total left out (line 5"),
    text("blank_lines.csv", PLAIN.replace("\nMere", "\n\n,\nMere"), NEED),
    text("blank_cells_at_the_end.csv", "apiary,need\nFell,120,,\nMere,80,\nGorse,60.5\n", NEED),
    text("heading_with_unit.csv", PLAIN.replace("need", "Need (crates)").replace("apiary", "Apiary"), NEED, "column 'Apiary' holds apiary"),
    text("other_heading.csv", PLAIN.replace("apiary", "site"), NEED, "column 'site' holds apiary, as its labels show"),
    text("notes_beside.csv", "apiary,need,remark\nFell,120,\nMere,80,late\nGorse,60.5,\n", NEED, "column 'remark' not used"),
    text("thousands.csv", 'apiary,need\nFell,"1,120"\nMere,80\nGorse,60.5\n', {**NEED, "Fell": 1120.0}, "thousands: '1,120' is 1120"),
    text("percent.csv", "apiary,need\nFell,120%\nMere,80 %\nGorse,60.5%\n", {k: v / 100 for k, v in NEED.items()}, "percentages: '120%' is 1.2"),
    text("money.csv", "apiary,need\nFell,£120.00\nMere,£80.00\nGorse,£60.50\n", NEED, "signs of money"),
    text("quoted.csv", '"apiary","need"\n"Fell","120"\n"Mere","80"\n"Gorse","60.5"\n', NEED),
    text("several_columns.csv", "apiary,spare,need,more\nFell,1,120,3\nMere,1,80,3\nGorse,1,60.5,3\n", NEED),
    text("a_line.csv", "crates,Fell,Mere,Gorse\nneed,120,80,60.5\n", NEED, "a line with apiary across"),
    text("wide.csv", GRID, HAUL, "apiary down and market across", data="haul"),
    text("wide_turned.csv", ",Fell,Mere\nQuay,3.5,2.25\nAbbey,4,5\n", HAUL, "market down and apiary across", data="haul"),
    text("wide_with_totals.csv", ",Quay,Abbey,Total\nFell,3.5,4,7.5\nMere,2.25,5,7.25\nTotal,5.75,9,14.75\n", HAUL, "column 'Total' left out", "a total left out", data="haul"),
    text("wide_with_title.csv", "Haulage;;\n;;\nfrom/to;Quay;Abbey\nFell;3,5;4\nMere;2,25;5\n", HAUL, "decimal commas", data="haul"),
    text("wide_with_notes.csv", ",Quay,Abbey,by\nFell,3.5,4,Ann\nMere,2.25,5,Ben\n", HAUL, "column 'by' not used", data="haul"),
    text("long.csv", "market,apiary,haul\nQuay,Fell,3.5\nAbbey,Fell,4\nQuay,Mere,2.25\nAbbey,Mere,5\n", HAUL, data="haul"),
    text("dates.csv", "day,take\n01.06.2026,5\n13.06.2026,7\n", {"2026-06-01": 5.0, "2026-06-13": 7.0}, "day first", data="take"),
    text("american_dates.csv", "day,take\n6/1/2026,5\n6/13/2026,7\n", {"2026-06-01": 5.0, "2026-06-13": 7.0}, "month first", data="take"),
    book("plain.xlsx", ROWS, NEED),
    book("macros.xlsm", ROWS, NEED),
    book("title.xlsx", TITLED, NEED, "headings in line 4"),
    book("text_numbers.xlsx", [ROWS[0], *([a, str(b)] for a, b in ROWS[1:])], NEED),
    book("real_dates.xlsx", [["day", "take"], [date(2026, 6, 1), 5], [date(2026, 6, 13), 7]], {"2026-06-01": 5.0, "2026-06-13": 7.0}, data="take"),
    book("merged_title.xlsx", TITLED, NEED, change=lambda w: w.active.merge_cells("A1:D1")),
    Awkward("saved_formula.xlsx", lambda path: _saved(path, [["apiary", "need"], ["Fell", "=60*2"], *ROWS[2:]]), NEED),
    Awkward("sheets.xlsx", _sheets(Notes=[["ask Ann"]], Demand=TITLED), NEED, ("sheet Demand",)),
    Awkward("own_sheet.xlsx", _sheets(Archive=ROWS, Need=ROWS), NEED, ("sheet Need",)),
    Awkward("sheet_named.xlsx", _sheets(June=ROWS, May=[["apiary", "need"], ["Fell", 1]]), NEED, ("sheet June",), rest=" sheet June"),
    ods("plain.ods", ROWS, NEED),
    ods("title.ods", TITLED, NEED, "headings in line 4"),
    Awkward("table.parquet", lambda path: pd.DataFrame({"apiary": list(NEED), "need": list(NEED.values())}).to_parquet(path), NEED),
    Awkward("sales.db", _database, NEED, ("table demand",), rest=" table demand"),
    # ------------------------------------------------------------------ refused
    text("empty.csv", "", None, "the file is empty"),
    text("only_a_title.csv", "Demand of June\n", None, "'apiary' not found"),
    text("not_text.csv", "a\0b\x01\x02" * 50, None, "not a text file"),
    text("twice.csv", PLAIN + "Mere,81\n", None, "line 5", "Mere is given twice"),
    text("unknown_labels.csv", PLAIN.replace("Mere", "Meer").replace("Gorse", "Grose"), None, "line 3", "did you mean 'Mere'", "line 4", "did you mean 'Gorse'"),
    text("sorted_with_its_headings.csv", "Fell,120\nGorse,60.5\nMere,80\n\napiary,need\n", None, "line 1", "before the headings in line 5"),
    text("line_above_the_headings.csv", "Fell,120\napiary,need\nMere,80\nGorse,60.5\n", None, "line 1", "the line 'Fell 120'"),
    text("quote_in_the_headings.csv", 'apiary,"need\nFell,120\nMere,80\n"\nGorse,60.5\n', None, "line 1", "a quote that opens here is closed only after the line 'Fell 120'"),
    text("numbers_in_another_column.csv", "apiary,,need\nFell,120\nMere,80\n", None, "line 1: column 'need' holds no number"),
    text("a_label_without_number.csv", PLAIN.replace("80", ""), {"Fell": 120, "Gorse": 60.5}, "1 line with a label and no number left out (line 3: 'Mere')"),
    text("no_headings.csv", "Fell,120\nMere,80\nGorse,60.5\n", None, "column 'apiary' not found"),
    text("not_numbers.csv", PLAIN.replace("120", "12o").replace("80", "n/a"), None, "line 2", "'12o' is not a number", "line 3", "'n/a' is not a number"),
    text("could_be_either.csv", "apiary;need\nFell;1,120\nMere;80\nGorse;60\n", None, "line 2", "1120 or 1.120"),
    text("two_decimal_marks.csv", "apiary;need\nFell;1,5\nMere;1.5\nGorse;60\n", None, "line 3", "decimal comma", "decimal point"),
    text("label_missing.csv", PLAIN.replace("Mere", ""), None, "line 3", "label of apiary is missing"),
    text("unquoted_thousands.csv", PLAIN.replace("120", "1,120"), None, "line 2", "3 cells for 2 columns"),
    text("open_quote.csv", PLAIN.replace("Mere", '"Mere'), None, "a quote is opened and never closed"),
    text("percent_and_not.csv", PLAIN.replace("120", "120%"), None, "line 3", "is a percentage"),
    text("which_column.csv", "apiary,low,high\nFell,1,2\nMere,1,2\n", None, "which column is need", "'low', 'high'"),
    text("column_twice.csv", "apiary,need,need\nFell,1,2\nMere,1,2\n", None, "'need' appears twice"),
    text("near_column.csv", PLAIN, None, "column 'ned' not found; did you mean 'need'", rest=" column ned"),
    text("dates_either_way.csv", "day,take\n1/6/2026,5\n6/1/2026,7\n", None, "'1/6/2026' is not a label", data="take"),
    text("unit_in_the_column.csv", PLAIN.replace("120", "120 kg"), None, "write the unit after the name"),
    text("wide_unknown.csv", GRID.replace("Abbey", "Abby"), None, "'Abby' is not a label of axis market; did you mean 'Abbey'", data="haul"),
    book("formula_without_value.xlsx", [["apiary", "need"], ["Fell", "=60*2"], *ROWS[2:]], None, "cell B2", "without a saved value"),
    book("merged_labels.xlsx", [["apiary", "need"], ["Fell", 120], [None, 80], ["Gorse", 1]], None, "cell A3", "A2:A3 are merged", change=lambda w: w.active.merge_cells("A2:A3")),
    book("error_value.xlsx", [["apiary", "need"], ["Fell", "#DIV/0!"], *ROWS[2:]], None, "cell B2", "shows an error"),
    book("truth.xlsx", [["apiary", "need"], ["Fell", True], *ROWS[2:]], None, "cell B2", "True is not a number; write 1"),
    Awkward("which_sheet.xlsx", _sheets(June=ROWS, May=ROWS), None, ("which sheet is need? June, May",)),
    Awkward("near_sheet.xlsx", _sheets(June=ROWS, May=ROWS), None, ("sheet 'Jun' not found; did you mean 'June'",), rest=" sheet Jun"),
    Awkward("no_sheet_fits.xlsx", _sheets(Notes=[["ask Ann"]], May=[["a", "b"], [1, 2]]), None, ("no sheet holds need", "Notes, May")),
    text("not_a_workbook.xlsx", PLAIN, None, "not a workbook"),
    text("old.xls", PLAIN, None, "save it as .xlsx"),
    ods("formula_without_value.ods", [["apiary", "need"], ["Fell", "=60*2"], *ROWS[2:]], None, "cell B2", "without a saved value"),
    ods("merged.ods", [["apiary", ("need", 1)], [("Fell", 2)], *ROWS[2:]], None, "cell B2", "A2:B2 are merged"),
    Awkward("which_table.db", _database, None, ("which table? There are demand, old demand",)),
    Awkward("near_table.db", _database, None, ("table 'demnd' not found; did you mean 'demand'",), rest=" table demnd"),
    text("not_parquet.parquet", PLAIN, None, "cannot be read"),
    text("not_a_database.db", PLAIN * 40, None, "cannot be read as a SQLite database", rest=" table demand"),
]  # fmt: skip
