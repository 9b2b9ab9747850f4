"""Demo models of Larkmoor Honey Cooperative, with their data, and the gallery of models to start from."""

from __future__ import annotations

import shutil
from importlib import import_module
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING

from ruddock.errors import FormatError, ModelError, known
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

DEMOS = ("packing-week", "spring-haulage", "blending", "storm-week")
GALLERY = ("projects", "tariff", "vans", "crews", "stock", "two-products", "two-objectives")


def _plain(name: str) -> str:
    plain = name.strip().lower().replace(" ", "-").replace("_", "-")
    if plain not in (*DEMOS, *GALLERY):
        raise ModelError(f"there is no demo called {name!r}; {known(plain, (*DEMOS, *GALLERY))}")
    return plain


def _module(name: str) -> ModuleType:
    return import_module(f"ruddock.demos.{name.replace('-', '_')}")


def _text(name: str) -> Path:
    """Return the text of a gallery model; beside it stand its Python and its tables."""
    plain = name.replace("-", "_")
    return Path(__file__).parent / "gallery" / plain / f"{plain}.rdk"


def build(name: str) -> Model:
    """Return a demo model by name, one of `DEMOS` or of `GALLERY`."""
    plain = _plain(name)
    if plain in GALLERY:
        from ruddock.formats import read

        return read(_text(plain))
    model: Model = _module(plain).build()
    return model


def question(name: str) -> str:
    """Return what a demo model asks."""
    plain = _plain(name)
    if plain in GALLERY:
        first, _, _ = _text(plain).read_text(encoding="utf-8").partition("\n")
        return first.removeprefix("#").strip()
    return str(_module(plain).QUESTION)


def copy(name: str, target: Path) -> list[Path]:
    """Copy a model with its tables into a folder, to start one's own from; return the files.

    Raises
    ------
    FormatError
        If one of the files is there already, or cannot be written.
    """
    plain = _plain(name)
    if plain in DEMOS:
        paths = [target / f"{plain}.rdk"]
        _refuse_existing(paths)
        target.mkdir(parents=True, exist_ok=True)
        build(plain).write(paths[0])
        return paths
    sources = sorted(path for path in _text(plain).parent.iterdir() if path.suffix in (".rdk", ".py", ".csv"))
    paths = [target / source.name for source in sources]
    _refuse_existing(paths)
    try:
        target.mkdir(parents=True, exist_ok=True)
        for source, path in zip(sources, paths, strict=True):
            shutil.copyfile(source, path)
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(target)) from None
    return paths


def _refuse_existing(paths: list[Path]) -> None:
    for path in paths:
        if path.exists():
            raise FormatError("is there already and is not written over; name another folder", path=str(path))


def catalogue() -> list[Table]:
    """Return the lists of demo models: those of the first pages, and the gallery."""
    first, gallery = ([(name, question(name)) for name in names] for names in (DEMOS, GALLERY))
    return [
        Table("Demo models of Larkmoor Honey Cooperative", ["name", "question"], first),
        Table("Gallery: models to start your own from", ["name", "question"], gallery),
    ]
