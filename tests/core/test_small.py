"""Units, the job file and the ledger."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import OutsideError, RequestError
from splarn.core.job import read_job
from splarn.core.ledger import Ledger
from splarn.core.source.codecs import Packing
from splarn.core.tuning.configuration import Configuration, Space
from splarn.core.tuning.forecast import Forecast, Span
from splarn.core.tuning.plan import Limits, choose
from splarn.core.units import (
    exact_size,
    parse_count,
    parse_duration,
    parse_share,
    parse_size,
    show_duration,
    show_money,
    show_size,
)


@given(st.integers(0, 2**50))
def test_exact_sizes_read_back(size: int) -> None:
    assert parse_size(exact_size(size)) == size


@pytest.mark.parametrize(
    ("text", "value"),
    [("64MiB", 64 << 20), ("1.5 GB", 1_500_000_000), ("4_096", 4096), ("10kib", 10240)],
)
def test_sizes(text: str, value: int) -> None:
    assert parse_size(text) == value


@pytest.mark.parametrize(
    ("text", "value"),
    [("45m", 2700), ("1h30m", 5400), ("90", 90), ("250ms", 0.25), ("1d 2h", 93600), ("1.5h", 5400)],
)
def test_durations(text: str, value: float) -> None:
    assert parse_duration(text) == pytest.approx(value)


def test_counts_and_shares() -> None:
    assert [parse_count(text) for text in ("50k", "2_000_000", "1.5M")] == [
        50_000,
        2_000_000,
        1_500_000,
    ]
    assert [parse_share(text) for text in ("0.9", "90%")] == [0.9, 0.9]


@pytest.mark.parametrize("text", ["", "64 miles", "MiB", "-4", "1e3x"])
def test_what_is_no_size(text: str) -> None:
    with pytest.raises(RequestError, match="is no size"):
        parse_size(text)


@pytest.mark.parametrize("text", ["", "soon", "5 parsecs", "1h-30m"])
def test_what_is_no_duration(text: str) -> None:
    with pytest.raises(RequestError, match="is no duration"):
        parse_duration(text)


@pytest.mark.parametrize("text", ["0", "1", "120%", "sure"])
def test_what_is_no_share(text: str) -> None:
    with pytest.raises(RequestError, match="is no share"):
        parse_share(text)


def test_figures_are_shown_as_people_write_them() -> None:
    assert [show_duration(s) for s in (0.0123, 0.5, 12.34, 65, 7800, 90000)] == [
        "12 ms",
        "0.50 s",
        "12.3 s",
        "1m 05s",
        "2h 10m",
        "1d 01h",
    ]
    assert [show_size(s) for s in (512, 1536, 64 << 20)] == ["512 B", "1.50 KiB", "64.0 MiB"]
    assert [show_money(m, "crowns") for m in (0, 0.00172, 0.25, 3.5, 1234.5)] == [
        "0 crowns",
        "0.00172 crowns",
        "0.250 crowns",
        "3.50 crowns",
        "1,230 crowns",
    ]


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("[source", "not valid TOML"),
        ("[sauce]\n", "sauce is no key that is known"),
        ("[sweep]\nrepeats = 0\n", "sweep.repeats"),
        ("[source]\npaths = 3\n", "source.paths"),
    ],
)
def test_job_files_that_are_none_say_which_key(tmp_path: Path, text: str, what: str) -> None:
    path = tmp_path / "splarn.toml"
    path.write_text(text)
    with pytest.raises(RequestError, match=what):
        read_job(path)
    with pytest.raises(RequestError, match="no job file"):
        read_job(tmp_path / "other.toml")


def test_the_ledger_keeps_finds_and_replaces(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path)
    assert ledger.entries() == []
    assert not ledger.path.exists()
    ledger.put("load", "20310101-1", "first", {"rows": 1}, seconds=1.5)
    ledger.put("load", "20310102-2", "second", {"rows": 2})
    ledger.put("trial", "t-1", "a trial", {}, parent="sweep-1")
    ledger.put("load", "20310101-1", "first again", {"rows": 3})
    ledger.close()
    again = Ledger(tmp_path)
    assert [entry.summary for entry in again.entries("load")] == ["first again", "second"]
    assert again.entries("trial", parent="sweep-1")[0].id == "t-1"
    assert again.find("20310102").document == {"rows": 2}
    assert again.last("plan") is None
    for start, what in (("2031", "2 entries"), ("x", "No entry")):
        with pytest.raises(RequestError, match=what):
            again.find(start)
    again.close()


def test_a_ledger_from_the_future_or_none_at_all_is_not_touched(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path)
    ledger.put("load", "1", "first", {})
    ledger.close()
    with sqlite3.connect(ledger.path) as connection:
        connection.execute("PRAGMA user_version = 99")
    connection.close()
    with pytest.raises(OutsideError, match="newer Splarn"):
        Ledger(tmp_path).entries()
    ledger.path.write_text("no database, just a text that is long enough to be read as one" * 30)
    with pytest.raises(OutsideError, match="cannot be used"):
        Ledger(tmp_path).entries()


def test_a_configuration_says_the_format_of_its_parts() -> None:
    space = Space.of(
        {
            "part_size": (4096,),
            "packing": (Packing(),),
            "workers": (1,),
            "load_streams": (1,),
            "batch_rows": (0,),
        },
        format="jsonl",
    )
    (one,) = space.grid()
    assert one.as_json()["format"] == "jsonl"
    assert Configuration.from_json(one.as_json()) == one


def test_a_chance_beside_an_interval_past_the_deadline_has_its_sentence() -> None:
    (one,) = Space.of(
        {
            "part_size": (4096,),
            "packing": (Packing(),),
            "workers": (1,),
            "load_streams": (1,),
            "batch_rows": (0,),
        }
    ).grid()
    draws = np.concatenate([np.full(93, 50.0), np.full(7, 80.0)])
    span = Span(50.0, 50.0, 80.0)
    found = Forecast(one, span, span, {"load": 50.0}, {}, (), True, draws, draws, span)
    kept = choose([found], Limits(60.0, None, 0.9), "crowns")
    assert kept.meets_limits
    assert any("reaches past the deadline" in why and "7%" in why for why in kept.reasons)
    easy = choose([found], Limits(90.0, None, 0.9), "crowns")
    assert not any("past the deadline" in why for why in easy.reasons)
