"""Sweeps over the whole way, what is kept of them, taken in from elsewhere, and cleared away."""

from __future__ import annotations

import json
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from pyarrow import parquet

from splarn.core.ledger import Ledger
from splarn.core.shape.manifest import UNFINISHED
from splarn.core.target.notes import LoadNote
from splarn.core.tuning.trial_table import TRIAL
from splarn.engines import opener
from splarn.standin.depot import SimulatedDepot
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import served
from tests.conftest import Splarn, ask

JOB = """\
prices = "prices.toml"
[source]
paths = ["in/*.csv"]
layout = "layout.json"
[target]
url = "sqlite:///t.db"
table = "readings"
bad_rows = "set-aside"
{more}
[space]
part_size = ["2KiB", "4KiB"]
codec = ["none", "zstd:1"]
workers = [1]
load_streams = [1, 2]
batch_rows = [0]
[sweep]
sample = "8KiB"
strategy = "star"
repeats = 1
loads = 100
"""
PRICES = """\
currency = "crowns"
machine_per_hour = 1
thousand_requests = 1
gb_moved = 1
[tiers.u1]
per_hour = 10
"""


@pytest.fixture
def job(home: Path) -> Path:
    (home / "splarn.toml").write_text(JOB.format(more=""))
    (home / "prices.toml").write_text(PRICES)
    return home


def spoil(home: Path) -> None:
    """One row more, which no layout allows."""
    path = home / "in" / "b.csv"
    path.write_text(path.read_text() + "no number,at all,for this\n")


def test_sweep_plan_and_run_go_by_way_of_the_depot(splarn: Splarn, job: Path) -> None:
    spoil(job)
    (job / "depot").mkdir()
    with served(SimulatedDepot(job / "depot", DepotPhysics())) as url:
        (job / "splarn.toml").write_text(JOB.format(more=f'depot = "{url}/landing"'))
        space = ("--format", "csv,parquet", "--transfer-streams", "1,2")
        ran = splarn("sweep", *space, "--json")
        assert ran.code == 0, ran.err
        for trial in ran.json["trials"]:
            assert list(trial["phases"]) == ["shape", "ship", "queue", "load", "finish"]
            assert (trial["rows"], trial["failure"]) == (trial["rows"], "")
            assert trial["cost"] == pytest.approx(sum(
                value for item, value in trial["cost_items"].items() if item != "total"
            ))  # fmt: skip
            assert trial["cost_items"]["requests"] > 0
            assert trial["used"]["network_sent"] >= trial["packed_bytes"]
        assert {t["configuration"]["format"] for t in ran.json["trials"]} == {"csv", "parquet"}
        assert ran.json["depot"].startswith(url)
        chosen = ("--format", "parquet", "--transfer-streams", "2", "--codec", "zstd:1")
        planned = splarn("plan", *chosen, "--json")
        assert planned.code == 0, planned.err
        # Trials that went another way tell nothing of this one, and no secret gets into a plan.
        other = splarn("plan", *chosen, "--depot", f"{url}/elsewhere")
        assert (other.code, "went by way of the depot" in other.err + other.out) == (2, False)
        named = splarn("plan", *chosen, "--depot", f"{url}/elsewhere",
                       "--sweep", ran.json["sweep_id"])  # fmt: skip
        assert (named.code, "went by way of the depot" in named.out) == (0, True)
        for secret in (url.replace("://", "://me:open@"), f"{url}/landing?sig=open"):
            refused = splarn("plan", *chosen, "--depot", secret)
            assert (refused.code, "secrets would be written" in refused.err) == (2, True)
            assert "open" not in refused.err
        assert splarn("plan", *chosen, "--json").code == 0
        assert "ship" in planned.json["phases"]
        done = splarn("run", "plan.json", "--json")
    assert done.code == 0, done.err
    found = done.json
    assert found["load"]["verified"] is True
    assert found["actual"]["phases"]["ship"] > 0
    assert found["cost"]["requests"] > 0
    # The row that could not become a column is kept, and nothing lies in the depot any more.
    assert found["rows_not_converted"] == 1
    rejects = Path(job / found["conversion_rejects"]).read_text().splitlines()
    assert [json.loads(line)["path"].endswith("b.csv") for line in rejects] == [True]
    (count,) = ask(f"sqlite:///{job / 't.db'}", "SELECT count(*) FROM readings")[0]
    assert count == found["load"]["rows_loaded"]
    assert not [path for path in (job / "depot").rglob("*") if path.is_file()]
    halted = splarn("plan", *chosen, "--json")
    plan = json.loads((job / "plan.json").read_text())
    plan["target"] |= {"bad_row_limit": 0, "table": "other"}
    (job / "plan.json").write_text(json.dumps(plan))
    assert halted.code == 0
    assert splarn("run", "plan.json").code != 0


