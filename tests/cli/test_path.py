"""The whole path by the built program: what each command prints, and what it leaves behind."""

from __future__ import annotations

import json
import re
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from pyarrow import csv, parquet

from splarn.demo.scenario import Delivery
from tests.conftest import Splarn, ask


def test_the_demo_ends_in_a_verified_load_and_leaves_all_to_try(
    splarn: Splarn, tmp_path: Path
) -> None:
    ran = splarn("demo", "--rows", "6_000", "--into", "lark", "--seed", "3")
    assert ran.code == 0, ran.out + ran.err
    truth = json.loads((tmp_path / "lark/delivery/truth.json").read_text())
    assert f"Loaded {truth['good']:,} rows: exactly the {truth['good']:,} good ones" in ran.out
    for words in ("It is the", "phase binds", "forecast", "actual", "Verified"):
        assert words in ran.out
    lines = ran.out.splitlines()
    typed = [line.strip()[2:] for line in lines if line.strip().startswith("$ splarn")]
    assert [line.split()[1] for line in typed] == [
        "survey",
        "layout",
        "check",
        "shape",
        "load",
        "sweep",
        "forecast",
        "plan",
        "run",
        "ledger",
        "report",
    ]
    home = tmp_path / "lark"
    assert "How to load passages" in (home / "report.html").read_text()
    assert ask(f"sqlite:///{home / 'larkmere.db'}", "SELECT count(*) FROM passages") == [
        (truth["good"],)
    ]
    # Every read-only stage can be repeated by hand as it was shown.
    for line in typed:
        if line.split()[1] in ("survey", "check", "forecast", "plan", "ledger"):
            again = splarn(*line.split()[1:], cwd=home)
            assert again.code in (0, 1), again.err
    refused = splarn("demo", "--into", "lark")
    assert refused.code == 2
    assert "not empty" in refused.err


def test_the_demo_gives_one_document_under_json(splarn: Splarn, tmp_path: Path) -> None:
    found = splarn("demo", "--rows", "3000", "--into", "lark", "--json").json
    assert found["exact"] is True
    assert found["rows_loaded"] == found["good"] == found["rows"] - found["bad"]
    assert found["actual"]["seconds"] > 0


@pytest.fixture
def home(tmp_path: Path, delivery: Delivery) -> Path:
    """A job's folder with its job file and price list."""
    files = json.dumps([str(path) for path in delivery.paths])
    (tmp_path / "splarn.toml").write_text(
        f"""
        prices = "prices.toml"
        [source]
        paths = {files}
        layout = "layout.json"
        [target]
        url = "sqlite:///job.db"
        table = "passages"
        bad_rows = "set-aside"
        [space]
        part_size = ["64KiB", "256KiB"]
        codec = ["none", "gzip:1"]
        workers = [1]
        load_streams = [1]
        batch_rows = [1000, 0]
        [sweep]
        sample = "256KiB"
        repeats = 1
        strategy = "grid"
        """
    )
    (tmp_path / "prices.toml").write_text(
        'currency = "crowns"\nmachine_per_hour = 2\n[tiers.u1]\nper_hour = 36\nminimum = 10\n'
    )
    return tmp_path


