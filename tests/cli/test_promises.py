"""What commands say and leave behind, held against files, databases and servers themselves."""

from __future__ import annotations

import gzip
import json
import os
import re
import sqlite3
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

from splarn.core.ledger import Ledger
from splarn.standin.depot import SimulatedDepot
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import served
from tests.cli.home import LAYOUT, LOAD, readings
from tests.conftest import Splarn, ask

# Text that is not what it looks like.


def test_escapes_in_files_reach_no_terminal(splarn: Splarn, home: Path) -> None:
    bad = home / "in" / "\x1b]0;owned\x07.csv"
    bad.write_text("reading_no,ga\x1b[31muge,\u202elevel\n1,\x1b[2Jx\x9b31m,no\x7f\n2,y,3\n")
    (home / "in" / "a.csv").unlink()
    (home / "in" / "b.csv").unlink()
    for words in (
        ["survey", "in"], ["layout", "in"], ["layout", "in", "--out", "l.json"],
        ["check", "in", "--layout", "l.json"],
        ["load", "in", "--layout", "l.json", "--to", "sqlite:///t.db", "--table", "t\x1b[5m",
         "--bad-rows", "set-aside"], ["survey", "in", "--json"], ["layout", "in", "--json"],
        ["load", "gone\x1b[31m.csv"], ["\x1b[31mfrob"],
    ):  # fmt: skip
        ran = splarn(*words)
        said = (
            re.sub(r"\x1b\[[0-9;]*m", "", ran.out + ran.err) if "--json" not in words else ran.out
        )
        assert not re.search("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e]", said), repr(said)


def test_a_manifest_names_parts_in_its_folder_only(splarn: Splarn, home: Path) -> None:
    assert splarn("shape", "in", "--layout", "layout.json", "--into", "parts").code == 0
    manifest = json.loads((home / "parts" / "datapackage.json").read_text())
    part = manifest["resources"][0]["path"]
    (home / "elsewhere.csv").write_bytes((home / "parts" / part).read_bytes())
    (home / "parts" / "link.csv").symlink_to(home / "elsewhere.csv")
    to = ("--to", "sqlite:///t.db", "--table", "t")
    for name in (
        str(home / "elsewhere.csv"),
        "../elsewhere.csv",
        "x/../../elsewhere.csv",
        "link.csv",
    ):
        manifest["resources"][0]["path"] = name
        (home / "parts" / "datapackage.json").write_text(json.dumps(manifest))
        for words in (["load", "parts", *to], ["check", "parts"], ["ship", "parts", "--to", "d"]):
            ran = splarn(*words)
            assert (ran.code, "not in its folder" in ran.err) == (2, True), ran.err
    assert splarn("load", "parts", *to, "--parts-anywhere").code == 0


# Memory and pipes.


def test_pipes_and_bombs_among_the_sources_stop_nobody(splarn: Splarn, home: Path) -> None:
    os.mkfifo(home / "in" / "pipe.csv")
    with gzip.open(home / "bomb.csv.gz", "wb", compresslevel=1) as file:
        file.write(b"reading_no,gauge,level\n1,x,1\n")
        for _ in range(700):
            file.write(bytes(1 << 20))
        file.write(b"\n2,y,2\n")
    ran = splarn("survey", "in", "--json")
    assert [one["kind"] for one in ran.json["findings"]].count("not-a-file") == 1
    assert splarn(*LOAD).code == 0
    code = (
        "import resource, subprocess, sys;"
        "done = subprocess.run(sys.argv[1:], capture_output=True, text=True);"
        "print(done.returncode, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10);"
        "print(done.stderr[-300:])"
    )
    for words, codes in (
        (["survey", "bomb.csv.gz"], "0"), (["layout", "bomb.csv.gz"], "023"),
        (["check", "bomb.csv.gz", "--layout", "layout.json"], "1"),
        (["shape", "bomb.csv.gz", "--layout", "layout.json", "--into", "p"], "2"),
        (["load", "bomb.csv.gz", "--layout", "layout.json", "--to", "sqlite:///b.db", "--table",
          "b", "--bad-rows", "set-aside"], "0"),
    ):  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", code, sys.executable, "-m", "splarn", *words],
            cwd=home, capture_output=True, text=True, check=True, timeout=120,
        )  # fmt: skip
        ended, memory = done.stdout.split()[:2]
        assert ended in codes, (words, done.stdout)
        assert int(memory) < 400, (words, memory)
        assert "itself failed" not in done.stdout
    assert ask(f"sqlite:///{home / 'b.db'}", "SELECT reading_no FROM b ORDER BY 1") == [(1,), (2,)]


