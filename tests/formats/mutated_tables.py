"""Tables and grids with bytes, lines and the XML of their sheets changed at random: never a traceback, and nothing is
read that does not stand there."""

from __future__ import annotations

import csv
import io
import random
import re
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

import ruddock as rk
from tests.formats.awkward_files import FILES
from tests.formats.test_grids import FORMS, formatted
from tests.formats.test_tables import held_by, model_of
from tests.hostile.mutations import with_bytes

BITS = [b",", b";", b'"', b"\n\n", b"Total", b"<=", b"max ", b"1,200", b"NaN", b"\xff\xfe", b"inf", b"=1+1", b"#N/A"]


def mutated(content: bytes, rng: random.Random) -> bytes:
    """Return content with a few changes."""
    return with_bytes(content, rng, BITS)


def mutated_book(content: bytes, rng: random.Random) -> bytes:
    """Return a workbook with the XML of a sheet changed, and now and then that of the whole."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(out, "w") as new:
        for name in old.namelist():
            part = old.read(name)
            if "sheet1.xml" in name or ("workbook.xml" in name and rng.random() < 0.1):
                part = mutated(part, rng)
            new.writestr(name, part)
    return out.getvalue()


def attempts(seed: int, count: int) -> Iterator[tuple[str, bytes, Callable[[], rk.Model]]]:
    """Yield the name of a changed file, its content where it is a table in a text file, and a call that reads it."""
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        cases = {}
        for case in FILES:
            case.make(folder / case.name)
            cases[case.name] = case, (folder / case.name).read_bytes()
        grids = {f"{form}.csv": text.encode() for form, (text, _) in FORMS.items()}
        formatted(folder / "formatted.xlsx")
        grids["formatted.xlsx"] = (folder / "formatted.xlsx").read_bytes()
        for _ in range(count):
            table = rng.random() < 0.7
            file = rng.choice(list(cases if table else grids))
            content = cases[file][1] if table else grids[file]
            change = mutated_book if content[:2] == b"PK" and ".ods" not in file and rng.random() < 0.8 else mutated
            new = change(content, rng)
            if table:
                case = cases[file][0]._replace(
                    make=lambda path, new=new: path.write_bytes(new), values=cases[file][0].values or {}
                )
                text = b"" if Path(file).suffix not in (".csv", ".tsv", ".txt") else new
                yield file, text, lambda case=case: model_of(case, folder)
            else:
                (folder / file).write_bytes(new)
                yield file, b"", lambda file=file: rk.read(folder / file)


def meant_otherwise(content: bytes, model: rk.Model) -> str:
    """Return what was read silently of a text file that does not stand there, or was left out; empty if nothing.

    Judged by a reading of its own: the cells of every line, by every separator, as every number they can be.
    """
    rows = list(_rows(content))
    typed = {value for row in rows for cell in row for value in _numbers(cell)}
    held = held_by(model)
    for name, value in held.items():
        if np.isfinite(value) and not _among(value, typed):
            return f"{name} is {value!r}, which is typed nowhere"
    note = " ".join(model.notes)
    if "a row for each apiary;" not in f"{note};" or "left out" in note:
        return ""
    for row in rows:
        labels = [cell.strip().strip('"') for cell in row if cell.strip().strip('"') in ("Fell", "Mere", "Gorse")]
        own = {value for cell in row for value in _numbers(cell)}
        if len(labels) == 1 and len(own) == 1 and min(own) >= 0 and not _among(held.get(labels[0]), own):
            return f"line {row!r} is not what was read: {held.get(labels[0])}"
    return ""


def _among(value: float | None, numbers: set[float]) -> bool:
    return value is not None and any(abs(value - other) <= 1e-9 * max(1.0, abs(other)) for other in numbers)


def _rows(content: bytes) -> Iterator[list[str]]:
    for encoding in ("utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "latin-1"):
        try:
            lines = content.decode(encoding).splitlines()
        except UnicodeError:
            continue
        for separator in (",", ";", "\t", "|"):
            yield from (line.split(separator) for line in lines)
            yield from csv.reader(lines, delimiter=separator)


def _numbers(cell: str) -> set[float]:
    """Return every number that a cell may be, wherever its point is taken to be."""
    plain = re.sub(r"[\s'\"£$€¥\x80\xa0\u202f]", "", cell)
    share = 0.01 if plain.endswith("%") else 1.0
    plain = re.sub("[\u2212\x96\u2013]", "-", plain.rstrip("%"))
    plain = f"-{plain[1:-1]}" if plain.startswith("(") and plain.endswith(")") else plain
    found = set()
    for text in {plain, plain.replace(",", ""), plain.replace(".", "").replace(",", "."), plain.replace(",", ".")}:
        try:
            found.add(float(text) * share)
        except ValueError:
            continue
    return {value for value in found if value == value and abs(value) < float("inf")}
