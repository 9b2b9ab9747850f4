"""Names, labels, titles and units made to act: on a terminal, in HTML, Markdown, templates, spreadsheets, figures."""

from __future__ import annotations

import ruddock as rk

LABELS = (
    "\x1b[2J\x1b[31mred", "title\x1b]0;owned\x07", "back\x08\x08\x08", "c1\x9b2J", "turn\u202egnp.exe", "\u2066iso\u2069", "two\nlines",
    "tab\tbed", "car\rriage", "nul\0l", "line\u2028sep", "=1+1", "+1", "-2+3", "@SUM(1)", '=HYPERLINK("http://x","y")',
    "<script>alert(1)</script>", "<img src=x onerror=alert(1)>", "</title><b>bold</b>", "&#x202e;entity", "{{ 7*7 }}", "{% raw %}",
    "[bold]rich[/bold]", "**strong** _em_ `code`", "[link](http://evil.example)", "http://evil.example/a_b", "| a | b |", "# head",
    "- item", "1. item", "~~gone~~", "$x^{2}$", "$\\frac{1}$", "100% \\ %s {0}", "' OR 1=1 --", "",
)  # fmt: skip
UNITS = ("k\x1b[1mg", "=1+1", "<b>kg</b>", "$x$")


def acting(*, infeasible: bool = False) -> rk.Model:
    """Return a model all of whose names, labels, units and titles would like to act."""
    site = rk.Axis("site", [label for label in LABELS if label])
    week = rk.Axis("week", ["\x1b[5mMon", "=1+1", "<b>Tue</b>"])
    model = rk.Model("T\x1b]0;owned\x07 <script>alert(1)</script> =1+1 \u202eevil")
    ship = model.decide("ship", site, week, upper=5, unit=UNITS[0])
    use = model.decide("use", site, kind="binary", unit=UNITS[1])
    pick = model.decide("pick", kind="integer", upper=7, unit=UNITS[3])
    need = 3.0 if not infeasible else 30.0
    model.require("need", ship.sum(site) >= need, unit=UNITS[2])
    model.require("link", ship.sum(week) <= 4 * use, unit=UNITS[0])
    model.quantity("sent", ship.sum(week), unit=UNITS[0])
    rent = rk.data([1.0 + k / 64 for k in range(len(site))], site)  # all apart: the names are what is tried here
    model.minimize("cost", parts={"rent": (rent * use).sum(), "haul": 0.1 * ship.sum() + pick}, unit=UNITS[1])
    return model