# The ledger.


def test_a_ledger_is_made_by_many_at_once(home: Path) -> None:
    for turn in range(12):
        folder = home / f"l{turn}"
        folder.mkdir()
        code = (
            "import sys; from pathlib import Path; from splarn.core.ledger import Ledger;"
            "one = Ledger(Path(sys.argv[1])); input();"
            "one.put('load', sys.argv[2], 'x', {}); one.close()"
        )
        started = [
            subprocess.Popen([sys.executable, "-c", code, str(folder), str(n)], text=True,
                             stdin=subprocess.PIPE, stderr=subprocess.PIPE)
            for n in range(4)
        ]  # fmt: skip
        for one in started:
            assert one.stdin is not None
            one.stdin.write("\n")
            one.stdin.flush()
        for one in started:
            assert one.communicate(timeout=60)[1] == ""
        assert len(Ledger(folder).entries("load")) == 4
        if turn > 2 and time.monotonic() < 0:
            break


def test_a_ledger_that_is_broken_is_found_before_the_work(splarn: Splarn, home: Path) -> None:
    (home / ".splarn").mkdir()
    (home / ".splarn" / "ledger.sqlite").write_bytes(b"no ledger at all" * 300)
    ran = splarn(*LOAD)
    assert (ran.code, "ledger" in ran.err) == (3, True)
    assert not (home / "t.db").exists() or ask(
        f"sqlite:///{home / 't.db'}", "SELECT count(*) FROM sqlite_master WHERE name = 't'"
    ) == [(0,)]


def test_a_ledger_that_breaks_meanwhile_does_not_make_a_load_a_failure(
    splarn: Splarn, home: Path
) -> None:
    assert splarn(*LOAD, "--json").code == 0
    book = sqlite3.connect(home / ".splarn" / "ledger.sqlite")
    book.execute("CREATE TRIGGER no BEFORE INSERT ON entry BEGIN SELECT raise(ABORT, 'no'); END")
    book.commit()
    book.close()
    readings(home / "in" / "c.csv", 701, 800)
    ran = splarn("load", "in/c.csv", *LOAD[2:], "--table-mode", "append")
    assert (ran.code, "not noted in the ledger" in ran.out) == (0, True), ran.err
    assert ask(f"sqlite:///{home / 't.db'}", "SELECT count(*) FROM t") == [(800,)]


def test_ids_and_times_are_of_one_zone(splarn: Splarn, home: Path) -> None:
    env = {"TZ": "Pacific/Kiritimati"}
    ran = splarn(*LOAD, "--json", env=env)
    shipped = splarn("ship", "in", "--to", "depot", "--json", env=env)
    now = time.strftime("%Y%m%d-%H", time.gmtime())
    before = time.strftime("%Y%m%d-%H", time.gmtime(time.time() - 90))
    for found in (ran.json["load_id"], shipped.json["ship_id"].removeprefix("ship-")):
        assert found[:11] in (now, before)


# The same command again.


def test_the_same_command_ends_well_however_often_it_is_given(splarn: Splarn, home: Path) -> None:
    first = splarn(*LOAD, "--json")
    again = splarn(*LOAD, "--json")
    assert (again.code, again.json["done_before"], again.json["verified"]) == (0, True, True)
    assert again.json["load_id"] == first.json["load_id"]
    assert splarn(*LOAD).out.startswith("Already in")
    listed = splarn("ledger", "--kind", "load", "--json").json["entries"]
    assert [one["seconds"] > 0 for one in listed] == [True]


