"""Deliveries of several kinds of files by the built program: planned, carried out, refused."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.home import readings
from tests.cli.plans import plan_of
from tests.conftest import Splarn, ask

JOB = """\
[source]
paths = ["in/{month}/*"]
layout = "layout.json"
[target]
url = "sqlite:///t.db"
table = "readings"
table_mode = "append"
bad_rows = "set-aside"
[kinds.radio]
paths = ["in/{month}/*.jsonl"]
columns = { reading_no = "id", gauge = "where" }
[kinds.gates]
paths = ["in/{month}/gates.csv"]
table = "gates_{month}"
[space]
part_size = ["4KiB", "8KiB"]
codec = ["none"]
workers = [1]
load_streams = [1]
batch_rows = [0, 200]
[sweep]
sample = "8KiB"
repeats = 1
strategy = "grid"
"""


def delivery(home: Path, month: str, first: int) -> None:
    """A month's readings, some of them sent by radio, and its gates."""
    folder = home / "in" / month
    readings(folder / "a.csv", first, first + 599)
    lines = [
        {"id": n if n != first + 700 else "x", "where": f"RM-{n % 9}", "level": n / 4}
        for n in range(first + 600, first + 800)
    ]
    (folder / "radio.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines))
    (folder / "gates.csv").write_text("gate,width\n" + "".join(f"G{n},3.{n}\n" for n in range(9)))


def test_a_delivery_of_several_kinds_is_planned_and_comes_every_month(
    splarn: Splarn, home: Path
) -> None:
    (home / "splarn.toml").write_text(JOB)
    delivery(home, "m07", 1)
    delivery(home, "m08", 1001)
    assert splarn("sweep", "--set", "month=m07").code == 0
    planned = splarn("plan", "--set", "month=m07", "--json")
    assert planned.code == 0, planned.err
    kinds = {one["name"]: one for one in planned.json["kinds"]}
    assert kinds["radio"]["table"] == "readings"
    assert "gauge is its where" in kinds["radio"]["casts"]
    assert kinds["gates"]["table"] == "gates_m07"
    dry = splarn("run", "plan.json", "--dry", "--json")
    assert dry.json["rows"] > 600
    assert [one["rows"] for one in dry.json["others"]] == [9]
    first = splarn("run", "plan.json", "--json", "--log", "run.jsonl")
    assert first.code == 0, first.err
    assert first.json["load"]["rows_loaded"] == 799
    assert first.json["rows_not_converted"] == 1
    assert [one["load"]["rows_loaded"] for one in first.json["others"]] == [9]
    begun = [json.loads(line) for line in (home / "run.jsonl").read_text().splitlines()]
    assert [one["table"] for one in begun if one["event"] == "begin"] == ["readings", "gates_m07"]
    # The next month goes the same way, and the first once more not at all.
    second = splarn("run", "plan.json", "--set", "month=m08", "--json")
    assert second.code == 0, second.err
    again = splarn("run", "plan.json")
    assert again.code == 0
    assert again.out.count("Already in") == 2
    found = ask(f"sqlite:///{home / 't.db'}", "SELECT count(*), count(DISTINCT reading_no), "
                "(SELECT count(*) FROM gates_m08) FROM readings")  # fmt: skip
    assert found == [(1598, 1598, 9)]
    # In words too.
    words = splarn("plan", "--set", "month=m07").out
    assert "gates: 1 file" in words
    assert "One table after the other" in words


def test_kinds_that_lead_nowhere_are_said_before_anything_is_written(
    splarn: Splarn, home: Path
) -> None:
    (home / "splarn.toml").write_text(JOB)
    delivery(home, "m07", 1)
    assert splarn("sweep", "--set", "month=m07").code == 0
    for was, now, why in (
        ('gauge = "where"', 'gauge = "wher"', "takes gauge from wher"),
        (', gauge = "where"', "", "where goes nowhere"),
        ('paths = ["in/{month}/gates.csv"]', 'paths = ["in/{month}/*.jsonl"]', "let one name it"),
        ('paths = ["in/{month}/gates.csv"]', 'paths = ["in/{month}/*.csv"]', "of other kinds"),
        ('table = "gates_{month}"', 'table = "gates_{week}"', "{week}"),
        ('table = "gates_{month}"', 'tabel = "gates"', "tabel"),
    ):
        (home / "splarn.toml").write_text(JOB.replace(was, now))
        told = splarn("plan", "--set", "month=m07")
        assert told.code == 2, told.out
        assert why in told.err
        assert not (home / "plan.json").exists()


def test_columns_come_and_go_only_where_the_job_lets_them(splarn: Splarn, home: Path) -> None:
    (home / "in" / "b.csv").write_text("gauge,reading_no,battery\nRM-1,9001,55\nRM-2,9002,\n")
    plan_of(home, ["in/*.csv"])
    refused = splarn("run", "plan.json")
    assert refused.code == 2
    assert "lacks 'level'; it adds 'battery'" in refused.err
    assert 'may_pass = ["columns"]' in refused.err
    assert not (home / "t.db").exists() or "t" not in [
        name for (name,) in ask(f"sqlite:///{home / 't.db'}", "SELECT name FROM sqlite_master")
    ]
    (home / "splarn.toml").write_text('[run]\nmay_pass = ["columns"]\n')
    passed = splarn("run", "plan.json")
    assert passed.code == 0, passed.err
    assert "null in the table: level, left out: battery" in " ".join(passed.out.split())
    found = ask(f"sqlite:///{home / 't.db'}", "SELECT gauge, level FROM t WHERE reading_no > 9000 "
                "ORDER BY reading_no")  # fmt: skip
    assert found == [("RM-1", None), ("RM-2", None)]
    assert splarn("run", "plan.json").out.count("Already in") == 1
    # A delivery of nothing else goes too; what must be there is missed by name.
    for path in (home / "in").glob("a*.csv"):
        path.unlink()
    plan_of(home, ["in/b.csv"], table="t2")
    alone = splarn("run", "plan.json", "--again", "--json")
    assert (alone.code, alone.json["load"]["rows_loaded"]) == (0, 2), alone.err
    (home / "in" / "b.csv").write_text("gauge,level\nRM-1,5\n")
    plan_of(home, ["in/b.csv"], table="t3")
    assert "lacks 'reading_no', which must not be missing" in splarn("run", "plan.json").err
