"""What is sent: arrays on the wire, files and archives with bad intent, models that name what was not sent."""

from __future__ import annotations

import io
import random
import stat
import zipfile
from pathlib import Path

import numpy as np
import pytest

import ruddock as rk
from ruddock import demos
from ruddock.engine.in_order import Give, solve_in_order
from ruddock.engine.outcome import Limits, Options
from ruddock.errors import DataError, FormatError, RuddockError
from ruddock.formats import read_with
from ruddock.formats.tables.given import Given
from ruddock.jobs.parcel import packed
from ruddock.jobs.records import Request
from ruddock.jobs.settings import Settings
from ruddock.jobs.uploads import NotTakenError, completed, plain_name, received
from ruddock.jobs.wire import outcome_packed, outcome_unpacked, plan_of, problems_packed, problems_unpacked
from ruddock.modelling.lowering import lowered
from tests.jobs.running import crates

SETTINGS = Settings("sqlite://", job_bytes=10**6, unpacked_bytes=2 * 10**6, files=20)
GALLERY = ["packing-week", "spring-haulage", "storm-week", "two-objectives", "tariff", "season"]


# ---------------------------------------------------------------------- the wire


@pytest.mark.parametrize("name", GALLERY)
def test_a_plan_goes_over_the_wire_and_is_the_same(name: str) -> None:
    model = demos.build(name)
    problems = lowered(model.formulation()).problems
    gives = [Give(0.05, 2.0) if k else Give() for k in range(len(problems))]
    sent, same, options = problems_unpacked(problems_packed(problems, gives, Options("dual", presolve=False)))
    assert same == gives and (options.method, options.presolve) == ("dual", False)
    for one, two in zip(problems, sent, strict=True):
        for part in ("starts", "indices", "values", "row_lower", "row_upper", "lower", "upper", "costs", "kinds"):
            np.testing.assert_array_equal(getattr(one, part), getattr(two, part))
        assert one.offset == two.offset
    own = model.solve()
    outcome, stages = solve_in_order(sent, list(own.gives), Limits(), Options())
    content = outcome_packed(outcome, stages, own.gives, 0.5)
    plan = plan_of(model, content)
    of_time = ("effort", "history")
    first, second = ({k: v for k, v in held.as_dict().items() if k not in of_time} for held in (own, plan))
    assert first == second
    assert outcome_unpacked(content)[3] == 0.5


def test_mutated_arrays_are_refused_in_words() -> None:
    model, _ = crates(3)
    problems = lowered(model.formulation()).problems
    whole = problems_packed(problems, [Give()], Options(start=np.zeros(problems[0].n)))
    rng = random.Random(5)
    refused = 0
    for _ in range(400):
        content = bytearray(whole)
        for _ in range(rng.randrange(1, 6)):
            content[rng.randrange(len(content))] = rng.randrange(256)
        if rng.random() < 0.2:
            del content[rng.randrange(len(content)) :]
        try:
            problem = problems_unpacked(bytes(content), 10**7)[0][0]
        except (FormatError, DataError):
            refused += 1
            continue
        assert (problem.indices < problem.m).all() and (problem.indices >= 0).all()
        assert (np.diff(problem.starts) >= 0).all() and problem.starts[-1] == problem.nonzeros
    assert refused > 200


@pytest.mark.parametrize(
    ("part", "value"),
    [
        ("indices", np.array([0, 99], np.int32)),
        ("indices", np.array([0, -1], np.int32)),
        ("starts", np.array([0, 3, 2], np.int32)),
        ("values", np.array([1.0, np.nan])),
        ("costs", np.array([[1.0, np.inf]])),
        ("kinds", np.array([0, 9], np.uint8)),
        ("lower", np.array([np.inf, 0.0])),
        ("start", np.zeros(5)),
        ("basis_columns", np.array([0, 7], np.int8)),
        ("costs", np.array([{"a": 1}, 2], object)),
    ],
)
def test_arrays_that_would_reach_beyond_are_refused(part: str, value: np.ndarray) -> None:
    model = rk.Model("two")
    x = model.decide("x", rk.Axis("k", range(2)), upper=3)
    model.maximize("sum", x.sum())
    model.require("room", x.sum() <= 4)
    content = problems_packed(lowered(model.formulation()).problems, [Give()], Options())
    with np.load(io.BytesIO(content)) as held:
        arrays = dict(held) | {"basis_rows": np.zeros(1, np.int8)} | {part: value}
    buffer = io.BytesIO()
    np.savez(buffer, allow_pickle=True, **arrays)
    with pytest.raises((FormatError, DataError)):
        problems_unpacked(buffer.getvalue())


