"""Named, ordered sets of labels."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import date
from typing import Any

import numpy as np
import pandas as pd

from ruddock.characters import has_acting, quote
from ruddock.errors import DataError, ModelError, known, listed
from ruddock.modelling.series import AnyIndex
from ruddock.problem import Ints

NAME = re.compile(r"[^\W\d_]\w*\Z")
MISREAD = re.compile(r'[,\[\]"]')
ISO_DATE = re.compile(r"\d{4}-\d\d-\d\d")  # how the text of a date begins


def check_name(name: object, what: str) -> str:
    """Return ``name`` if it can name something, else raise `ModelError`."""
    if not isinstance(name, str):
        raise ModelError(f"the name of {what} must be text, not {type(name).__name__}: {name!r}")
    if not NAME.match(name):
        raise ModelError(
            f"{name!r} cannot name {what}: a name is a letter, then letters, digits or _. "
            "Labels may hold any characters."
        )
    return name


class Axis:
    """A named, ordered set of labels that decisions, data and constraints are indexed by.

    Parameters
    ----------
    name : str
        A letter, then letters, digits or ``_``.
    labels : iterable, pandas Index or Series, or another Axis
        Text, numbers or dates, each once.

    Raises
    ------
    ModelError
        If the name cannot be one.
    DataError
        If a label is missing (NaN) or given twice.

    Examples
    --------
    >>> apiary = Axis("apiary", ["Fell", "Mere", "Gorse"])
    >>> len(apiary), "Mere" in apiary
    (3, True)
    """

    __slots__ = ("_places", "_texts", "labels", "name")

    def __init__(self, name: str, labels: Iterable[Any]) -> None:
        self.name = check_name(name, "an axis")
        if isinstance(labels, pd.DataFrame):
            raise DataError(
                f"axis {name}: labels are one column, not a whole table; write Axis({name!r}, table[{'column'!r}])"
            )
        if isinstance(labels, str):
            raise DataError(f"axis {name}: labels are a list of labels, not one text {labels!r}")
        if isinstance(labels, Axis):
            index = labels.labels
        elif isinstance(labels, (pd.Index, pd.Series, np.ndarray, range)):
            index = pd.Index(labels)
        else:
            try:
                index = pd.Index(list(labels))
            except TypeError:
                raise DataError(f"axis {name}: labels are a list of labels, not {labels!r}") from None
            except UnicodeEncodeError as error:
                raise DataError(f"axis {name}: the label {error.object!r} holds half a character") from None
        if isinstance(index, pd.MultiIndex) or any(isinstance(label, tuple) for label in index[:1]):
            raise DataError(f"axis {name}: a label is one value, not a tuple; make an axis for each part")
        if isinstance(labels, Mapping):
            raise DataError(f"axis {name}: a dict has keys and values; write list(the dict) for its keys")
        if index.hasnans:
            raise DataError(f"axis {name}: label number {int(np.argmax(index.isna())) + 1} is missing (NaN)")
        if not index.is_unique:
            twice = index[index.duplicated()].unique()
            raise DataError(f"axis {name}: given more than once: {listed(map(label_text, twice))}")
        self.labels: pd.Index[Any] = index.rename(name)
        self._texts: list[str] | None = None
        self._places: dict[str, int] | None = None
        if index.dtype == object and len(self.places) < len(index):
            seen: dict[str, Any] = {}
            for label, text in zip(index, self.texts, strict=True):
                if text in seen:
                    raise DataError(
                        f"axis {name}: labels {seen[text]!r} and {label!r} read the same; give one another name"
                    )
                seen[text] = label

    @classmethod
    def of_different(cls, name: str, labels: AnyIndex) -> Axis:
        """Return an axis over labels that are known to be different and all there."""
        axis = cls.__new__(cls)
        axis.name, axis.labels, axis._texts, axis._places = name, labels.rename(name), None, None
        return axis

    def __len__(self) -> int:
        return len(self.labels)

    def __iter__(self) -> Iterator[Any]:
        return iter(self.labels)

    def __contains__(self, label: object) -> bool:
        return label in self.labels

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        return isinstance(other, Axis) and self.name == other.name and self.labels.equals(other.labels)

    def __hash__(self) -> int:
        return hash((self.name, len(self)))

    def __repr__(self) -> str:
        return f"Axis({self.name!r}, {len(self)} labels: {listed(self.texts, 4) if len(self) else 'none'})"

    def _repr_html_(self) -> str:
        from html import escape  # with its table of entities, which few need

        shown = f"{listed(self.texts, 40)}" if len(self) else "no labels"
        return f"<div><b>{escape(self.name)}</b> ({len(self):,}): {escape(shown)}</div>"

    @property
    def texts(self) -> list[str]:
        """The labels as they are shown."""
        if self._texts is None:
            self._texts = [label_text(label) for label in self.labels]
        return self._texts

    @property
    def places(self) -> dict[str, int]:
        """The position of each label by its text."""
        if self._places is None:
            self._places = {text: k for k, text in enumerate(self.texts)}
        return self._places

    def code(self, label: Any) -> int:
        """Return the position of a label.

        Raises
        ------
        DataError
            If the axis has no such label, or it is a part of a date that several labels share.
        """
        try:
            found: Any = self.labels.get_loc(label)
        except (KeyError, TypeError, ValueError):
            # a date stands for the moment at which it begins
            found = self.labels.get_indexer(pd.Index([label]))[0] if isinstance(label, date) else -1
            if found < 0:
                raise DataError(f"axis {self.name} has no label {label_text(label)!r}; {self.hint(label)}") from None
        if isinstance(found, slice):
            covered = self.labels[found]
            if len(covered) != 1:
                raise DataError(
                    f"axis {self.name}: {label!r} covers {len(covered):,} labels; name one, such as "
                    f"{str(covered[0])!r}, or write the slice {label!r}:{label!r} to keep them all"
                )
            found = found.start
        return int(found)

    def some_codes(self, chosen: Any) -> Ints:
        """Return the positions of a slice or list of labels."""
        if isinstance(chosen, slice):
            try:
                span = self.labels.slice_indexer(chosen.start, chosen.stop, chosen.step)
            except (KeyError, TypeError, ValueError):
                for end in (chosen.start, chosen.stop):
                    if end is not None:
                        self.code(end)
                raise DataError(
                    f"axis {self.name}: a slice of labels goes from one to another, such as "
                    f"{self.texts[:1]}; this is {chosen}"
                ) from None
            return np.arange(len(self), dtype=np.int32)[span]
        labels = list(chosen)
        codes = np.array([self.code(label) for label in labels], np.int32)
        if len(set(codes.tolist())) < len(codes):
            raise DataError(f"axis {self.name}: a label is chosen twice: {listed(map(label_text, labels))}")
        return codes

    def hint(self, label: Any) -> str:
        """Say which label was probably meant."""
        text = label_text(label)
        if text in self.places:
            held = self.labels[self.places[text]]
            return (
                f"there the label is {_sort_of(held)}, {_written(held)}, and you gave {_sort_of(label)}, "
                f"{_written(label)}"
            )
        return known(str(label), self.texts)

    def codes(self, labels: Any, where: str) -> Ints:
        """Return the positions of many labels; ``where`` begins the message if one is unknown."""
        index = pd.Index(labels)
        if index.equals(self.labels):
            return np.arange(len(self), dtype=np.int32)
        codes = self.labels.get_indexer(index).astype(np.int32)
        if (codes < 0).any():
            unknown = index[codes < 0].unique()
            raise DataError(
                f"{where}: {listed(repr(label_text(label)) for label in unknown)} "
                f"{'is not a label' if len(unknown) == 1 else 'are not labels'} of axis {self.name}; "
                f"{self.hint(unknown[0])}"
            )
        return codes


def _sort_of(label: Any) -> str:
    """Name the sort of a label for a message."""
    if isinstance(label, str):
        return "text"
    if isinstance(label, (bool, np.bool_)):
        return "true or false"
    if isinstance(label, (int, float, np.number)):
        return "a number"
    return {"Timestamp": "a date", "date": "a date"}.get(type(label).__name__, f"a {type(label).__name__}")


def _written(label: Any) -> str:
    return repr(label.item() if isinstance(label, np.generic) else label)


def label_text(label: Any) -> str:
    """Return a label as it is shown: dates without midnight, everything else as text."""
    if isinstance(label, pd.Timestamp) and label == label.normalize():
        return label.strftime("%Y-%m-%d")
    return str(label)


def member_label(texts: Iterable[str]) -> str:
    """Join label texts as in ``ship[Fell,Quay]``, quoting those that hold ``, [ ] "`` or act."""
    return ",".join(quoted(text) for text in texts)


def quoted(text: str) -> str:
    """Quote a label as in JSON if it could be misread inside brackets, or act where it is shown."""
    return quote(text) if MISREAD.search(text) or has_acting(text) else text