def test_each_command_speaks_json_with_its_stable_keys(
    splarn: Splarn, home: Path, delivery: Delivery
) -> None:
    found = splarn("layout", "--out", "layout.json", "--ddl", "postgresql", "--json").json
    assert found["layout"]["schema"]["fields"][0]["constraints"] == {"required": True}
    assert found["ddl"].startswith("CREATE TABLE passages")
    assert "passage_no BIGINT NOT NULL" in found["ddl"]

    found = splarn("survey", "--exact", "--json").json
    assert set(found) == {"files", "totals", "findings"}
    assert found["totals"] == {"files": 5, "bytes": delivery.bytes, "rows": delivery.rows}
    assert set(found["files"][0]) >= {
        "path", "bytes", "codec", "rows", "rows_exact", "content_id", "findings",
    }  # fmt: skip

    ran = splarn("check", "--json", "--rejects", "rejects")
    assert ran.code == 1
    assert (ran.json["rows"], ran.json["good"]) == (delivery.rows, delivery.good)
    assert set(ran.json["faults"][0]) == {
        "path", "line", "row", "field", "kind", "value", "message",
    }  # fmt: skip
    assert len(Path(home / ran.json["rejects"]).read_text().splitlines()) == ran.json["bad"]

    words = ("--part-size", "200KiB", "--codec", "gzip:1", "--verify", "--json")
    found = splarn("shape", "--into", "parts", *words).json
    assert (found["rows"], found["verified"]) == (delivery.rows, True)
    assert found["bytes_in"] == delivery.bytes > found["bytes_out"]
    package = json.loads((home / found["manifest"]).read_text())
    assert found["parts"] == len(package["resources"])

    found = splarn("load", "parts", "--table", "by_hand", "--streams", "2", "--json").json
    assert (found["rows_loaded"], found["verified"]) == (delivery.good, True)
    assert found["rows_rejected"] == len(delivery.spoiled)
    assert {part["status"] for part in found["parts"]} == {"done"}
    assert set(found["phases"]) == {"queue", "load", "finish"}

    found = splarn("sweep", "--json").json
    assert found["stopped_because"] == "grid finished"
    # A warm-up, the reference and six others, two of less than the sample, and a flow.
    assert len(found["trials"]) == 1 + 1 + 6 + 2 + 1
    assert found["trials"][-1]["role"] == "flow"
    assert 0 < found["trials"][-1]["overlapped"] < 2 * found["trials"][-1]["seconds"]
    assert found["flow"]["seconds"] == found["trials"][-1]["overlapped"]
    assert set(found["trials"][0]["phases"]) == {"shape", "queue", "load", "finish"}

    found = splarn("forecast", "--load-streams", "1,2", "--json").json
    assert len(found["forecasts"]) == 16
    for one in found["forecasts"]:
        assert one["seconds"]["low"] <= one["seconds"]["median"] <= one["seconds"]["high"]
        assert one["extrapolated"] is (one["configuration"]["load_streams"] == 2)
        assert one["cost"]["low"] >= 36 * 10 / 3600
    assert any(one["on_frontier"] for one in found["forecasts"])
    tenfold = splarn("forecast", "--volume", f"{10 * delivery.bytes}", "--json").json
    assert tenfold["volume"]["rows"] == pytest.approx(10 * delivery.rows, rel=0.1)

    ran = splarn("plan", "--deadline", "1ms", "--json")
    assert (ran.code, ran.json["meets_limits"], ran.json["plan"]) == (1, False, None)
    assert not (home / "plan.json").exists()
    ran = splarn("plan", "--deadline", "1ms", "--json", "--anyway")
    assert (ran.code, ran.json["plan"]) == (1, "plan.json")
    ran = splarn("plan", "--deadline", "10m", "--budget", "5", "--out", "plan.json", "--json")
    assert (ran.code, ran.json["meets_limits"]) == (0, True)
    assert ran.json["binding_phase"] in ("shape", "queue", "load", "finish")
    assert ran.json["plan"] == "plan.json"

    found = splarn("run", "plan.json", "--json").json
    assert found["load"]["rows_loaded"] == delivery.good
    assert found["load"]["verified"] is True
    median = found["forecast"]["seconds"]["median"]
    expected = (found["actual"]["seconds"] / median - 1) * 100
    assert found["error_pct"] == pytest.approx(expected)
    assert found["actual"]["cost"] >= 36 * 10 / 3600
    assert not list((home / ".splarn/parts").glob("*"))

    found = splarn("ledger", "--json").json
    kinds = [entry["kind"] for entry in found["entries"]]
    assert {kind: kinds.count(kind) for kind in set(kinds)} == {
        "load": 2, "sweep": 1, "trial": 11, "plan": 2, "run": 1,
    }  # fmt: skip
    for ending in ("parquet", "csv", "json"):
        ran = splarn("ledger", "--export", f"measured.{ending}", "--json")
        assert ran.code == 0, ran.err
    rows = json.loads((home / "measured.json").read_text())
    assert [row["kind"] for row in rows].count("trial") == 11
    table = parquet.read_table(home / "measured.parquet")
    assert (len(table), csv.read_csv(home / "measured.csv").num_rows) == (len(rows), len(rows))
    trial = next(row for row in rows if row["kind"] == "trial")
    assert trial["seconds"] == pytest.approx(
        sum(took for name, took in trial.items() if name.startswith("phase_") and took), rel=0.2
    )
    assert trial["part_size"] in (65536, 262144) and trial["used_cpu_seconds"] > 0
    assert splarn("ledger", "--export", "measured.xls").code == 2
    assert not (home / "measured.xls").exists()
    assert splarn("ledger", "--export", "ledger.jsonl").code == 0
    assert len((home / "ledger.jsonl").read_text().splitlines()) == len(kinds)
    assert ask(f"sqlite:///{home / 'job.db'}", "SELECT count(*) FROM passages") == [
        (delivery.good,)
    ]


