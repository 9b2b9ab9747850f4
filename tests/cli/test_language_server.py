"""The language server, driven over stdio as an editor drives it; the grammar of colours knows the words of the text form."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from ruddock.formats.rdk.heads import RESERVED
from ruddock.formats.rdk.source import HEADINGS

TEXT = 'axes\n  apiary : Fell, "Long Meadow"\ndata\n  need[apiary] (crate) : Fell 3, "Long Meadow" 4\ndecisions\n  x[apiary] (crate) integer\nminimize m (crate)\n  sum(x)\nrequire\n  met[apiary] : x >= need\n'


class Editor:
    """Speaks the protocol to the server."""

    def __init__(self) -> None:
        command = [sys.executable, "-m", "ruddock.cli.language_server"]
        self.process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )
        self.number = 0

    def send(self, method: str, params: Any, *, asks: bool = True) -> Any:
        self.number += 1
        message = {"jsonrpc": "2.0", "method": method, "params": params} | ({"id": self.number} if asks else {})
        content = json.dumps(message).encode()
        assert self.process.stdin is not None
        self.process.stdin.write(b"Content-Length: %d\r\n\r\n" % len(content) + content)
        self.process.stdin.flush()
        return self.until(lambda held: held.get("id") == self.number)["result"] if asks else None

    def until(self, wanted: Any) -> Any:
        assert self.process.stdout is not None
        while True:
            size = 0
            while line := self.process.stdout.readline().strip():
                if line.lower().startswith(b"content-length"):
                    size = int(line.split(b":")[1])
            held = json.loads(self.process.stdout.read(size))
            if wanted(held):
                return held

    def problems(self) -> list[dict[str, Any]]:
        return self.until(lambda held: held.get("method") == "textDocument/publishDiagnostics")["params"]["diagnostics"]


@pytest.fixture
def editor() -> Iterator[Editor]:
    held = Editor()
    held.send("initialize", {"processId": None, "rootUri": None, "capabilities": {}})
    held.send("initialized", {}, asks=False)
    yield held
    held.process.kill()
    held.process.communicate()


def test_errors_hover_and_completion(editor: Editor, tmp_path: Path) -> None:
    uri = (tmp_path / "m.rdk").as_uri()
    document = {"uri": uri, "languageId": "rdk", "version": 1, "text": TEXT.replace("x >= need", "x >= nead + y")}
    editor.send("textDocument/didOpen", {"textDocument": document}, asks=False)
    (problem,) = editor.problems()
    assert problem["range"]["start"] == {"line": 9, "character": 21} and problem["severity"] == 1
    assert problem["message"] == "'nead' is neither data nor a decision; did you mean 'need'?"
    change = {"textDocument": {"uri": uri, "version": 2}, "contentChanges": [{"text": TEXT}]}
    editor.send("textDocument/didChange", change, asks=False)
    assert editor.problems() == []

    def hover(line: int, character: int) -> str:
        where = {"textDocument": {"uri": uri}, "position": {"line": line, "character": character}}
        return editor.send("textDocument/hover", where)["contents"]["value"]

    assert hover(9, 16) == "x[apiary]: 2 decisions, integer (crate)"
    assert hover(9, 3) == "met[apiary]: 2 constraints"
    assert hover(1, 4) == "axis apiary: 2 labels"
    where = {"textDocument": {"uri": uri}, "position": {"line": 9, "character": 20}}
    offered = {item["label"]: item for item in editor.send("textDocument/completion", where)["items"]}
    assert {"x", "need", "met", "Fell", '"Long Meadow"', "require", "where"} <= offered.keys()
    assert offered["Fell"]["detail"] == "label of apiary"
    findings = TEXT.replace("x >= need", "x <= need").replace("minimize", "maximize")
    change["contentChanges"] = [{"text": findings.replace("x <= need", "2 x <= 3")}]
    editor.send("textDocument/didChange", change, asks=False)
    editor.problems()
    assert editor.send("shutdown", None) is None


def test_the_grammar_knows_the_words_of_the_text_form() -> None:
    grammar = json.loads((files("ruddock.cli") / "ruddock.tmLanguage.json").read_text(encoding="utf-8"))
    patterns = [re.compile(part[key]) for part in grammar["patterns"] for key in ("match", "begin") if key in part]
    words = " ".join(pattern.pattern for pattern in patterns)
    assert all(re.search(rf"\b{word}\b", words) for word in {*HEADINGS, *RESERVED} - {"model"})
    assert re.compile(grammar["patterns"][2]["match"]).match("require")