def test_a_run_is_given_again_and_tidies_up(splarn: Splarn, home: Path) -> None:
    space = ("--part-size", "4KiB", "--codec", "none", "--workers", "1", "--batch-rows", "100")
    to = ("--layout", "layout.json", "--to", "sqlite:///t.db")
    swept = splarn("sweep", "in", *to, "--sample", "8KiB", "--load-streams", "1,2", *space)
    assert swept.code == 0, swept.err
    assert splarn("plan", "in", *to, "--table", "t", "--load-streams", "1,2", *space).code == 0
    first = splarn("run", "plan.json", "--keep-parts", "--json")
    assert first.code == 0, first.err
    parts = list((home / ".splarn" / "parts").rglob("*-0*"))
    assert parts
    again = splarn("run", "plan.json", "--json")
    assert (again.code, again.json["load"]["done_before"]) == (0, True), again.err
    assert not list((home / ".splarn" / "parts").rglob("*-0*"))
    assert ask(f"sqlite:///{home / 't.db'}", "SELECT count(*) FROM t") == [(700,)]


# Sweeps and plans.


def test_sweeps_at_once_do_not_hinder_one_another(splarn: Splarn, home: Path) -> None:
    words = ("sweep", "in", "--layout", "layout.json", "--to", f"sqlite:///{home / 't.db'}",
             "--sample", "8KiB", "--part-size", "4KiB", "--codec", "none", "--load-streams", "1",
             "--workers", "1", "--batch-rows", "50,100", "--repeats", "1", "--json")  # fmt: skip

    def begin(_: int) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-m", "splarn", *words], cwd=home, text=True,
                              capture_output=True, check=False, timeout=120)  # fmt: skip

    with ThreadPoolExecutor(3) as pool:
        ended = list(pool.map(begin, range(3)))
    ids = set()
    for one in ended:
        assert one.returncode == 0, one.stderr
        ids.add(json.loads(one.stdout)["sweep_id"])
    assert len(ids) == 3
    left = ask(f"sqlite:///{home / 't.db'}", "SELECT name FROM sqlite_master WHERE type = 'table'")
    assert left == [("splarn_progress",)]
    assert [path.name for path in home.iterdir() if "claim" in path.name] == []


def test_plans_learn_from_sweeps_of_their_own_target_and_layout(splarn: Splarn, home: Path) -> None:
    space = ("--part-size", "4KiB", "--codec", "none", "--workers", "1", "--batch-rows", "100",
             "--load-streams", "1,2")  # fmt: skip
    own = ("--layout", "layout.json", "--to", "sqlite:///t.db")
    swept = splarn("sweep", "in", *own, "--sample", "8KiB", *space, "--json").json["sweep_id"]
    other = ("--layout", "layout.json", "--to", "duckdb:///o.duckdb", "--table", "t")
    ran = splarn("plan", "in", *other, *space)
    assert (ran.code, "No sweep in the ledger is of this target" in ran.err) == (2, True)
    assert swept in ran.err
    different = json.loads((home / "layout.json").read_text())
    different["schema"]["fields"][2] = {"name": "level", "type": "string"}
    (home / "other.json").write_text(json.dumps(different))
    ran = splarn("plan", "in", "--layout", "other.json", *own[2:], "--table", "t", *space)
    assert ran.code == 2
    named = splarn("plan", "in", *other, *space, "--sweep", swept)
    assert (named.code, "is of the target sqlite" in named.out) == (0, True), named.err
    # One that was broken off does not hide one that ended; another path is the same target.
    Ledger(home).put("sweep", "sweep-zzz", "begun", {
        **Ledger(home).last("sweep").document, "state": "open", "stopped_because": None})  # type: ignore[union-attr]  # fmt: skip
    broken = Ledger(home).find("sweep-zzz").document
    del broken["stopped_because"]
    Ledger(home).put("sweep", "sweep-zzz", "begun", broken)
    found = splarn("forecast", "in", "--layout", "layout.json", "--to", f"sqlite:///{home}/t.db",
                   *space, "--json")  # fmt: skip
    assert found.json["sweep_id"] == swept, found.err


