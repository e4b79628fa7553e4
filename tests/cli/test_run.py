"""Runs by the built program: what they say, keep, refuse, and leave behind."""

from __future__ import annotations

import json
import re
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.cli.home import readings
from tests.cli.plans import FORECAST, plan_of
from tests.conftest import Splarn, ask


def count(home: Path, table: str = "t") -> int:
    return int(ask(f"sqlite:///{home / 't.db'}", f'SELECT count(*) FROM "{table}"')[0][0])


def test_a_run_makes_and_loads_at_once_logs_each_part_and_leaves_nothing(
    splarn: Splarn, home: Path
) -> None:
    plan_of(home, ["in/*.csv"])
    dry = splarn("run", "plan.json", "--dry")
    assert dry.code == 0, dry.err
    assert "nothing was done" in dry.out
    assert re.search(r"shape +2 files into \d parts by 2 workers", dry.out)
    assert not (home / "t.db").exists() or not ask(
        f"sqlite:///{home / 't.db'}", "SELECT name FROM sqlite_master WHERE name = 't'"
    )
    assert not (home / ".splarn/parts").exists()
    ran = splarn("run", "plan.json", "--log", "logs/run.jsonl")
    assert ran.code == 0, ran.err
    assert "Verified" in ran.out
    assert count(home) == 700
    assert not list((home / ".splarn/parts").iterdir())
    lines = [json.loads(line) for line in (home / "logs/run.jsonl").read_text().splitlines()]
    assert [lines[0]["event"], lines[-1]["event"]] == ["begin", "end"]
    made = [line for line in lines if line["event"] == "part"]
    by_stage = {stage: {one["part"] for one in made if one["stage"] == stage}
                for stage in ("shape", "load")}  # fmt: skip
    assert by_stage["shape"] == by_stage["load"]
    assert sum(one["rows"] for one in made if one["stage"] == "load") == 700
    assert lines[-1]["verified"] is True
    # Parts are kept where that is asked for, with a manifest that says what they are.
    plan_of(home, ["in/*.csv"], table="kept", mode="create")
    ran = splarn("run", "plan.json", "--keep-parts", "--parts", "parts", "--again", "--json")
    assert ran.code == 0, ran.err
    assert splarn("load", "parts", "--to", "sqlite:///t.db", "--table", "again").code == 0
    assert count(home, "kept") == count(home, "again") == 700


def test_rejected_rows_are_named_by_the_deliverys_own_file_and_line(
    splarn: Splarn, home: Path
) -> None:
    path = home / "in" / "a.csv"
    lines = path.read_text().splitlines()
    for at in (3, 200, 399):
        lines[at] = lines[at].replace(",RM", ",RM").rsplit(",", 1)[0] + ",high"
    path.write_text("\n".join(lines) + "\n")
    for form in ("csv", "jsonl"):
        plan_of(home, ["in/*.csv"], table=form, format=form, part_size=2048)
        assert splarn("run", "plan.json", "--again").code == 0
        found = [
            json.loads(line) for file in (home / "rejects").rglob("*.rejects.jsonl")
            for line in file.read_text().splitlines()
        ]  # fmt: skip
        assert sorted({(Path(one["path"]).name, one["line"]) for one in found}) == [
            ("a.csv", 4), ("a.csv", 201), ("a.csv", 400),
        ]  # fmt: skip
        assert count(home, form) == 697
    # So are rows that only the engine refuses, out of parts that were converted too.
    with closing(sqlite3.connect(home / "t.db")) as link:
        link.execute("CREATE TABLE keyed (reading_no INTEGER PRIMARY KEY, gauge, level)")
        link.execute("INSERT INTO keyed VALUES (2, 'RM-0', 1), (390, 'RM-0', 1)")
        link.commit()
    shutil.rmtree(home / "rejects")
    plan_of(home, ["in/*.csv"], table="keyed", mode="append", format="jsonl", part_size=2048)
    assert splarn("run", "plan.json", "--again").code == 0
    found = [
        json.loads(line) for file in (home / "rejects").rglob("*.rejects.jsonl")
        for line in file.read_text().splitlines()
    ]  # fmt: skip
    refused = {(Path(one["path"]).name, one["line"]) for one in found if one["kind"] == "engine"}
    wanted = {(one.name, at) for one in (home / "in").glob("*.csv")
              for at, text in enumerate(one.read_text().splitlines(), 1)
              if text.startswith(("2,", "390,"))}  # fmt: skip
    assert refused == wanted


