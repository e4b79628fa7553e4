"""Reports by the built program: pages that a browser opens, figures, Markdown, and wrong words."""

from __future__ import annotations

import json
import re
import xml.etree.ElementTree as ElementTree
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.browser import Browser
from tests.cli.home import readings
from tests.conftest import Splarn

# A name that a page must not take for anything else.
TABLE = 'read<b>&"ings'
JOB = f"""\
prices = "prices.toml"
[source]
paths = ["in/*.csv"]
layout = "layout.json"
[target]
url = "sqlite:///t.db"
table = '{TABLE}'
bad_rows = "set-aside"
[space]
part_size = ["4KiB", "16KiB"]
codec = ["none", "zstd:1"]
workers = [1]
load_streams = [1, 2]
batch_rows = [0, 200]
[sweep]
sample = "16KiB"
repeats = 1
strategy = "star"
[limits]
deadline = "20s"
budget = 0.5
"""
PRICES = 'currency = "crowns"\nmachine_per_hour = 1\n[tiers.u1]\nper_hour = 10\n'


@pytest.fixture
def browser() -> Iterator[Browser]:
    one = Browser()
    yield one
    one.close()


@pytest.fixture
def planned(splarn: Splarn, home: Path) -> Path:
    (home / "splarn.toml").write_text(JOB)
    (home / "prices.toml").write_text(PRICES)
    readings(home / "in" / "c.csv", 5000, 9000)
    for words in (("sweep",), ("plan",), ("run", "plan.json")):
        ran = splarn(*words)
        assert ran.code == 0, ran.err
    return home


def test_a_plan_is_told_as_a_page_that_needs_nothing_else(
    splarn: Splarn, planned: Path, browser: Browser
) -> None:
    told = splarn("report", "--figures", "figures", "--json")
    assert told.code == 0, told.err
    names = {Path(one).name for one in told.json["files"]}
    drawn = {"frontier", "phases", "streams", "parts", "codecs", "history"}
    assert {f"{name}{form}" for name in drawn for form in (".png", ".svg")} <= names
    assert all((planned / one).stat().st_size > 500 for one in told.json["files"])
    text = (planned / "report.html").read_text()
    assert not re.search(r"(?:src|href)=['\"]https?:|@import|url\((?!#)", text)
    assert "<b>" not in text
    assert "read&lt;b&gt;&amp;&#34;ings" in text
    plan = json.loads((planned / "plan.json").read_text())
    for width in (1280, 400):
        for scheme in ("light", "dark"):
            browser.open(planned / "report.html", width, scheme=scheme)
            assert browser.run("document.documentElement.scrollWidth") <= width
            paper = browser.run("getComputedStyle(document.documentElement).backgroundColor")
            bright = sum(map(int, re.findall(r"\d+", paper)[:3])) > 380
            assert bright == (scheme == "light")
            # Figures have the page's own colours.
            ink = browser.run("getComputedStyle(document.querySelector('figure svg text')).fill")
            assert (sum(map(int, re.findall(r"\d+", ink)[:3])) > 400) == (scheme == "dark")
    assert browser.run("document.querySelectorAll('svg[role=img][aria-label]').length") >= 6
    ids = browser.run("[...document.querySelectorAll('[id]')].map(one => one.id)")
    assert len(ids) == len(set(ids))
    # All sixteen are told, the choice first; the keyboard sorts and narrows them.
    rows = "[...document.querySelectorAll('#t1 tbody tr')]"
    assert browser.run(f"{rows}.length") == 16
    chosen = browser.run(f"{rows}[0].innerText")
    assert plan["configuration"]["codec"] in chosen
    at = browser.run("[...document.querySelectorAll('#t1 th')].map(one => one.innerText)"
                     ".indexOf('cost, crowns')")  # fmt: skip
    for up in (True, False):
        browser.run(f"document.querySelectorAll('#t1 th button')[{at}].focus()")
        browser.press("Enter", "\r")
        costs = browser.run(f"{rows}.map(one => Number(one.cells[{at}].dataset.k))")
        assert costs == sorted(costs, reverse=not up)
        way = browser.run(f"document.querySelectorAll('#t1 th')[{at}].ariaSort")
        assert way == ("ascending" if up else "descending")
    browser.run("document.querySelector('input[data-table=t1]').focus()")
    browser.type("zstd 16KiB")
    shown = browser.run(f"{rows}.filter(one => !one.hidden).map(one => one.innerText)")
    assert len(shown) == 4
    assert all("zstd" in one and "16KiB" in one for one in shown)
    assert browser.run("document.getElementById('t1-count').innerText") == "4 of 16 rows"
    assert browser.said == []