def test_runs_are_compared_and_a_sweep_tells_what_its_levers_do(splarn: Splarn, home: Path) -> None:
    space = ("--part-size", "1KiB..4KiB", "--codec", "none", "--workers", "1", "--batch-rows",
             "100", "--load-streams", "1,2", "--sample", "8KiB")  # fmt: skip
    to = ("in", "--layout", "layout.json", "--to", "sqlite:///t.db")
    dry = splarn("sweep", *to, *space, "--dry", "--json").json
    assert [one["role"] for one in dry["beforehand"]][:2] == ["warm-up", "reference"]
    assert splarn("ledger", "--json").json["entries"] == []
    ids = []
    for strategy in ("adaptive", "star", "grid"):
        given = ("--strategy", strategy, "--repeats", "1", "--regret", "30%", "--json")
        ran = splarn("sweep", *to, *space, *given)
        assert ran.code == 0, ran.err
        ids.append(ran.json["sweep_id"])
        tried = {json.dumps(one["configuration"]) for one in ran.json["trials"]}
        assert len(tried) == {"adaptive": len(tried), "star": 4, "grid": 6}[strategy]
        chance = ran.json["best"]["chance"]
        assert (chance is not None) is (strategy == "adaptive")
        assert (ran.json["regret"]["expected"] is not None) is (strategy == "adaptive")
    compared = splarn("compare", *ids[1:], "--json").json
    found = compared["pairs"][0]
    assert (found["a"], found["b"]) == (ids[1], ids[2])
    assert found["matched_configurations"] == 4
    assert found["ratio"]["low"] <= found["ratio"]["median"] <= found["ratio"]["high"]
    assert [side["name"] for side in compared["sides"]] == ids[1:]
    steps = splarn("compare", ids[2], "--json").json["levers"]
    assert {(one["lever"], one["from"], one["to"]) for one in steps} >= {("load_streams", "1", "2")}
    # The same table, which holds itself to be no slower; a much slower one is told.
    loads = []
    for number in range(2):
        words = ("load", *to[:-1], f"sqlite:///l{number}.db", "--table", "t", "--json")
        loads.append(splarn(*words).json["load_id"])
    book = Ledger(home)
    slow = book.find(loads[1])
    later = {**slow.document, "seconds": 1e3, "phases": dict.fromkeys(slow.document["phases"], 300)}
    book.put("load", "slow-one", "slow", later, seconds=1e3)
    assert splarn("compare", loads[0], loads[0], "--fail-if-slower", "5%").code == 0
    ran = splarn("compare", loads[0], "slow-one", "--fail-if-slower", "5%", "--json")
    assert (ran.code, ran.json["slower"]) == (1, ["slow-one"])
    for words, why in (
        ((loads[0],), "alone cannot be compared"),
        ((loads[0], "nothing"), "no entry"),
        ((loads[0], "slow-one", "--fail-if-slower", "much"), "--fail-if-slower"),
        ((), "ID"),
    ):
        wrong = splarn("compare", *words)
        assert (wrong.code, why.lower() in wrong.err.lower()) == (2, True), wrong.err
    for words, why in (
        (("--strategy", "lucky"), "adaptive, star, grid"),
        (("--load-streams", "4..1"), "--load-streams"),
        (("--money-budget", "1"), "price list"),
    ):
        wrong = splarn("sweep", *to, *space, *words)
        assert (wrong.code, why in wrong.err) == (2, True), wrong.err


def test_what_a_sweep_needs_is_checked_before_its_first_trial(splarn: Splarn, home: Path) -> None:
    (home / "splarn.toml").write_text(
        'prices = "prices.toml"\n[source]\npaths = ["in"]\nlayout = "layout.json"\n'
        '[target]\nurl = "sqlite:///t.db"\n[space]\ntier = ["u1", "u9"]\n'
    )
    (home / "prices.toml").write_text('currency = "c"\n[tiers.u1]\nper_hour = 1.0\n')
    ran = splarn("sweep", "--sample", "8KiB")
    assert (ran.code, "u9" in ran.err) == (2, True)
    assert not (home / ".splarn").exists()
    toml = (home / "splarn.toml").read_text().replace(', "u9"', "")
    (home / "splarn.toml").write_text(toml + '[limits]\ndeadline = "soon"\n')
    ran = splarn("sweep", "--sample", "8KiB")
    assert (ran.code, "'soon'" in ran.err) == (2, True)