def test_what_cannot_be_is_named_and_budgets_tell_what_would_do(splarn: Splarn, job: Path) -> None:
    ran = splarn("sweep", "--codec", "none,snappy", "--part-size", "2KiB,64MiB", "--json")
    assert ran.code == 0, ran.err
    reasons = " ".join(one["reason"] for one in ran.json["left_out"])
    assert "csv has no codec snappy" in reasons
    assert "64.0 MiB" in reasons
    assert "no codec snappy" in ran.err
    wrong: dict[tuple[str, ...], str] = {
        ("--part-size", "64MiB"): "give a larger --sample",
        ("--transfer-streams", "4"): "give --depot",
        ("--durability", "none"): "--route landing",
        ("--strategy", "adaptive", "--money-budget", "0.0000001"): "give at least that",
        ("--strategy", "adaptive", "--time-budget", "10ms"): "give at least that",
        ("--readers", "2"): "--reading",
        ("--reading", "SELECT 1"): "--readers",
        ("--readers", "1", "--reading", "SELECT thing FROM nowhere"): "nowhere",
        ("--readers", "1", "--reading", "DROP TABLE readings"): "may do more than read",
    }
    for words, told in wrong.items():
        ran = splarn("sweep", *words)
        assert ran.code in (2, 3), (words, ran.out)
        assert told in ran.err, words
    assert splarn("sweep", "--json").code == 0
    dry = splarn("sweep", "--dry", "--json").json
    assert dry["foreseen"]["trials"] >= len(dry["beforehand"])
    assert dry["foreseen"]["load_cost"] > 0


def test_readers_beside_trials_are_counted_and_slow_them_by_a_figure(
    splarn: Splarn, job: Path
) -> None:
    reading = ("--readers", "2", "--reading", "SELECT count(*) FROM {table}",
               "--reading", "SELECT 1 WHERE 'a:b' = 'a:b'")  # fmt: skip
    ran = splarn("sweep", *reading, "--cold", "--json")
    assert ran.code == 0, ran.err
    roles = [trial["role"] for trial in ran.json["trials"]]
    assert roles.count("alone") == roles.count("reference") >= 1
    for trial in ran.json["trials"]:
        wanted = 0 if trial["role"] == "alone" else 2
        assert trial["read"]["sessions"] == wanted
        assert (trial["read"]["readings"] > 0) == (wanted > 0)
    found = ran.json["readers"]
    assert found["readings"] > 0
    assert found["loading_takes"]["low"] <= found["loading_takes"]["median"]
    table = [name for (name,) in ask(f"sqlite:///{job / 't.db'}", "SELECT name FROM sqlite_master")]
    assert not [name for name in table if "trial" in name]


def test_a_run_by_way_of_a_folder_is_learned_from(splarn: Splarn, job: Path) -> None:
    (job / "landing").mkdir()
    way = ("--depot", "landing", "--transfer-streams", "1,2", "--load-streams", "1,2")
    assert splarn("sweep", *way, "--strategy", "grid").code == 0
    assert splarn("plan", *way, "--table", "landed").code == 0
    assert splarn("run", "plan.json").code == 0
    again = splarn("plan", *way, "--table", "landed_again")
    assert (again.code, "The last whole load took" in again.out) == (0, True), again.err
    # What went straight into the target went another way.
    assert splarn("plan", "--table", "straight").code == 2