def test_forecasts_suppose_choose_and_explain(
    splarn: Splarn, home: Path, delivery: Delivery
) -> None:
    splarn("layout", "--out", "layout.json")
    assert splarn("sweep", "--strategy", "grid").code == 0
    both = splarn("forecast", "--volume", "1GB,4GB", "--json").json
    small, large = both["volumes"]
    assert both["forecasts"] == small["forecasts"]
    assert large["volume"]["bytes"] == 4 * small["volume"]["bytes"] == 4e9
    assert all(one["overlapped"]["median"] > 0 for one in small["forecasts"])
    dear = splarn("forecast", "--volume", "1GB", "--price-factor", "3", "--json").json
    cheapest = [min(one["cost"]["median"] for one in each["forecasts"]) for each in (small, dear)]
    assert cheapest[1] == pytest.approx(3 * cheapest[0], rel=0.05)
    few = splarn("forecast", "--volume", "1GB", "--load-streams", "1..4", "--codec", "none,gzip:6",
                 "--where", "load_streams >= 2", "--where", "codec = gzip:6", "--sort", "-cost",
                 "--json")  # fmt: skip
    assert few.code == 0, few.err
    told = few.json["forecasts"]
    assert {(one["configuration"]["codec"], one["configuration"]["load_streams"] > 1)
            for one in told} == {("gzip", True)}  # fmt: skip
    costs = [one["cost"]["median"] for one in told]
    assert costs == sorted(costs, reverse=True)
    why = splarn("forecast", "--explain", "--json").json["explained"]
    assert sum(one["seconds"] for one in why["causes"]) > 0
    assert {"load", "shape"} <= {one["phase"] for one in why["parameters"]}
    said = splarn("forecast", "--explain", "--link", "1Gbit/s").out
    assert "What the trials say" in said
    assert "the line makes no difference" in said
    for wrong in (("--where", "speed < 1"), ("--sort", "speed"), ("--link", "9"),
                  ("--readers", "2"), ("--volume", "much"), ("--volume", "0")):  # fmt: skip
        ran = splarn("forecast", *wrong)
        assert (ran.code, ran.err.count("\n")) == (2, 1), ran.err


def test_a_run_is_learned_from_and_plans_know_clocks_and_growth(
    splarn: Splarn, home: Path, delivery: Delivery
) -> None:
    splarn("layout", "--out", "layout.json")
    assert splarn("sweep", "--strategy", "grid").code == 0
    ran = splarn("plan", "--deadline", "between 01:00 and 05:00", "--growth", "10%")
    assert (ran.code, "must begin by" in ran.out, "month" in ran.out) == (0, True, True), ran.err
    assert json.loads((home / "plan.json").read_text())["limits"]["deadline"] <= 4 * 3600
    ran = splarn("plan", "--most-streams", "1", "--json")
    assert ran.json["configuration"]["load_streams"] == 1
    ran = splarn("plan", "--deadline", "1h", "--increment", "100kB", "--growth", "5%", "--json")
    assert ran.json["increment"]["forecast"]["seconds"]["median"] < ran.json["seconds"]["median"]
    assert any("full delivery" in reason for reason in ran.json["reasons"])
    assert any("an increment keeps the limits" in reason for reason in ran.json["reasons"])
    for wrong in (("--leave", "0.3"), ("--growth", "3%"), ("--deadline", "by 27:00"),
                  ("--increment", "much"), ("--increment", "0"), ("--deadline", "05:00-05:00"),
                  ("--most-streams", "0")):  # fmt: skip
        refused = splarn("plan", *wrong)
        assert (refused.code, refused.err.count("\n")) == (2, 1), refused.err
    assert splarn("plan").code == 0
    assert splarn("run", "plan.json").code == 0
    after = splarn("forecast")
    assert "1 whole load" in after.out
    assert "The last whole load took" in after.out
    # A run of another table's layout or target tells nothing of this one.
    assert splarn("sweep", "--strategy", "grid", "--to", "sqlite:///else.db").code == 0
    assert "whole load" not in splarn("forecast", "--to", "sqlite:///else.db").out


