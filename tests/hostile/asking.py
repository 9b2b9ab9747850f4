"""Every command, with arguments that fit a model and others that do not."""

from __future__ import annotations

import random
from pathlib import Path

from tests.hostile.mutations import TOKENS
from tests.hostile.seeds import Seed

NAMES = (
    "jars", "mead", "margin", "extraction", "ship", "need", "supply", "demand", "extra", "x", "y", "wax", "open", "HOURS", "MARGIN",
    "cost", "most", "room", "a", "b", "c", "z",
)  # fmt: skip
MEMBERS = (
    "need[Quay]",
    "supply[Fell]",
    "ship[Fell,Quay]",
    "extra.upper",
    "jars.upper",
    "demand*",
    "margin.jars",
    "x[Fell]",
    "most[Fell]",
)
COMMANDS = (
    "check", "algebra", "convert", "solve", "solve", "solve", "sensitivity", "diagnose", "what-if", "sweep", "reach", "appraise",
    "explain", "scenarios", "tradeoff", "region",
)  # fmt: skip


def arguments(seed: Seed, folder: Path, rng: random.Random) -> list[str]:
    """Return a command line about a seed's model, which reads the seed's damaged file."""
    command = rng.choice(COMMANDS)
    if seed.role == "values":
        command = rng.choice(("appraise", "solve"))
    elif seed.role == "scenarios":
        command = "scenarios"
    own = [command, str(folder / seed.model), *_positional(command, seed, folder, rng)]
    if seed.role == "values" and command == "solve":
        own += ["--start", str(folder / seed.damaged)]
    return own + _options(command, folder, rng)


def _positional(command: str, seed: Seed, folder: Path, rng: random.Random) -> list[str]:
    damaged = str(folder / seed.damaged)
    if command == "convert":
        return [str(folder / f"converted.{rng.choice(('rdk', 'json', 'mps', 'csv', 'xlsx', 'ods', 'txt'))}")]
    if command == "what-if":
        return [f"{_name(rng)}{rng.choice(('=', '+=', '=+', '*=', '.upper=', '.kind=', '='))}{_amount(rng)}"]
    if command == "sweep":
        return [_name(rng), _amount(rng), _amount(rng)]
    if command == "reach":
        return [_name(rng), "--objective", _amount(rng)]
    if command in ("appraise", "scenarios"):
        return [damaged if seed.role in ("values", "scenarios") else str(folder / "packing-week-values.csv")]
    if command == "explain":
        return [_name(rng)]
    return [_name(rng)] if command == "sensitivity" and rng.random() < 0.3 else []


def _name(rng: random.Random) -> str:
    kind = rng.random()
    return rng.choice(NAMES) if kind < 0.6 else rng.choice(MEMBERS) if kind < 0.9 else rng.choice(TOKENS)


def _amount(rng: random.Random) -> str:
    return rng.choice(("0", "1", "5", "-3", "100", "1e6", "1e300", "nan", "inf", "10%", "off", "x", "0.1"))


def _options(command: str, folder: Path, rng: random.Random) -> list[str]:
    if command in ("check", "algebra", "convert"):
        return []
    own: list[str] = []
    if rng.random() < 0.15:
        own += ["--json", rng.choice(("-", str(folder / "out.json")))]
    if rng.random() < 0.15:
        own += ["--report", str(folder / f"out.{rng.choice(('html', 'xlsx', 'md', 'json', 'txt'))}")]
    if rng.random() < 0.03:
        own += ["--figure", str(folder / f"out.{rng.choice(('svg', 'png', 'pdf'))}")]
    if rng.random() < 0.1:
        own += ["--all"]
    if rng.random() < 0.1:
        own += ["--method", rng.choice(("dual", "primal", "interior", "first-order"))]
    if rng.random() < 0.1:
        own += [rng.choice(("--no-presolve", "--certify" if command == "solve" else "--no-presolve"))]
    if command == "solve" and rng.random() < 0.1:
        own += rng.choice((["--alternatives", "3"], ["--nonzero"], ["--effort"], ["--family", _name(rng)]))
    if command == "scenarios" and rng.random() < 0.2:
        own += rng.choice((["--csv", str(folder / "out.csv")], ["--keep", str(folder / "kept.jsonl")]))
    return own
