"""Slips that people bring from other notations: each is told once, at its place, with the remedy."""

from __future__ import annotations

from pathlib import Path

import pytest

import ruddock as rk

TEXT = """model T

axes
  p : A, B

decisions
  x[p], y >= 0
  z <= 40

maximize m (£)
  3 sum(x) + 2 y + z

require
  a : sum(x) + y <= 100
  b : y + z <= 60
"""


def error_of(text: str, tmp_path: Path) -> rk.FormatError:
    path = tmp_path / "t.rdk"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(rk.FormatError) as caught:
        rk.read(path).solve()
    return caught.value


@pytest.mark.parametrize(
    ("old", "new", "line", "remedy"),
    [
        ("require", "subject to", 13, "write require in place of 'subject to'"),
        ("require", "Such that:", 13, "write require in place of 'Such that'"),
        ("maximize m (£)", "Max m (£)", 10, "write maximize in place of 'Max'"),
        ("maximize", "Maximize", 10, "small letters: write maximize"),
        ("decisions", "variables", 6, "write decisions in place of 'variables'"),
        ("<= 60\n", "<= 60\nend\n", 16, "no closing word is needed"),
        ("<= 100", "<= 100;", 14, "a line needs no terminator"),
        ("<= 100", "<= 1,200", 14, "write 1200, without a comma"),
        ("<= 100", "<= 60,5", 14, "write 60.5: the decimal mark is a point"),
        ("<= 100", "<= 1 500", 14, "write 1500, without a blank"),
        ("<= 100", "<= 100 // note", 14, "comments begin with #"),
        ("<= 100", "<= 100 -- note", 14, "comments begin with #"),
        ("<= 100", "<= 100 ! note", 14, "comments begin with #"),
        ("2 y", "6 y²", 11, "not linear"),
        ("2 y", "6 y^2", 11, "not linear"),
        ("3 sum(x)", "x1..x20", 11, "under axes write i : 1 .. 20"),
        ("3 sum(x)", "x1 + x2, ..., x20", 11, "use an axis"),
        ("x[p], y >= 0", "x[p], y >= 0₁", 7, "plain digits"),
        ("A, B", "A B", 4, "write commas between labels (A, B)"),
        ("A, B", "“A”, B", 4, "write straight quotes"),
        ("<= 60", "<= 60 tons", 15, "if it is a unit, write it in parentheses"),
        ("<= 60", "<= 60 (tons)", 15, "if it is a unit, write it in parentheses"),
        ("  b :", '  "my limit" :', 15, "write my_limit"),
        ("  b :", "  my limit :", 15, "write my_limit"),
        ("  b :", "  q1, q2 integer\n  b :", 15, "it goes under the heading decisions"),
        ("  b : y + z <= 60", "  b : y\n\t   c : z <= 60", 16, "This line continues line 15"),
        ("<= 100", "< 100", 14, "write <="),
    ],
)
def test_a_slip_gets_its_remedy(old: str, new: str, line: int, remedy: str, tmp_path: Path) -> None:
    error = error_of(TEXT.replace(old, new, 1), tmp_path)
    assert remedy in str(error)
    assert error.line == line
    assert error.text is not None
    assert len(str(error).split("t.rdk, line")) <= 3, "what follows from a slip is not told as well"


def test_every_kind_is_told_once_and_the_rest_is_counted(tmp_path: Path) -> None:
    semicolons = "\n".join(f"{line};" if line.startswith("  ") else line for line in TEXT.splitlines())
    error = str(error_of(semicolons, tmp_path))
    assert error.count("needs no terminator") == 1
    assert "(5 more such places)" in error


def test_labels_and_quoted_text_are_not_slips(tmp_path: Path) -> None:
    text = TEXT.replace("A, B", '"A; // 1,200 x²", "B -- 60,5"')
    (tmp_path / "t.rdk").write_text(text, encoding="utf-8")
    assert rk.read(tmp_path / "t.rdk").solve().status == "optimal"
