"""The HTTP front without workers: its own description holds, and what it refuses it refuses in words."""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import schemathesis
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

import ruddock as rk
from ruddock.jobs.app import application
from ruddock.jobs.settings import Settings, sqlite_url
from ruddock.jobs.store import hashed

TEXT = "decisions\n  jars >= 0\nmaximize margin (£)\n  2 jars\nrequire\n  room : jars <= 4\n"
TOKEN = "a-token-of-the-bottling-line"


@pytest.fixture
def limits(tmp_path: Path) -> Settings:
    return Settings(sqlite_url(tmp_path / "jobs.db"), job_bytes=200_000, unpacked_bytes=400_000, files=8)


@pytest.fixture
def client(limits: Settings) -> Iterator[TestClient]:
    with TestClient(application(limits)) as held:
        yield held


def send(client: TestClient, files: dict[str, bytes | str] | None = None, headers: Any = None, **asked: Any) -> Any:
    sent = [("files", (name, content)) for name, content in (files or {"m.rdk": TEXT}).items()]
    return client.post("/api/jobs", files=sent, data={"request": json.dumps(asked)}, headers=headers)


def test_the_front_does_what_its_description_says(limits: Settings) -> None:
    schema = schemathesis.openapi.from_asgi("/openapi.json", application(limits))
    checks = [not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]
    seen: dict[str, set[int]] = {}
    for operation in (found.ok() for found in schema.get_all_operations()):

        @settings(
            max_examples=40, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True, database=None
        )
        @given(case=operation.as_strategy())
        def holds(case: Any) -> None:
            response = case.call_and_validate(checks=checks)
            seen.setdefault(case.operation.label, set()).add(response.status_code)
            if response.status_code >= 400:
                told = response.json()
                assert set(told) == {"code", "reason"}
                assert told["reason"]

        holds()
    assert set(seen) == {f"{m.upper()} {path}" for path, held in schema.raw_schema["paths"].items() for m in held}
    assert all(status < 500 for statuses in seen.values() for status in statuses), seen


def test_a_job_is_taken_asked_for_and_cancelled(client: TestClient) -> None:
    first, second = send(client).json(), send(client, job_class="long", time_limit=4000).json()
    assert (first["place"], second["place"]) == (1, 2)
    place, key = f"/api/jobs/{first['number']}", {"Job-Key": first["key"]}
    held = client.get(place, headers=key).json()
    assert held["state"] == "waiting"
    jsonschema.validate(held, rk.schema("job"))
    assert client.get(place + "/sent/m.rdk", headers=key).text == TEXT
    assert client.post(place + "/stop", headers=key).json()["state"] == "cancelled"
    assert [m["words"] for m in client.get(place + "/log", headers=key).json()] == ["accepted", "cancelled"]
    assert client.get(place + "/files/report.html", headers=key).status_code == 404


@pytest.mark.parametrize(
    ("status", "code", "files", "asked"),
    [
        (422, "missing", {"m.rdk": "data\n  a[k] : from need.csv\n"}, {}),
        (422, "form", {"m.txt": ""}, {"model": "m.txt"}),
        (422, "time-limit", None, {"time_limit": 301}),
        (422, "time-limit", None, {"time_limit": 30_000, "job_class": "long"}),
        (422, "request", None, {"gap": "much"}),
        (422, "request", None, {"importance": 1}),
        (413, "too-large", {"m.rdk": "#" * 300_000}, {}),
        (413, "too-many", {f"{k}.csv": "" for k in range(9)}, {}),
        (422, "name", {"..": ""}, {}),
    ],
)
def test_a_refusal_names_its_reason(client: TestClient, status: int, code: str, files: Any, asked: Any) -> None:
    told = send(client, files, **asked)
    assert (told.status_code, told.json()["code"]) == (status, code)
    assert client.app.state.front.store.open_jobs("")[0] == 0  # type: ignore[attr-defined]


def test_more_than_may_come_is_refused_whatever_it_says_of_its_length(client: TestClient) -> None:
    def endless() -> Iterator[bytes]:
        yield b'--x\r\nContent-Disposition: form-data; name="files"; filename="m.rdk"\r\n\r\n'
        for _ in range(100):
            yield b"#" * 10_000

    form = {"Content-Type": "multipart/form-data; boundary=x"}
    told = client.post("/api/jobs", content=endless(), headers=form)
    assert (told.status_code, told.json()["code"]) == (413, "too-large")
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("zeros.csv", bytes(10**7))
    assert send(client, {"a.zip": packed.getvalue()}).json()["code"] == "too-large"


@pytest.mark.parametrize("content", [b"{", b"[" * 10_000, b"\xff\xfe", b"null", b"[]", b'"x"', b'{"gap": NaN}'])
def test_a_request_that_is_none_is_refused(client: TestClient, content: bytes) -> None:
    files = [("files", ("m.rdk", TEXT)), ("request", (None, content))]
    assert client.post("/api/jobs", files=files).status_code in (400, 422)


