"""Tables that stand in for those of a model for one run: by name, or all that a folder holds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path, PureWindowsPath
from typing import Any

from ruddock.errors import DataError, FormatError, RuddockError, known, listed
from ruddock.formats.tables.sources import HOW, TableSource, is_database

ALLOW = "to read it, say --allow-outside, in Python allow_outside=True"
Data = Mapping[str, Any] | str | Path


class Given:
    """What was given in place of a model's own tables.

    Parameters
    ----------
    named : dict of name to `TableSource`, or to labels and numbers themselves
    folder : Path, optional
        Its files take the place of files of the same name.
    closed : bool
        Whether nothing is read but the files of that folder, by their names: for models that others have sent.
    allow_outside : bool
        Whether a model may name files outside its folder, and databases.
    """

    def __init__(
        self,
        named: Mapping[str, Any] | None = None,
        folder: Path | None = None,
        *,
        closed: bool = False,
        allow_outside: bool = False,
    ) -> None:
        self.named, self.folder, self.closed = dict(named or {}), folder, closed
        self.allow_outside = allow_outside
        self.taken: list[str] = []  # files of the folder
        self.passed: list[str] = []  # files that it does not have

    @classmethod
    def of(cls, data: Data | None, *, allow_outside: bool = False) -> Given:
        """Return what was given as a folder, or as a dict of name to file, frame, labels or numbers.

        Raises
        ------
        FormatError, DataError
            If the folder is none, or a text does not say a table.
        """
        if data is None:
            return cls(allow_outside=allow_outside)
        if isinstance(data, (str, Path)):
            return cls(folder=_folder(data), allow_outside=allow_outside)
        if not isinstance(data, Mapping):
            raise DataError(
                f"data is a dict such as {{'need': 'storm.csv'}}, or a folder of tables, not a {type(data).__name__}"
            )
        named: dict[str, Any] = {}
        for name, value in data.items():
            if isinstance(value, Path):
                named[name] = TableSource(str(value))
            elif isinstance(value, str):
                source = TableSource.parse(value)
                if source is None:
                    raise DataError(f"{name}={value}: {HOW}")
                named[name] = source
            else:
                named[name] = value
        return cls(named, allow_outside=allow_outside)

    @classmethod
    def of_words(cls, words: Iterable[str]) -> Given:
        """Return what a command line gives: ``need=storm.csv column need``, or a folder."""
        named: dict[str, str] = {}
        folder: Path | None = None
        for word in words:
            name, sign, file = word.partition("=")
            if not sign:
                folder = _folder(word)
            elif not name.strip() or not file.strip():
                raise DataError(f"--data {word}: write NAME=FILE, such as need=storm.csv, or a folder of tables")
            else:
                named[name.strip()] = file.strip()
        return cls(cls.of(named).named, folder)

    @classmethod
    def sent(cls, folder: Path, data: Mapping[str, str]) -> Given:
        """Return what came with a model in a folder, and what of it stands in for the model's own tables.

        Raises
        ------
        FormatError, DataError
            If a text does not say a table, or its file did not come.
        """
        return cls(folder=folder, closed=True).and_also(data)

    def __bool__(self) -> bool:
        return bool(self.named) or (self.folder is not None and not self.closed)

    def and_also(self, named: Mapping[str, Any]) -> Given:
        """Return this with more tables by name."""
        more = Given.of(named).named
        if self.closed:
            more = {name: self.own(held) if isinstance(held, TableSource) else held for name, held in more.items()}
        return Given({**self.named, **more}, self.folder, closed=self.closed, allow_outside=self.allow_outside)

    def own(self, source: TableSource, root: Path | None = None) -> TableSource:
        """Return a model's table, from the folder if that has the file.

        Parameters
        ----------
        root : Path, optional
            The model's folder, below which the file must be if the model names it; None if the user does.

        Raises
        ------
        FormatError
            If the file is outside, or nothing but the folder may be read, and it does not have the file.
        """
        if self.closed:
            if is_database(source.file):
                raise FormatError(
                    "this service does not connect to databases: send the tables as files", path=source.shown
                )
            return source._replace(file=str(self.file(source.file, Path())))
        if self.folder is not None and not is_database(source.file):
            here = self.folder / Path(source.file).name
            if here.exists():
                self.taken.append(here.name)
                source, root = source._replace(file=str(here)), self.folder
            else:
                self.passed.append(Path(source.file).name)
        if root is not None and not self.allow_outside:
            refuse_outside(source.file, root)
        return source

    def file(self, name: str | Path, root: Path) -> Path:
        """Return where a file that a model names is read: where it says, or in the only folder that may be read.

        Raises
        ------
        FormatError
            If it is outside the model's folder, or nothing but the folder may be read, and it does not have the file.
        """
        if not self.closed or self.folder is None:
            if not self.allow_outside:
                refuse_outside(str(name), root)
            return Path(name)
        own = PureWindowsPath(name).name  # which takes either slash for one
        if own and (self.folder / own).is_file():
            return self.folder / own
        there = sorted(path.name for path in self.folder.iterdir())
        raise FormatError(f"the table {own or name} was not sent with the model; {known(own, there)}", path=own or None)

    def refused(self, names: Iterable[str]) -> RuddockError | None:
        """Return the error of a name that the model does not have, or of a folder without any of its tables."""
        names = list(names)
        for name in self.named:
            if name not in names:
                return DataError(f"--data {name}: the model has no data or axis of this name; {known(name, names)}")
        replaced = self.named and not self.passed  # every table stands by its name
        if self.folder is not None and not self.closed and not self.taken and not replaced:
            wanted = f"the model reads {listed(self.passed)}" if self.passed else "the model reads no tables"
            return FormatError(f"the folder has no table of the model: {wanted}", path=str(self.folder))
        return None


def refuse_outside(file: str, root: Path) -> None:
    """Refuse a file that a model names and that is not below the model's folder, links resolved, and a database.

    Raises
    ------
    FormatError
        If so: a model that others wrote should not read what they cannot.
    """
    if is_database(file):
        raise FormatError(f"the model names a database; {ALLOW}", path=TableSource(file).shown)
    try:
        below = Path(file).resolve().is_relative_to(root.resolve())
    except (OSError, ValueError, RuntimeError):  # links that lead to one another, or a name that cannot be one
        below = False
    if not below:
        raise FormatError(f"the model names this file, which is outside its folder {root}; {ALLOW}", path=file)


def _folder(path: str | Path) -> Path:
    folder = Path(path)
    if not folder.is_dir():
        raise FormatError(
            "not a folder: write NAME=FILE, such as need=storm.csv, or a folder of tables", path=str(path)
        )
    return folder