# ---------------------------------------------------------------------- files and archives


def archive(*entries: tuple[str, bytes], link: bool = False, packed: bool = True) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as held:
        for name, content in entries:
            entry = zipfile.ZipInfo(name)
            entry.compress_type = zipfile.ZIP_DEFLATED if packed else zipfile.ZIP_STORED
            entry.external_attr = ((stat.S_IFLNK if link else stat.S_IFREG) | 0o644) << 16
            held.writestr(entry, content)
    return buffer.getvalue()


def test_files_of_an_archive_are_known_by_their_names() -> None:
    inside = archive(("week/../../up/need.csv", b"1"), ("C:\\data\\stock.csv", b"2"), ("__MACOSX/x", b"3"), ("a/", b""))
    assert received([("/tmp/week.zip", inside), ("..\\m.rdk", b"4")], SETTINGS) == {
        "need.csv": b"1", "stock.csv": b"2", "m.rdk": b"4",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("code", "files"),
    [
        ("link", [("a.zip", archive(("passwd.csv", b"/etc/passwd"), link=True))]),
        ("too-large", [("a.zip", archive(("zeros.csv", bytes(50 * 10**6))))]),
        ("too-large", [(f"{k}.csv", bytes(10**6)) for k in range(3)]),
        ("too-many", [("a.zip", archive(*((f"{k}.csv", b"") for k in range(50))))]),
        ("too-many", [(f"{k}.csv", b"") for k in range(30)]),
        ("twice", [("a.csv", b""), ("x/a.csv", b"")]),
        ("twice", [("a.zip", archive(("x/a.csv", b""), ("y/a.csv", b"")))]),
        ("archive", [("a.zip", b"PK\x03\x04 cut off")]),
        ("archive", [("a.zip", archive(("a.csv", b"x" * 999))[:-40])]),
        ("archive", [("a.zip", archive(("a.csv", b"abc" * 99), packed=False).replace(b"abcabc", b"abdabc"))]),
        ("name", [("..", b"")]),
        ("name", [("a\nb.csv", b"")]),
        ("name", [("a\u202ecsv.exe", b"")]),
        ("name", [("x" * 300 + ".csv", b"")]),
        ("name", [('a"b.csv', b"")]),
    ],
)
def test_what_is_not_sound_is_refused_with_its_reason(code: str, files: list[tuple[str, bytes]]) -> None:
    with pytest.raises(NotTakenError) as told:
        received(files, SETTINGS)
    assert told.value.code == code


def test_mutated_archives_are_unpacked_or_refused() -> None:
    whole = archive(("m.rdk", b"maximize m\n  x\n" * 20), ("need.csv", b"a,b\n1,2\n" * 30))
    rng = random.Random(2)
    for _ in range(300):
        content = bytearray(whole)
        for _ in range(rng.randrange(1, 5)):
            content[rng.randrange(len(content))] = rng.randrange(256)
        try:
            files = received([("week.zip", bytes(content))], SETTINGS)
        except NotTakenError:
            continue
        assert all(plain_name(name) == name for name in files)


TEXT = b"axes\n  k : a, b\ndata\n  need[k] : from tables/need.csv column need # from other.csv\n"