def test_measurements_from_elsewhere_are_taken_in_or_refused(
    splarn: Splarn, job: Path, tmp_path_factory: pytest.TempPathFactory
) -> None:
    sweep_id = splarn("sweep", "--json").json["sweep_id"]
    for ending in ("parquet", "csv", "json"):
        assert splarn("ledger", "--export", f"measured.{ending}").code == 0
    other = tmp_path_factory.mktemp("elsewhere")
    for ending in ("parquet", "csv", "json"):
        (other / f"m.{ending}").write_bytes((job / f"measured.{ending}").read_bytes())
    words = ("--job", str(other / "job.toml"))
    (other / "job.toml").write_text("")
    ran = splarn("ledger", "--import", str(other / "m.csv"), *words)
    assert ran.code == 0, ran.err
    again = splarn("ledger", "--import", str(other / "m.parquet"), *words)
    assert "Took in 0 entries" in again.out
    mine, theirs = Ledger(job), Ledger(other)
    assert [t.id for t in mine.entries("trial")] == [t.id for t in theirs.entries("trial")]
    told = splarn("forecast", "--volume", "200KB", "--sweep", sweep_id, *words, "--json")
    own = splarn("forecast", "--volume", "200KB", "--sweep", sweep_id, "--json",
                 "--part-size", "8MiB,32MiB", "--codec", "none,zstd:1")  # fmt: skip
    medians = [one.json["forecasts"][0]["in_turn"]["median"] for one in (told, own)]
    # What packings do and how parts differ is told by a sweep's own ledger alone.
    assert 0.4 < medians[0] / medians[1] < 2.5
    # The same trials, wherever they are kept, are no faster and no slower.
    compared = splarn("compare", sweep_id, str(other / "m.json"), "--json").json
    assert compared["pairs"][0]["ratio"]["median"] == pytest.approx(1)
    assert compared["pairs"][0]["verdict"] == "no difference that can be told"
    rows = json.loads((job / "measured.json").read_text())

    def spoiled(change: Callable[[dict[str, Any]], object]) -> list[dict[str, Any]]:
        changed = [{k: v for k, v in row.items() if v is not None} for row in rows]
        change(changed[1])
        return changed

    def in_milliseconds(row: dict[str, Any]) -> None:
        row["seconds"] *= 1000

    for change, told_of in (
        (in_milliseconds, "all times must be in seconds"),
        (lambda row: row.pop("phase_load"), "phase_load is missing"),
        (lambda row: row.update(phase_thinking=1.0), "'thinking' is not known"),
        (lambda row: row.update(durability="somewhat"), "somewhat"),
        (lambda row: row.pop("part_size"), "part_size is missing"),
        (lambda row: row.update(kind="guess"), "the kind is 'guess'"),
        (lambda row: row.update(rows=-1), "rows is -1"),
        (lambda row: row.update(codec="zstd", level=400), "codec"),
    ):
        (other / "bad.json").write_text(json.dumps(spoiled(change)))
        (other / "fresh.toml").write_text("")
        before = len(Ledger(other).entries())
        ran = splarn("ledger", "--import", str(other / "bad.json"), *words)
        assert (ran.code, told_of in ran.err) == (2, True), (told_of, ran.err)
        assert "row 2" in ran.err
        assert len(Ledger(other).entries()) == before
    (other / "no.parquet").write_bytes(b"PAR1 and then nothing")
    parquet.write_table(pa.table({"a": [1]}), other / "other.parquet")
    for name, told_of in (("no.parquet", "cannot be read"), ("other.parquet", "row 1"),
                          ("gone.csv", "no file"), ("m.xls", "must end in")):  # fmt: skip
        ran = splarn("ledger", "--import", str(other / name), *words)
        assert (ran.code, told_of in ran.err) == (2, True), ran.err
    another = [{**row, "seconds": row["seconds"] + 5, "phase_load": row["phase_load"] + 5}
               for row in rows if row["kind"] == "trial"]  # fmt: skip
    (other / "another.json").write_text(json.dumps(another))
    ran = splarn("ledger", "--import", str(other / "another.json"), *words)
    assert (ran.code, "the ledger has another trial" in ran.err) == (2, True)
    listed = splarn("ledger", "--kind", "sweep", *words)
    assert (sweep_id in listed.out, "ended" in listed.out) == (True, True)


