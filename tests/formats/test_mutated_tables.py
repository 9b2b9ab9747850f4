"""What people's files may have gone through: see `mutated_tables`."""

from __future__ import annotations

import ruddock as rk
from tests.formats.mutated_tables import attempts


def test_mutated_tables_and_grids_are_read_or_refused() -> None:
    models = 0
    for _, work in attempts(3, 400):
        try:
            work().problem()
            models += 1
        except rk.RuddockError:
            pass
    assert 20 < models < 380