def test_a_plan_that_misses_its_limits_does_not_invite(splarn: Splarn, home: Path) -> None:
    own = ("--layout", "layout.json", "--to", "sqlite:///t.db")
    space = ("--part-size", "4KiB", "--codec", "none", "--workers", "1", "--batch-rows", "100",
             "--load-streams", "1,2")  # fmt: skip
    assert splarn("sweep", "in", *own, "--sample", "8KiB", *space).code == 0
    ran = splarn("plan", "in", *own, "--table", "t", *space, "--deadline", "1ms")
    assert ran.code == 1
    assert "none keeps the limits" in ran.out
    assert "carries it out" not in ran.out
    assert not Path("plan.json").exists()
    assert splarn("ledger", "--kind", "plan", "--json").json["entries"] == []
    ran = splarn("plan", "in", *own, "--table", "t", *space, "--deadline", "1ms", "--anyway")
    assert (ran.code, "does not keep the limits" in ran.out) == (1, True)
    (entry,) = splarn("ledger", "--kind", "plan", "--json").json["entries"]
    assert entry["seconds"] is None
    assert "forecast" in entry["summary"]


# Layouts.


@pytest.mark.parametrize(
    ("change", "what"),
    [
        ({"dialect": {"delimeter": ";"}}, r"key dialect\.delimeter.*did you mean delimiter\?"),
        ({"dialect": {"nullSequence": "-"}}, r"dialect\.nullSequence: '-', which Splarn does not"),
        ({"dialect": {"headerRows": [1, 4]}}, "do not follow one another"),
        ({"dialect": {"shortRecords": "maybe"}}, "use fault or fill"),
        ({"dialect": {"doubleQuote": False}}, "doubleQuote: False"),
        ({"schema": {**LAYOUT["schema"], "primaryKey": "reading_no"}}, r"schema\.primaryKey"),
        ({"schema": {"fields": [{"name": "a", "type": "date", "decimalChar": ","}]}},
         "has no mark for decimals"),
        ({"schema": {"fields": [{"name": "a", "categories": ["x"]}]}},
         r"schema\.fields\[1\]\.categories"),
        ({"schema": {"fields": [{"name": "a", "constraints": {"exclusiveMinimum": 1}}]}},
         r"constraints\.exclusiveMinimum"),
        ({"schema": {"fields": [{"name": "a", "constraints": {"requird": True}}]}},
         r"constraints\.requird.*did you mean required\?"),
        ({"colour": "red"}, "key colour, which is not known: known are"),
    ],
)  # fmt: skip
def test_no_key_of_a_layout_is_passed_over(
    splarn: Splarn, home: Path, change: dict[str, Any], what: str
) -> None:
    (home / "layout.json").write_text(json.dumps({**LAYOUT, **change}))
    ran = splarn("check", "in", "--layout", "layout.json")
    assert ran.code == 2
    assert re.search(what, ran.err), ran.err


def test_keys_that_say_what_holds_anyway_are_taken(splarn: Splarn, home: Path) -> None:
    layout = json.loads(json.dumps(LAYOUT))
    layout |= {"title": "Readings", "$schema": "x", "dialect": {"doubleQuote": True,
               "commentChar": None, "csvddfVersion": "1.2", "headerRows": [1]}}  # fmt: skip
    layout["schema"]["fields"][2] |= {"decimalChar": ".", "description": "in metres"}
    (home / "layout.json").write_text(json.dumps(layout))
    assert splarn("check", "in", "--layout", "layout.json").code == 0


# A survey's table, a shipment's sentence.


def test_findings_stand_beside_their_files(splarn: Splarn, home: Path) -> None:
    (home / "in" / "twin.csv").write_bytes((home / "in" / "a.csv").read_bytes())
    ran = splarn("survey", "in")
    line = next(line for line in ran.out.splitlines() if "twin.csv" in line or "a.csv" in line)
    assert "same-content" in ran.out.split("3 files")[0], line
    ran = splarn("ship", "in", "--to", "depot")
    assert "request" not in ran.out


def test_a_depot_over_a_line_says_how_often_it_was_asked(splarn: Splarn, home: Path) -> None:
    (home / "kept").mkdir()
    with served(SimulatedDepot(home / "kept", DepotPhysics())) as url:
        ran = splarn("ship", "in", "--to", f"{url}/x")
    assert "requests" in ran.out, ran.err