@pytest.mark.parametrize(
    ("code", "files", "asked"),
    [
        ("missing", {"need.csv": b""}, {"model": "week.rdk"}),
        ("missing", {"m.rdk": TEXT}, {}),
        ("missing", {"m.rdk": b"include shared.rdk\n"}, {}),
        ("missing", {"m.rdk": TEXT, "need.csv": b""}, {"data": {"need": "storm.csv"}}),
        ("missing", {"m.rdk": b"", "t.csv": b""}, {"kind": "scenarios", "table": "s.csv"}),
        ("missing", {"notes.txt": b""}, {}),
        ("missing", {"m.rdk": b""}, {"kind": "arrays"}),
        ("form", {"notes.txt": b""}, {"model": "notes.txt"}),
        ("which", {"a.rdk": b"", "b.rdk": b""}, {}),
        ("database", {"m.rdk": b"data\n  a[k] : from postgresql://x/y table t\n"}, {}),
    ],
)
def test_what_did_not_come_is_named(code: str, files: dict[str, bytes], asked: dict[str, object]) -> None:
    with pytest.raises(NotTakenError) as told:
        completed(Request.of(asked), files)
    assert told.value.code == code


def test_the_model_is_found_among_its_tables() -> None:
    assert completed(Request(), {"m.rdk": TEXT, "need.csv": b""}).model == "m.rdk"
    assert completed(Request(data={"need": "storm.csv"}), {"m.rdk": TEXT, "storm.csv": b""}).model == "m.rdk"
    assert completed(Request(), {"grid.xlsx": b""}).model == "grid.xlsx"


@pytest.mark.parametrize(
    "asked",
    [
        {"kind": "print"}, {"time_limit": -1}, {"time_limit": float("nan")}, {"gap": 2}, {"cores": 3}, {"cores": True},
        {"presolve": 1}, {"reports": "html"}, {"reports": ["exe"]}, {"job_class": "first"}, {"data": {"a": 1}},
        {"method": "magic"}, {"kind": "scenarios"}, {"prio": 1}, {"model": None}, [], "x",
    ],
)  # fmt: skip
def test_a_request_that_says_anything_else_is_refused(asked: object) -> None:
    with pytest.raises(RuddockError):
        Request.of(asked)


# ---------------------------------------------------------------------- reading only what came


@pytest.mark.parametrize("line", ["need[k] : from {outside}", "need[k] : from sqlite:///{outside}"])
def test_a_model_reads_nothing_that_did_not_come(line: str, tmp_path: Path) -> None:
    outside = tmp_path / "secret.csv"
    outside.write_text("k,need\na,1\nb,2\n")
    inside = tmp_path / "job"
    inside.mkdir()
    for name, text in {
        "m.rdk": "axes\n  k : a, b\ndata\n  " + line.format(outside=outside),
        "i.rdk": f"include {outside}",
    }.items():
        (inside / name).write_text(text + "\nmaximize v\n  1\n")
        with pytest.raises(FormatError) as told:
            read_with(inside / name, Given.sent(inside, {}))
        assert "was not sent" in str(told.value) or "database" in str(told.value)
    with pytest.raises(FormatError, match="was not sent"):
        Given.sent(inside, {"need": str(outside)})
    (inside / "need.csv").write_text("k,need\na,1\nb,2\n")
    text = "axes\n  k : a, b\ndata\n  need[k] : from ../x/need.csv\ndecisions\n  x[k] <= 9\nminimize c\n  sum(x)\n"
    (inside / "m.rdk").write_text(text + "require\n  met[k] : x >= need\n")
    model = read_with(inside / "m.rdk", Given.sent(inside, {}))
    assert model.solve().objective == 3.0
    with pytest.raises(FormatError, match="was not sent"):
        model.what_if({"need": str(outside)})


def test_a_parcel_holds_the_model_and_its_tables_and_no_paths(tmp_path: Path) -> None:
    folder = tmp_path / "mine"
    [path] = [p for p in demos.copy("spring-haulage", folder) if p.suffix == ".rdk"]
    parcel = packed(path, Given(), {})
    assert set(parcel.files) == {"spring_haulage.rdk", "apiaries.csv", "lanes.csv", "markets.csv"}
    assert "/" not in str(parcel.request)
    replaced = packed(path, Given.of({"need": str(folder / "markets.csv") + " column need"}), {})
    assert replaced.request.data == {"need": "markets.csv column need"}
    # two tables of one name can only go with their numbers in the model
    (folder / "more").mkdir()
    (folder / "more" / "markets.csv").write_text((folder / "markets.csv").read_text())
    both = packed(path, Given.of({"need": str(folder / "more" / "markets.csv") + " column need"}), {})
    assert set(both.files) == {"spring_haulage.json"}
