"""The text that a model was read from, where it still says the model: comments and all."""

from __future__ import annotations

import re
from pathlib import Path

from ruddock.formats.rdk.read import TextRecipe
from ruddock.modelling.model import Model


def text_as_read(model: Model, folder: Path) -> str | None:
    """Return the text that a model was read from, comments and all, if it still says the model at a folder."""
    recipe = model._recipe
    if not isinstance(recipe, TextRecipe) or recipe.given or recipe.title != model.name or model._relaxed:
        return None
    if model._parts.keys() != model._read.keys() or any(model._read[n] is not p for n, p in model._parts.items()):
        return None
    elsewhere = folder.resolve() != recipe.folder.resolve()
    return None if elsewhere and re.search(r"^include\b|[:\s]from\s", recipe.text, flags=re.MULTILINE) else recipe.text
