"""The set-up of all tests: says which kernels are under test, and insists on the compiled ones."""

from __future__ import annotations

import os

import pytest

from ruddock.engine.kernels import COMPILED


def pytest_report_header(config: pytest.Config) -> str:
    return f"ruddock kernels: {'compiled' if COMPILED else 'interpreted'}"


def pytest_sessionstart(session: pytest.Session) -> None:
    if not COMPILED and not os.environ.get("RUDDOCK_INTERPRETED"):
        pytest.exit("the kernels are not compiled: install the package first, pip install .[test]", returncode=3)


os.environ["COLUMNS"] = "100"  # however wide the terminal of whoever runs the tests
