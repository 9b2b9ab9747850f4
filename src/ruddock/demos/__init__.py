"""The models of Larkmoor Honey Cooperative to start from, each with its text, its Python and its tables."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import TYPE_CHECKING

from ruddock.document.content import Table
from ruddock.errors import FormatError, ModelError, known

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

FIRST = ("packing-week", "spring-haulage", "blending", "storm-week")
GALLERY = (
    *FIRST,
    "projects",
    "tariff",
    "vans",
    "crews",
    "stock",
    "shares",
    "product-mix",
    "collecting",
    "make-or-buy",
    "season",
    "two-products",
    "two-objectives",
)


def folder(name: str) -> Path:
    """Return the folder of a model: its text, its Python and its tables.

    Raises
    ------
    ModelError
        If there is no such model.
    """
    plain = name.strip().lower().replace(" ", "-").replace("_", "-")
    if plain not in GALLERY:
        raise ModelError(f"no demo is called {name!r}; {known(plain, GALLERY)}")
    return Path(__file__).parent / "gallery" / plain.replace("-", "_")


def text(name: str) -> Path:
    """Return the path of a model's text; it is called as its folder is."""
    home = folder(name)
    return home / f"{home.name}.rdk"


def build(name: str) -> Model:
    """Return a model by name, one of `GALLERY`."""
    from ruddock.formats import read

    return read(text(name))


def question(name: str) -> str:
    """Return what a model asks: the first line of its text."""
    first, _, _ = text(name).read_text(encoding="utf-8").partition("\n")
    return first.removeprefix("#").strip()


def copy(name: str, target: Path) -> list[Path]:
    """Copy a model with its tables into a folder, to start one's own from; return the files.

    Raises
    ------
    FormatError
        If one of the files is there already, or cannot be written.
    """
    sources = sorted(path for path in folder(name).iterdir() if path.suffix in (".rdk", ".py", ".csv"))
    paths = [target / source.name for source in sources]
    for path in paths:
        if path.exists():
            raise FormatError("exists already and is not overwritten; name another folder", path=str(path))
    try:
        target.mkdir(parents=True, exist_ok=True)
        for source, path in zip(sources, paths, strict=True):
            shutil.copyfile(source, path)
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(target)) from None
    return paths


def catalogue() -> list[Table]:
    """Return the lists of models: those to begin with, and the rest of the gallery."""
    rest = [name for name in GALLERY if name not in FIRST]
    first, more = ([(name, question(name)) for name in names] for names in (FIRST, rest))
    return [
        Table("Demos of Larkmoor Honey Cooperative, a made-up honey producer", ["name", "question"], first, most=None),
        Table("Gallery: models to start your own from", ["name", "question"], more, most=None),
    ]
