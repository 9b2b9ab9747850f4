"""Examples, README and documentation run as written, and their links lead somewhere."""

from __future__ import annotations

import contextlib
import doctest
import importlib
import io
import json
import pkgutil
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest
from click.testing import CliRunner

import ruddock
from ruddock.cli import main
from ruddock.formats.schemas import SCHEMAS

ROOT = Path(__file__).parent.parent
PAGES = sorted([ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.md")])
EXPECTED = {
    "packing_week": ("Margin £6,431.76", "One more hour of extraction earns £8.06."),
    "spring_haulage": ("Cost £429.25", "rises from £429.25 to £469.00"),
    "blending": ("Margin £3,208.00", "Table        18.6            18.6"),
    "storm_week": ("demand[Bridge]", "Solved again with these limits"),
    "projects": ("Worth £181.00k",),
    "tariff": ("Cost £24.96",),
    "vans": ("Vans 4 is the smallest",),
    "crews": ("Work 25 hours",),
    "stock": ("Cost £17,418.00",),
    "shares": ("Crop 8,291.25 kg", "heather       35.0%"),
    "product_mix": ("Margin £13,652.47", "overtime[bottling]"),
    "collecting": ("Cost £978.95",),
    "make_or_buy": ("Spent with each supplier", "Quay Metals"),
    "season": ("minimize cost: £78,225.64", "47    "),
    "two_products": ("Margin £521.42",),
    "two_objectives": ("from £392.00 with co2 670 kg",),
}


@pytest.mark.parametrize("name", EXPECTED)
def test_examples_run_and_tell(name: str, tmp_path: Path) -> None:
    script = ROOT / "examples" / name / f"{name}.py"
    done = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, check=True, cwd=tmp_path)
    assert all(part in done.stdout for part in EXPECTED[name])


def test_every_example_is_expected_here() -> None:
    assert {path.stem for path in (ROOT / "examples").glob("*/*.py")} == set(EXPECTED)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_code_and_commands_run_and_print_what_is_shown(
    page: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Python blocks print what follows them under the title printed; commands run as written, on files of the page."""
    monkeypatch.chdir(tmp_path)
    text = page.read_text(encoding="utf-8")
    names: dict[str, object] = {}
    fences = re.findall(r"^```(.*)$", text, flags=re.M)
    assert all(fences[0::2]), "every block that is opened says what it holds, and is closed"
    assert not any(fences[1::2])
    for name, held in re.findall(r'```text title="(\S+\.\w+)"\n(.*?)```', text, flags=re.S):
        (tmp_path / name).write_text(held, encoding="utf-8")  # files that the page speaks of
    for block, shown in re.findall(r'```python\n(.*?)```(?:\n\n```text title="printed"\n(.*?)```)?', text, flags=re.S):
        with contextlib.redirect_stdout(io.StringIO()) as out:
            exec(compile(block, page.name, "exec"), names)
        assert not shown or out.getvalue().rstrip() == shown.rstrip()
    for line in re.findall(r"^ruddock .*$", "\n".join(re.findall(r"```sh\n(.*?)```", text, flags=re.S)), flags=re.M):
        result = CliRunner().invoke(main, shlex.split(line, comments=True)[1:])
        assert result.exit_code in (0, 1), f"{line}: {result.output}"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8")):
        if "://" not in target:
            assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_screenshots_are_all_shown() -> None:
    shown = "".join(page.read_text(encoding="utf-8") for page in PAGES)
    assert all(path.name in shown for path in (ROOT / "docs" / "screenshots").glob("*.png"))


def test_docstring_examples_hold() -> None:
    tried = 0
    for module in pkgutil.walk_packages(ruddock.__path__, "ruddock."):
        if "." + "simplex." in module.name:
            continue
        result = doctest.testmod(importlib.import_module(module.name))
        assert result.failed == 0, module.name
        tried += result.attempted
    assert tried >= 10


def test_the_schemas_in_the_documentation_are_those_in_force() -> None:
    pages = {path.stem: json.loads(path.read_text()) for path in (ROOT / "docs/schemas").glob("*.json")}
    assert pages == SCHEMAS