def test_nobody_reads_a_job_without_its_key(client: TestClient) -> None:
    number = send(client).json()["number"]
    other = send(client).json()["key"]
    for path in ("", "/log", "/files/solve.json", "/sent/m.rdk"):
        place = f"/api/jobs/{number}{path}"
        told = [client.get(place, headers={"Job-Key": key}) for key in (other, "x", "")]
        told.append(client.get(f"/api/jobs/999{path}", headers={"Job-Key": other}))
        assert {t.status_code for t in told} == {403}
        assert client.get(place).status_code == 422
        assert client.get(f"/jobs/{number}").status_code == 403
    assert client.post(f"/api/jobs/{number}/stop", headers={"Job-Key": other}).status_code == 403


def test_a_closed_service_lets_in_who_has_a_token(limits: Settings) -> None:
    closed = replace(limits, tokens=frozenset([hashed("another-token-here"), hashed(TOKEN)]))
    with TestClient(application(closed)) as client:
        for headers in (None, {"Authorization": "Bearer wrong"}, {"Authorization": f"Basic {TOKEN}"}):
            assert send(client, headers=headers).json()["code"] == "token"
        assert send(client, headers={"Authorization": f"Bearer {TOKEN}"}).status_code == 201
        assert client.get("/api/limits").json()["closed"] is True
        assert client.get("/").status_code == 401
        assert "token" in client.get("/").text
        assert client.post("/token", data={"token": TOKEN}, follow_redirects=False).status_code == 303
        assert client.get("/").status_code == 200
        assert TOKEN not in json.dumps(client.get("/").text)


def test_one_client_cannot_take_the_whole_line(limits: Settings) -> None:
    few = replace(limits, each_client=2, waiting=3, tokens=frozenset([hashed("first-token-of-all"), hashed(TOKEN)]))
    first, second = ({"Authorization": f"Bearer {token}"} for token in ("first-token-of-all", TOKEN))
    with TestClient(application(few)) as client:
        told = [send(client, headers=headers) for headers in (first, first, first, second, second)]
        assert [t.status_code for t in told] == [201, 201, 429, 201, 429]
        assert "of your" in told[2].json()["reason"] and "of your" not in told[4].json()["reason"]


def test_one_client_cannot_send_too_often(limits: Settings) -> None:
    with TestClient(application(replace(limits, sends="3/minute"))) as client:
        told = [send(client) for _ in range(4)]
        assert [t.status_code for t in told] == [201, 201, 201, 429]
        assert int(told[3].headers["retry-after"]) <= 60


# ---------------------------------------------------------------------- pages


def test_a_page_takes_a_model_and_remembers_its_key(client: TestClient) -> None:
    told = client.post("/send", data={"text": TEXT, "time_limit": "20", "gap": "1"}, follow_redirects=False)
    assert told.status_code == 303
    assert re.fullmatch(r"/jobs/\d+", told.headers["location"])
    assert "HttpOnly" in told.headers["set-cookie"] and "SameSite=strict" in told.headers["set-cookie"]
    page = client.get(told.headers["location"]).text
    assert "waiting" in page and "Place in line" in page
    assert "model.rdk" in client.get("/").text
    client.post(told.headers["location"] + "/stop")
    assert "Cancelled" in client.get(told.headers["location"]).text


def test_a_job_sent_elsewhere_is_opened_by_number_and_key(client: TestClient) -> None:
    job = send(client).json()
    assert client.get(f"/jobs/{job['number']}").status_code == 403
    assert client.post("/open", data={"number": job["number"], "key": "wrong"}).status_code == 403
    assert client.post("/open", data={"number": "x", "key": "y"}).status_code == 422
    assert client.post("/open", data={"number": job["number"], "key": job["key"]}).status_code == 200


@pytest.mark.parametrize("headers", [{"Origin": "http://elsewhere.example"}, {"Sec-Fetch-Site": "cross-site"}])
@pytest.mark.parametrize("path", ["/send", "/open", "/token", "/jobs/1/stop"])
def test_another_site_does_nothing_in_a_persons_name(client: TestClient, path: str, headers: dict[str, str]) -> None:
    assert client.post(path, data={"text": TEXT}, headers=headers).status_code == 403


def test_every_page_says_what_it_may_load_and_shows_names_as_text(client: TestClient) -> None:
    name = "<script>alert(1)</script>.rdk"
    assert send(client, {name: TEXT}).json()["code"] == "name"
    told = client.post("/send", data={"text": "x", "kind": "<b>bold</b>"})
    assert "<b>bold" not in told.text and "&lt;b&gt;" in told.text
    for path in ("/", "/jobs/1", "/style.css", "/jobs.js", "/nothing", "/api/limits"):
        headers = client.get(path).headers
        assert headers["content-security-policy"].startswith("default-src 'none'")
        assert headers["x-content-type-options"] == "nosniff"
        assert "inline" not in headers["content-security-policy"]
    assert client.get("/nothing").status_code == 404
    assert client.get("/docs").status_code == 404