def test_figures_and_words_for_tickets(splarn: Splarn, planned: Path) -> None:
    told = splarn("report", "plan.json", "--out", "ticket.md")
    assert told.code == 0, told.err
    text = (planned / "ticket.md").read_text()
    pictures = re.findall(r"!\[[^]]+\]\(([^)]+)\)", text)
    assert len(pictures) >= 6
    assert all((planned / one).read_bytes().startswith(b"\x89PNG") for one in pictures)
    assert 'read\\<b\\>&"ings' in text
    first = splarn("plot", "frontier", "--out", "one.svg")
    again = splarn("plot", "frontier", "plan.json", "--out", "two.svg")
    assert (first.code, again.code) == (0, 0)
    assert "on the frontier" in first.out
    # The same each time, so that a folder of figures can be kept under version control.
    assert (planned / "one.svg").read_bytes() == (planned / "two.svg").read_bytes()
    words = "".join(ElementTree.parse(planned / "one.svg").getroot().itertext())
    assert "cost, crowns" in words
    assert splarn("plot", "streams", "--out", "dark.png", "--dark").code == 0
    nothing = splarn("plot", "tiers")
    assert nothing.code == 2
    assert "one value of that lever" in nothing.err


def test_what_other_commands_said_is_told_too(
    splarn: Splarn, planned: Path, browser: Browser
) -> None:
    (planned / "in" / "d.csv").write_text("reading_no,gauge,level\n9,<i>x</i>,high\n,RM-1,1.5\n")
    for name, words in (
        ("survey", ("survey", "in")),
        ("check", ("check", "in", "--layout", "layout.json")),
    ):
        (planned / f"{name}.json").write_text(splarn(*words, "--json").out)
    with_ids = splarn("ledger", "--json").json["entries"]
    of = {kind: [one["id"] for one in with_ids if one["kind"] == kind] for kind in ("load", "run")}
    trials = [one["id"] for one in with_ids if one["kind"] == "trial"]
    (planned / "compare.json").write_text(splarn("compare", *trials[1:4], "--json").out)
    for what, words in (
        ("survey.json", "files"), ("check.json", "fit the layout"), ("compare.json", "pairs"),
        (of["load"][-1], "is the same"), (of["run"][-1], "All was done"),
    ):  # fmt: skip
        told = splarn("report", what, "--out", "page.html")
        assert told.code == 0, told.err
        browser.open(planned / "page.html", 400)
        assert words in browser.run("document.body.innerText")
        assert browser.run("document.documentElement.scrollWidth") <= 400
        assert browser.run("document.querySelectorAll('figure svg').length") >= 1
        assert "<i>" not in (planned / "page.html").read_text()
        assert splarn("report", what, "--out", "page.md").code == 0
    assert browser.said == []


def test_what_cannot_be_told_is_said_in_a_sentence(splarn: Splarn, home: Path) -> None:
    (home / "survey.json").write_text(splarn("survey", "in", "--json").out)
    (home / "list.json").write_text("[1]")
    (home / "other.json").write_text('{"a": 1}')
    (home / "half.json").write_text('{"pairs": [{"a": 1}]}')
    for words, why in (
        (("report",), "no plan to report on"),
        (("report", "--out", "report.pdf"), "is no page"),
        (("report", "nowhere"), "neither a file nor an entry"),
        (("report", "list.json"), "is no JSON document"),
        (("report", "other.json"), "no document that a report can be made of"),
        (("report", "half.json"), "does not hold what it should"),
        (("plot", "pie"), "no figure 'pie'"),
        (("plot", "frontier", "--out", "x.gif"), "is no picture"),
        (("report", "survey.json", "--out", "list.json/page.html"), "list.json"),
    ):
        told = splarn(*words)
        assert told.code in (2, 3), told.out
        assert why in told.err
        assert len(told.err.strip().splitlines()) == 1
