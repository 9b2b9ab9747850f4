"""The parts of a search are put to the test on problems so small that a brief search would be the end of them."""

from __future__ import annotations

import pytest

from ruddock.engine.tree import brief


@pytest.fixture(autouse=True)
def no_brief_search(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    if request.module.__name__ != "tests.engine.test_brief":
        monkeypatch.setattr(brief, "MOST_ENTRIES", -1)