def test_a_plan_is_held_against_layout_and_table_as_they_are_now(
    splarn: Splarn, home: Path, delivery: Delivery
) -> None:
    splarn("layout", "--out", "layout.json")
    layout = json.loads((home / "layout.json").read_text())
    assert splarn("sweep", "--strategy", "grid").code == 0

    def change(database: str, *statements: str) -> None:
        with closing(sqlite3.connect(home / database)) as connection, connection:
            for statement in statements:
                connection.execute(statement)

    def refused(word: str) -> None:
        ran = splarn("run", "plan.json")
        assert (ran.code, ran.err.count("\n"), word in ran.err) == (2, 1, True), ran.err

    assert splarn("load", "--table", "other").code == 0
    change("job.db", "DELETE FROM other", "DELETE FROM splarn_progress WHERE load_id != ''")
    assert splarn("plan", "--layout", "layout.json", "--table", "other").code == 0
    (home / "layout.json").write_text(json.dumps({**layout, "missingValues": ["", "unheard of"]}))
    refused("The layout")
    (home / "layout.json").write_text(json.dumps(layout))
    change("job.db", "ALTER TABLE other ADD COLUMN surcharge TEXT")
    refused("other columns")
    change("job.db", "DROP TABLE other")
    refused("is gone")
    # What the target was measured as, and what it is now, are told apart.
    change(
        ".splarn/ledger.sqlite",
        "UPDATE entry SET document = replace(document, 'SQLite 3', 'SQLite 2')",
    )
    assert "its trials weigh less" in splarn("plan").out


def test_postgresql_and_sqlite_give_the_same_count_and_digests(
    splarn: Splarn, home: Path, delivery: Delivery, postgresql: str, table: str
) -> None:
    splarn("layout", "--out", "layout.json")
    found = [
        splarn("load", "--to", url, "--table", table, "--streams", "2", "--json").json
        for url in ("sqlite:///other.db", postgresql)
    ]
    assert [one["rows_loaded"] for one in found] == [delivery.good] * 2
    assert [one["verified"] for one in found] == [True, True]
    assert found[0]["digests"] == found[1]["digests"]


def test_a_sweep_and_a_run_on_postgresql(
    splarn: Splarn, home: Path, delivery: Delivery, postgresql: str, table: str
) -> None:
    splarn("layout", "--out", "layout.json")
    to = ("--to", "${LARKMERE}")
    env = {"LARKMERE": postgresql}
    ran = splarn("sweep", *to, "--load-streams", "1,2", "--codec", "zstd:1", "--json", env=env)
    assert len(ran.json["trials"]) == 8 + 2 + 1
    assert splarn("plan", *to, "--table", table, env=env).code == 0
    assert postgresql not in (home / "plan.json").read_text()
    ran = splarn("run", "plan.json", "--json", env=env)
    assert ran.json["load"]["rows_loaded"] == delivery.good
    tables = ask(postgresql, "SELECT tablename FROM pg_tables WHERE schemaname = 'public'")
    assert ("splarn_trial",) not in tables


def test_an_interrupted_sweep_goes_on(splarn: Splarn, home: Path) -> None:
    splarn("layout", "--out", "layout.json")
    first = splarn("sweep", "--time", "1ms", "--json").json
    assert first["stopped_because"] == "time spent"
    second = splarn("sweep", "--json")
    assert second.json["sweep_id"] == first["sweep_id"]
    assert second.json["trials"][: len(first["trials"])] == first["trials"]
    assert second.json["stopped_because"] == "grid finished"
    assert splarn("sweep", "--time", "1ms", "--json").json["sweep_id"] != first["sweep_id"]


def test_colour_is_for_terminals_and_width_for_readers(splarn: Splarn, home: Path) -> None:
    for env in ({"NO_COLOR": "1"}, {}):
        ran = splarn("layout", env=env)
        assert "\x1b[" not in ran.out
        assert max(map(len, ran.out.splitlines())) <= 120


def test_help_has_an_example_for_every_command(splarn: Splarn) -> None:
    top = splarn("--help").out
    assert (splarn().out, splarn().code, splarn("help").out) == (top, 0, top)
    for command in (
        "demo", "survey", "layout", "check", "shape", "load", "ledger", "sweep", "forecast",
        "plan", "run",
    ):  # fmt: skip
        assert f" {command} " in top
        ran = splarn(command, "--help")
        shown = f"  For example:\n    splarn {command}"
        assert (ran.code, shown in ran.out) == (0, True)
        assert splarn("help", command).out == ran.out
        assert not re.search(r"<\w+", ran.out), "no types of a program's own"
    assert splarn("--version").out.startswith("splarn 0.")