def test_a_schedule_gives_parameters_and_odd_deliveries_are_refused_before_a_row(
    splarn: Splarn, home: Path
) -> None:
    for month, rows in (("05", 300), ("06", 320), ("07", 9000)):
        readings(
            home / f"due/2031-{month}/a.csv", int(month) * 100_000, int(month) * 100_000 + rows
        )
    turned = [line.split(",") for line in (home / "due/2031-06/a.csv").read_text().splitlines()]
    (home / "due/2031-08").mkdir()
    (home / "due/2031-08/a.csv").write_text(
        "\n".join(
            f"{gauge},{number.replace('6', '8', 1)},{level}" for number, gauge, level in turned
        )
    )
    plan_of(
        home, ["due/2031-05/*.csv"], mode="append", templates=["due/{month}/*.csv"],
        parameters={"month": "2031-05"},
    )  # fmt: skip
    assert splarn("run", "plan.json").code == 0
    ran = splarn("run", "plan.json", "--set", "month=2031-06", "--json")
    assert (ran.code, ran.json["plan_id"]) == (0, "plan-1-2031-06"), ran.err
    assert count(home) == 301 + 321
    for month, word in (("07", "rows, and the last ones"), ("08", "another order")):
        refused = splarn("run", "plan.json", "--set", f"month=2031-{month}")
        assert (refused.code, refused.err.count("\n"), word in refused.err) == (2, 1, True)
    assert count(home) == 301 + 321
    (home / "splarn.toml").write_text('[run]\nmay_pass = ["order"]\n')
    ran = splarn("run", "plan.json", "--set", "month=2031-08")
    assert (ran.code, "the job lets that pass" in ran.out) == (0, True), ran.err + ran.out
    again = splarn("run", "plan.json", "--set", "month=2031-06")
    assert (again.code, "Already in" in again.out) == (0, True)
    for wrong, word in (("year=1", "{month}"), ("month", "month=2031-07")):
        refused = splarn("run", "plan.json", "--set", wrong)
        assert (refused.code, word in refused.err) == (2, True)
    (home / "splarn.toml").write_text('[run]\nmay_pass = ["speed"]\n')
    assert splarn("run", "plan.json").code == 2


def _set(document: dict[str, Any], keys: str, value: Any) -> None:
    *path, last = keys.split(".")
    for key in path:
        document = document[key]
    document[last] = value


@pytest.mark.parametrize(("keys", "value"), [
    ("configuration.workers", -3), ("configuration.load_streams", "many"),
    ("configuration.codec", "crush"), ("configuration.format", 7), ("forecast.phases", 3),
    ("configuration.part_size", 0), ("forecast.seconds.median", "soon"), ("target.table", ""),
    ("target.table_mode", "adds"), ("source", []), ("source", [3]), ("layout", {}),
    ("limits", {"deadline": 1, "colour": 2}), ("id", "../../up"), ("prices", {"tiers": 3}),
    ("volume", {"rows": 3}), ("target.url", "sqlite://"), ("source_bytes", "many"),
])  # fmt: skip
def test_a_plan_edited_into_nonsense_is_refused_in_a_sentence(
    splarn: Splarn, home: Path, keys: str, value: Any
) -> None:
    plan = plan_of(home, ["in/*.csv"])
    document = json.loads(plan.read_text())
    _set(document, keys, value)
    plan.write_text(json.dumps(document))
    refused = splarn("run", "plan.json")
    assert (refused.code, refused.err.count("\n")) == (2, 1), refused.err + refused.out
    assert "Traceback" not in refused.err
    assert not (home / ".splarn/parts").exists() or not list((home / ".splarn/parts").iterdir())


def test_a_run_that_is_late_says_which_stage_and_whether_it_will_do(
    splarn: Splarn, home: Path
) -> None:
    readings(home / "in" / "c.csv", 1000, 20_000)
    phases = {"shape": 0.001, "queue": 0.001, "load": 0.001, "finish": 0.001}
    soon = {"low": 0.002, "median": 0.003, "high": 0.004}
    plan = plan_of(home, ["in/*.csv"], forecast={**FORECAST, "phases": phases, "seconds": soon},
                   part_size=32_768)  # fmt: skip
    document = json.loads(plan.read_text())
    document["limits"]["deadline"] = 0.01
    document["alternatives"] = [
        {"lever": "load_streams", "value": 4, "seconds": 0.001, "load": 0.0005, "cost": 1.5}
    ]
    plan.write_text(json.dumps(document))
    ran = splarn("run", "plan.json")
    assert ran.code == 0, ran.err
    assert re.search(r"The (shape|load) stage takes [\d.,]+ times as long as forecast", ran.out)
    assert "will hardly be kept (less than 1%)" in " ".join(ran.out.split())
    assert "times as long" in ran.out
    # What was advised is taken: other streams go on with the same parts.
    if "The load stage" in ran.out:
        assert "With load streams 4 loading was forecast" in " ".join(ran.out.split())


def test_a_source_that_changes_before_a_run_is_given_again_is_named(
    splarn: Splarn, home: Path
) -> None:
    plan_of(home, ["in/*.csv"])
    bare = (home / "in" / "a.csv").read_text()
    # Bad rows beyond the limit end it with some of it in.
    document = json.loads((home / "plan.json").read_text())
    document["target"]["bad_row_limit"] = 0
    (home / "plan.json").write_text(json.dumps(document))
    (home / "in" / "b.csv").write_text(
        (home / "in" / "b.csv").read_text().replace("700,RM-7,0.50", "700,RM-7,high")
    )
    ended = splarn("run", "plan.json")
    assert ended.code == 1, ended.out + ended.err
    with closing(sqlite3.connect(home / "t.db")) as database:
        (there,) = database.execute("SELECT count(*) FROM t").fetchone()
    assert 0 < there < 700
    (home / "in" / "a.csv").write_text(bare.replace("RM-1", "RM-2"))
    refused = splarn("run", "plan.json")
    assert (refused.code, "was another file then" in refused.err) == (2, True), refused.err
    load_id = re.search(r"splarn undo ([\w-]+)", refused.err)
    assert load_id is not None
    assert splarn("undo", load_id[1], "--to", "sqlite:///t.db", "--yes").code == 0
    (home / "in" / "a.csv").write_text(bare)
    readings(home / "in" / "b.csv", 401, 700)
    assert splarn("run", "plan.json").code == 0
    assert count(home) == 700
