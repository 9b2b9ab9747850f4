"""Results of scenarios, kept in a file as they come, so that a run that was stopped goes on where it was."""

from __future__ import annotations

import json
import os
from dataclasses import asdict, dataclass, field, fields
from pathlib import Path
from typing import IO, Any, Self
from weakref import WeakSet

from ruddock.document.result import finite
from ruddock.errors import FormatError
from ruddock.files import check_regular, locked, unpacked
from ruddock.insight.scenario_table import Scenario

FORMAT = "ruddock-scenario-results/1"


@dataclass(frozen=True)
class ScenarioResult:
    """What one scenario came to.

    Attributes
    ----------
    status : as of a plan, or ``error`` where the scenario could not be made or solved
    objective, bound : of the first objective, as written; None where there is none
    objectives, parts, quantities : by name; parts are those of the first objective
    values : of the decisions in their order
    binding : names of the constraints that bind
    note : what is to be said of it: why there is no plan, the gap that is left, the error
    """

    scenario: str
    status: str
    reason: str | None = None
    objective: float | None = None
    bound: float | None = None
    parts: dict[str, float] = field(default_factory=dict)
    quantities: dict[str, float] = field(default_factory=dict)
    objectives: dict[str, float] = field(default_factory=dict)
    values: list[float] = field(default_factory=list)
    binding: list[str] = field(default_factory=list)
    note: str = ""
    seconds: float = 0.0

    @property
    def found(self) -> bool:
        """Whether there is a plan."""
        return bool(self.values) or (self.status == "optimal")

    def as_dict(self, decisions: dict[str, float]) -> dict[str, Any]:
        """Return plain data for JSON, the decisions by name."""
        plain = {**asdict(self), "decisions": decisions}
        del plain["values"]
        plain["bound"] = finite(self.bound)
        return plain


class Store:
    """A file of results: a heading that names the model, then a line of JSON for each result.

    A line that was cut off when a run was killed is left out, and written anew. The file is locked while a run writes
    to it, so that two runs never lose each other's results.

    Raises
    ------
    FormatError
        If the file is of another model, is not a file of results, or another run is writing to it.
    """

    def __init__(self, path: Path | None, fingerprint: str) -> None:
        self.path, self.fingerprint = path, fingerprint
        self._known: dict[tuple[str, tuple[str, ...]], ScenarioResult] = {}
        self._file: IO[str] | None = None
        self._whole = 0  # bytes of the file that hold whole lines

    def _read(self, path: Path) -> None:
        content = unpacked(path)
        self._whole = content.rfind(b"\n") + 1
        lines = content[: self._whole].decode("utf-8", errors="replace").splitlines()
        for number, line in enumerate(lines, 1):
            try:
                entry = json.loads(line)
                if number == 1:
                    self._check(entry, path)
                    continue
                changes = tuple(entry.pop("changes"))
                result = ScenarioResult(**{f.name: entry[f.name] for f in fields(ScenarioResult)})
            except (ValueError, KeyError, TypeError, AttributeError):
                raise FormatError(
                    "this is not a file of scenario results; name another one to keep them in",
                    path=str(path),
                    line=number,
                ) from None
            self._known[result.scenario, changes] = result

    def _check(self, heading: dict[str, Any], path: Path) -> None:
        if heading["format"] != FORMAT:
            raise ValueError
        if heading["model"] != self.fingerprint:
            raise FormatError(
                "these results are of another model, or of this one before it was changed; name another file to keep "
                "results in, or delete this one",
                path=str(path),
            )

    def result(self, scenario: Scenario) -> ScenarioResult | None:
        """Return the result kept for a scenario with the same name and changes."""
        return self._known.get((scenario.name, tuple(scenario.words)))

    def __enter__(self) -> Self:
        if self.path is not None:
            if self.path.exists():
                check_regular(self.path)
            try:
                self._file = open(self.path, "a+", encoding="utf-8")
            except OSError as error:
                raise FormatError(f"cannot be written: {error.strerror}", path=str(self.path)) from None
            _open_files.add(self._file)
            try:
                if not locked(self._file):
                    raise FormatError(
                        "another run is writing to this file; wait for it, or name another file", path=str(self.path)
                    )
                self._read(self.path)
                self._file.truncate(self._whole)
                if not self._whole:
                    self._write({"format": FORMAT, "model": self.fingerprint})
            except BaseException:
                self.__exit__()
                raise
        return self

    def __exit__(self, *error: object) -> None:
        if self._file is not None:
            _open_files.discard(self._file)
            self._file.close()
            self._file = None

    def append(self, scenario: Scenario, result: ScenarioResult) -> None:
        """Keep a result, at once."""
        if self._file is not None:
            self._write({"changes": scenario.words, **asdict(result)})

    def _write(self, entry: dict[str, Any]) -> None:
        assert self._file is not None
        self._file.write(json.dumps(entry, ensure_ascii=False) + "\n")
        self._file.flush()


_open_files: WeakSet[IO[str]] = WeakSet()


def _let_go() -> None:
    """Give up the files in a worker process: else it would hold their locks on after a run that was killed."""
    nothing = os.open(os.devnull, os.O_WRONLY)
    for file in _open_files:
        os.dup2(nothing, file.fileno(), inheritable=False)
    os.close(nothing)


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_let_go)