def test_a_job_without_prices_may_try_tiers(splarn: Splarn, job: Path) -> None:
    text = JOB.format(more="").replace('prices = "prices.toml"', "")
    (job / "splarn.toml").write_text(text)
    for strategy in ("star", "adaptive"):
        ran = splarn("sweep", "--strategy", strategy, "--tier", "u1,u2", "--json")
        assert ran.code == 0, ran.err
        assert {t["configuration"]["tier"] for t in ran.json["trials"]} == {"u1", "u2"}
    assert splarn("plan", "--tier", "u1,u2").code == 0
    assert splarn("forecast", "--tier", "u1,u2").code == 0


def test_leftovers_are_shown_and_removed_once_that_is_agreed_to(splarn: Splarn, job: Path) -> None:
    told = splarn("ledger", "--tidy", "--json").json["left"]
    others = {one["where"] for one in told}
    # What killed sweeps of other folders left beside lies in the same temporary place.
    assert all("splarn-sweep-" in where for where in others)
    assert splarn("shape", "--into", "whole", "--part-size", "4KiB").code == 0
    assert splarn("shape", "--into", "half", "--part-size", "4KiB").code == 0
    # As if it had been killed before its manifest stood.
    (job / "half" / "datapackage.json").unlink()
    mark = {"request": "x", "name": "gauges"}
    (job / "half" / UNFINISHED).write_text(json.dumps(mark) + "\n")
    (job / "half" / "notes.txt").write_text("mine")
    parts = job / ".splarn" / "parts" / "plan-1"
    parts.mkdir(parents=True)
    (parts / "part-0001.csv").write_text("1,2\n")
    gone = subprocess.Popen(["true"])
    gone.wait()
    scratch = Path(tempfile.mkdtemp(prefix=f"splarn-sweep-{gone.pid}-"))
    session = opener(f"sqlite:///{job / 't.db'}")().connect()
    session.notes.put_load(LoadNote("sweep-9", "splarn_trial_9", TRIAL, "sweep", "2031-01-01"))
    session.commit()
    session.close()
    ask(f"sqlite:///{job / 't.db'}", "CREATE TABLE splarn_trial_9 (a INTEGER)", False)
    ask(f"sqlite:///{job / 't.db'}", "CREATE TABLE splarn_trial_8 (a INTEGER)", False)
    shown = splarn("ledger", "--tidy", "--json").json
    assert shown["removed"] is False
    where = {Path(one["where"]).name for one in shown["left"] if one["where"] not in others}
    assert {scratch.name, "half", "plan-1"} < where
    assert len(where) == 4
    assert all(path.exists() for path in (scratch, parts, job / "half"))
    done = splarn("ledger", "--tidy", "--yes")
    assert (done.code, "Removed " in done.out) == (0, True), done.out
    assert not scratch.exists()
    assert not parts.exists()
    # What a shape did not make stays, and so does what nobody says is a trial's.
    assert [path.name for path in (job / "half").iterdir()] == ["notes.txt"]
    assert (job / "whole" / "datapackage.json").exists()
    tables = ask(f"sqlite:///{job / 't.db'}", "SELECT name FROM sqlite_master WHERE type = 'table'")
    assert ("splarn_trial_8",) in tables
    assert ("splarn_trial_9",) not in tables


def test_a_probe_tells_ceilings_and_sweeps_how_near_they_come(splarn: Splarn, job: Path) -> None:
    (job / "splarn.toml").write_text(JOB.format(more='depot = "depot"'))
    ran = splarn("doctor", "--probe", "--json")
    assert ran.code == 0, ran.err
    found = ran.json["probe"]
    for figure in ("disk_write", "disk_read", "disk_read_cached", "memory_copy", "loopback"):
        assert found[figure] > 1e6, figure
    assert found["codecs"]["zstd:1"]["share"] < 1 == found["codecs"]["none"]["share"]
    assert found["round_trip"] > 0 <= found["commit"]
    assert [streams for streams, _ in found["depot_line"]][:2] == [1, 2]
    assert not [path for path in (job / "depot").rglob("*") if path.is_file()]
    assert not list(job.glob("splarn-probe*"))
    ran = splarn("sweep", "--json")
    assert ran.code == 0, ran.err
    near = {one["phase"]: one for one in ran.json["ceilings"]}
    assert set(near) == {"shape", "ship", "load"}
    for one in near.values():
        assert one["share"] == pytest.approx(one["speed"] / one["ceiling"])
    assert "beside their ceilings" in splarn("sweep").out
