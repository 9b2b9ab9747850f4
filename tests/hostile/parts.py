"""The parts of the hostile run: what is tried with a number, and after how many seconds it is taken to hang."""

from __future__ import annotations

import tempfile
import warnings
from collections.abc import Callable
from functools import cache
from inspect import signature
from pathlib import Path

import ruddock as rk
from tests.hostile import faults, files, tiny
from tests.oracles import ORACLES


@cache
def _scratch() -> Path:
    return Path(tempfile.mkdtemp(prefix="tiny-", dir=files.folder().own().parent))


def _tiny(number: int) -> tuple[str, str]:
    return tiny.judged(number, _scratch())


def _question(number: int) -> tuple[str, str]:
    """Put a small model, of ordinary numbers or of millions, to an oracle of its number."""
    oracle = list(ORACLES.values())[number % len(ORACLES)]
    seed = 100_000 + number // len(ORACLES)
    scaled = "scale" in signature(oracle).parameters
    scale = SCALES[seed % len(SCALES)] if scaled else 1.0
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        warnings.simplefilter("ignore", rk.RuddockWarning)
        try:
            oracle(seed, _scratch(), scale) if scaled else oracle(seed, _scratch())  # type: ignore[call-arg]
        except AssertionError as error:
            return oracle.__name__, f"{oracle.__name__} {seed}, scale {scale:g}: {error}"
    return oracle.__name__, ""


SCALES = (1.0, 1e6, 1.0, 1e7)
PARTS: dict[str, tuple[Callable[[int], tuple[str, str]], float]] = {
    "files": (files.one, 20.0),
    "tiny": (_tiny, 60.0),
    "questions": (_question, 120.0),
    "faults": (faults.one, 300.0),
}
