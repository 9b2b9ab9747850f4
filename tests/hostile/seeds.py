"""Files of every form that a command reads, small and whole, for `mutations` to damage."""

from __future__ import annotations

import shutil
import warnings
from pathlib import Path
from typing import NamedTuple

import pandas as pd

import ruddock as rk
from ruddock import demos
from tests.formats.awkward_files import FILES
from tests.formats.test_grids import FORMS, formatted
from tests.formats.test_mps import FIXED, small
from tests.formats.test_tables import DATA, MODEL
from tests.small_models import NASTY, case

ENDINGS = ("rdk", "json", "mps", "mps.gz", "csv", "xlsx", "ods")
DEMOS = ("packing-week", "spring-haulage", "blending", "two-products", "two-objectives", "storm-week")


class Seed(NamedTuple):
    """A file that is damaged, and the model that a command is then asked about.

    Attributes
    ----------
    damaged : path within the folder, which may be the model itself
    role : what the file is to a command: ``model``, ``table``, ``values`` or ``scenarios``
    """

    model: str
    damaged: str
    role: str
    content: bytes


def seeds(folder: Path) -> list[Seed]:
    """Write whole files into a folder, and return those to be damaged."""
    warnings.simplefilter("ignore", rk.RuddockWarning)
    found = [*_models(folder), *_tables(folder), *_values(folder)]
    return [Seed(model, damaged, role, (folder / damaged).read_bytes()) for model, damaged, role in found]


def _models(folder: Path) -> list[tuple[str, str, str]]:
    found = []
    built: dict[str, rk.Model] = {name: demos.build(name) for name in DEMOS}
    for number in range(10):
        one = case(number)
        one.labels = NASTY if number % 2 else one.labels
        built[f"case-{number}"] = one.build()
    for name, model in built.items():
        for ending in ENDINGS:
            file = f"{name}.{ending}"
            try:
                model.write(folder / file)
            except rk.RuddockError:
                continue  # a form that does not hold such a model
            found.append((file, file, "model"))
    texts = {"fixed.mps": FIXED, "small.mps": small(" UP B x 4\n BV B z\n", " R a 3\n"), "nocolumns.mps": small()}
    texts |= {f"grid-{k}.csv": text for k, (text, _) in enumerate(FORMS.values())}
    for file, text in texts.items():
        (folder / file).write_text(text)
        found.append((file, file, "model"))
    formatted(folder / "formatted.xlsx")
    return [*found, ("formatted.xlsx", "formatted.xlsx", "model")]


def _tables(folder: Path) -> list[tuple[str, str, str]]:
    """A model for each awkward table, and the demos with their own."""
    found = []
    for number, one in enumerate(FILES):
        one.make(folder / one.name)
        head, name = DATA[one.data]
        axes = head.partition("[")[2][:-1]
        where = f"{axes}] where {name} >= 0" if one.data == "haul" else f"{axes}]"
        text = MODEL.replace("x[{axes}]", "x[{axes_of}").replace("most[{axes}]", "most[{axes_of}")
        file = f"table-{number}.rdk"
        (folder / file).write_text(
            text.format(head=head, file=f"{one.name}{one.rest}", axes=axes, axes_of=where, name=name)
        )
        found.append((file, one.name, "table"))
    for name in DEMOS:
        source = demos.folder(name)
        target = folder / f"demo-{name}"
        shutil.copytree(source, target, ignore=shutil.ignore_patterns("__pycache__", "*.py"))
        (model,) = target.glob("*.rdk")
        tables = target.glob("*.csv")
        found += [(f"demo-{name}/{model.name}", f"demo-{name}/{table.name}", "table") for table in tables]
    return found


def _values(folder: Path) -> list[tuple[str, str, str]]:
    """Plans by hand, and tables of scenarios, of two demos."""
    found = []
    for name in ("packing-week", "spring-haulage"):
        plan = demos.build(name).solve()
        values = plan.decisions()[["value"]].rename_axis("decision").reset_index()
        rows = {
            "packing-week": {"scenario": ["dry", "wet", "many"], "wax": [90, 110, None], "jars.upper": [600, 50, 0]},
            "spring-haulage": {"scenario": ["a", "b", "c"], "need[Quay]": [20, "+3", None], "supply[Fell]": [1, 99, 0]},
        }[name]
        model = f"demo-{name}/{next((folder / f'demo-{name}').glob('*.rdk')).name}"
        for role, frame in (("values", values), ("scenarios", pd.DataFrame(rows))):
            for ending in ("csv", "xlsx"):
                file = f"{name}-{role}.{ending}"
                frame.to_csv(folder / file, index=False) if ending == "csv" else frame.to_excel(
                    folder / file, index=False
                )
                found.append((model, file, role))
    return found
