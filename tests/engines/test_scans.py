"""What questions read of a lake, foretold from the text and then asked by another reader."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any

import pyarrow.dataset as ds
import pytest
from benchmarks.counted import asked

from tests.conftest import Splarn
from tests.core.test_scans import deliver

pytest.importorskip("pyiceberg.catalog.sql")

APRIL = (datetime(2031, 4, 1), datetime(2031, 5, 1))
# In our words, in the Iceberg library's, in Arrow's, and the columns.
QUESTIONS: list[tuple[str, str, Any, list[str]]] = [
    (
        "tolls: columns(lock_code toll) where(entered 2031-04) monthly(900)",
        "entered >= '2031-04-01T00:00:00' and entered < '2031-05-01T00:00:00'",
        (ds.field("entered") >= APRIL[0]) & (ds.field("entered") < APRIL[1]),
        ["lock_code", "toll"],
    ),
    ("columns(toll) where(lock_code LK07)", "lock_code = 'LK07'",
     ds.field("lock_code") == "LK07", ["toll"]),
    ("columns(entered) where(passage_no 31000..31099)",
     "passage_no >= 31000 and passage_no <= 31099",
     (ds.field("passage_no") >= 31_000) & (ds.field("passage_no") <= 31_099), ["entered"]),
    ("columns(passage_no) where(passage_no 77)", "passage_no = 77",
     ds.field("passage_no") == 77, ["passage_no"]),
]  # fmt: skip
WAYS = (
    ("parquet plain", ""),
    ("month(entered) sort(lock_code) rows(1000)", ""),
    ("bucket(passage_no 4) rows(5000)", ""),
    ("month(entered) sort(lock_code) rows(1000) compacted", "lock_code"),
)
PRICES = """\
currency = "crowns"
machine_per_hour = 0.4
storage_gb_month = 0.02
thousand_requests = 0.004
tb_scanned = 5
[tiers.u1]
per_hour = 1.2
"""
JOB = """\
prices = "prices.toml"
[source]
paths = ["in/*.csv"]
layout = "layout.json"
[target]
url = "lake:///lake"
table = "passages"
[space]
part_size = ["256KiB"]
codec = ["none"]
workers = [1]
load_streams = [1]
batch_rows = [0]
file_layout = ["plain", "month(entered)"]
[sweep]
sample = "512KiB"
strategy = "grid"
repeats = 2
"""


@pytest.fixture
def home(tmp_path: Path, splarn: Splarn) -> Path:
    deliver(tmp_path / "in", 60_000, 3, ordered=False)
    (tmp_path / "prices.toml").write_text(PRICES)
    done = splarn("layout", "in", "--out", "layout.json", cwd=tmp_path)
    assert done.code == 0, done.err
    return tmp_path


def test_what_is_foretold_is_what_another_reader_then_reads(home: Path, splarn: Splarn) -> None:
    words = [word for question, *_ in QUESTIONS for word in ("--question", question)]
    words += [word for way, _ in WAYS for word in ("--kept-as", way)]
    done = splarn("forecast", "in", "--layout", "layout.json", *words, "--json", cwd=home)
    assert done.code == 0, done.err
    scans = done.json["scans"]
    assert scans["looked_at"]["whole"] is True
    assert scans["questions"][0]["share"] == pytest.approx(30 / 365, rel=0.1)
    assert scans["kept"][0]["delivered"] is True
    for (way, sort), told in zip(WAYS, scans["kept"][1:], strict=True):
        assert told["kept_as"] == way
        target = ("--to", f"lake:///{home}/{told['files']}-{bool(sort)}", "--table", "passages")
        layout = way.replace("parquet ", "").replace(" compacted", "")
        done = splarn("load", "in", "--layout", "layout.json", *target, "--file-layout", layout,
                      "--streams", "1", cwd=home)  # fmt: skip
        assert done.code == 0, done.err
        if sort:
            assert splarn("compact", *target, "--sort", sort, cwd=home).code == 0
        lake = Path(target[1].removeprefix("lake:///"))
        files = list((lake / "main").rglob("data/**/*.parquet"))
        if not sort:
            assert len(files) == told["files"]
            assert sum(file.stat().st_size for file in files) == pytest.approx(
                told["bytes"], rel=0.02
            )
        for (_, row_filter, expression, columns), one in zip(
            QUESTIONS, told["questions"], strict=True
        ):
            fetched, fetches, opened, _ = asked(lake, "passages", row_filter, expression, columns)
            assert one["files"] == pytest.approx(opened, abs=0.5)
            # In which order merging puts rows that sort alike is not known before.
            assert one["bytes"] == pytest.approx(fetched, rel=0.1 if sort else 0.05)
            assert one["requests"] == pytest.approx(fetches, rel=0.25, abs=2)


def test_a_table_is_asked_as_it_is_and_as_merging_would_leave_it(
    home: Path, splarn: Splarn
) -> None:
    lake, target = home / "lake", ("--to", "lake:///lake", "--table", "passages")
    layout = ("--layout", "layout.json", "--file-layout", "bucket(passage_no 4) rows(5000)")
    for number, path in enumerate(sorted((home / "in").iterdir())):
        mode = ("--table-mode", "append") if number else ()
        assert splarn("load", path, *target, *layout, *mode, cwd=home).code == 0
    words = [word for question, *_ in QUESTIONS for word in ("--question", question)]
    asking = ("forecast", *target, *words, "--json")
    before = splarn(*asking, cwd=home)
    assert before.code == 0, before.err
    # It reads and changes nothing.
    assert splarn(*asking, cwd=home).json["scans"]["kept"][0]["files"] == 12
    assert splarn("compact", *target, cwd=home).code == 0
    after = splarn(*asking, cwd=home)
    now, merged = before.json["scans"]["kept"]
    assert (now["kept_as"], now["files"]) == ("as it is", 12)
    assert (merged["kept_as"], merged["files"]) == (
        "bucket(passage_no 4) rows(5000) compacted", 4
    )  # fmt: skip
    for (_, row_filter, expression, columns), told, then in zip(
        QUESTIONS, merged["questions"], after.json["scans"]["kept"][0]["questions"], strict=True
    ):
        fetched, _, opened, _ = asked(lake, "passages", row_filter, expression, columns)
        # What the footers say is no estimate; what merging leaves is one.
        assert then["bytes"] == pytest.approx(fetched, rel=0.01)
        assert then["files"] == opened
        assert told["bytes"] == pytest.approx(fetched, rel=0.1)
    assert now["monthly"]["bytes"] > 1.5 * merged["monthly"]["bytes"]


def test_a_plan_lays_files_out_by_what_is_asked(home: Path, splarn: Splarn) -> None:
    (home / "splarn.toml").write_text(JOB)
    assert splarn("sweep", cwd=home).code == 0
    a_month = "columns(lock_code toll) where(entered 2031-04) monthly(90000)"
    everything = "columns(lock_code toll) monthly(90000)"
    for question, layout in ((a_month, "month(entered)"), (everything, "plain")):
        done = splarn("plan", "--question", question, "--json", cwd=home)
        assert done.code == 0, done.err
        plan = done.json
        assert plan["configuration"]["file_layout"] == layout
        best, other = plan["shapes"]
        assert best["file_layout"] == layout
        assert best["total"]["cost"] < other["total"]["cost"]
        # What is held against the run is the load alone.
        assert plan["cost"]["median"] == best["load"]["cost"]
        assert best["total"]["cost"] == pytest.approx(
            best["load"]["cost"] + 12 * (best["monthly"]["cost"] + best["monthly"]["keeping"])
        )
        assert "shape" in plan["reasons"][0]
    both = splarn("forecast", "--question", a_month, "--json", cwd=home)
    document = both.json
    assert {"forecasts", "scans"} <= document.keys()
    assert [one["kept_as"] for one in document["scans"]["kept"]] == [
        "as delivered: csv", "parquet plain", "month(entered)"
    ]  # fmt: skip


def test_questions_are_told_in_tables_that_fit(home: Path, splarn: Splarn) -> None:
    (home / "splarn.toml").write_text('[source]\npaths = ["in/*.csv"]\nlayout = "layout.json"\n'
                                      f'[scans]\nquestions = ["{QUESTIONS[0][0]}"]\n')  # fmt: skip
    done = splarn("forecast", cwd=home, env={"COLUMNS": "80"})
    assert done.code == 0, done.err
    assert max(map(len, done.out.splitlines())) <= 80
    flat = " ".join(done.out.split())
    assert "tolls: columns(lock_code toll) where(entered 2031-04)" in flat
    assert "month(entered) compacted" not in flat
    assert "has paid for itself after" in flat
    assert "What loading takes is not said" in flat
    slow = splarn("forecast", "--link", "10Mbit/s", "--latency", "50ms", "--json", cwd=home)
    fast = splarn("forecast", "--json", cwd=home)
    seconds = [
        [one["monthly"]["seconds"] for one in run.json["scans"]["kept"]] for run in (slow, fast)
    ]
    assert all(one > 2 * two for one, two in zip(*seconds, strict=True))


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["--kept-as", "plain"], 2, "--kept-as goes with questions"),
        (["--question", "columns(tol)"], 2, "the nearest is toll"),
        (
            ["--question", "columns(toll)", "--kept-as", "monthly(entered)"],
            2,
            "the nearest is month",
        ),
        (["--question", "columns(toll)", "--kept-as", "month(toll)"], 2, "has no month"),
        (["--question", "columns(toll)", "--kept-as", "csv zstd(99)"], 2, "cannot have level"),
        (["--question", "columns(toll)", "--kept-as", "value(passage_no)"], 2, "partition"),
        (["--question", "columns(toll)", "--latency", "soon"], 2, "is no duration"),
        (["--table", "passages"], 2, "--table goes with questions"),
        (["--question", "columns(toll)", "--table", "passages"], 2, "There is no table passages"),
    ],
)
def test_what_cannot_be_asked_is_one_sentence(
    home: Path, splarn: Splarn, words: list[str], code: int, said: str
) -> None:
    target = ("--to", "lake:///lake")
    done = splarn("forecast", "in", "--layout", "layout.json", *target, *words, cwd=home)
    assert done.code == code
    assert said in " ".join(done.err.split())
    assert "Traceback" not in done.err
