"""The load commands as their users give them: modes, levers, taking back, the live view."""

from __future__ import annotations

import os
import pty
import re
import subprocess
import sys
from pathlib import Path

import pytest

from splarn.demo.scenario import Delivery
from tests.conftest import Splarn, ask


@pytest.fixture
def loading(splarn: Splarn, delivery: Delivery, tmp_path: Path) -> list[str]:
    """The words that load the delivery into a file here."""
    splarn("layout", *delivery.paths, "--out", "layout.json")
    return [
        "load", *map(str, delivery.paths), "--layout", "layout.json", "--to", "sqlite:///a.db",
        "--table", "passages", "--bad-rows", "set-aside",
    ]  # fmt: skip


def test_a_load_is_replaced_taken_back_and_noted(
    splarn: Splarn, loading: list[str], delivery: Delivery
) -> None:
    first = splarn(*loading, "--json").json
    few = [*loading[:1], str(delivery.paths[0]), *loading[len(delivery.paths) + 1 :]]
    refused = splarn(*few, "--table-mode", "replace", "--json")
    assert (refused.code, "give --yes" in refused.json["error"]) == (2, True)
    second = splarn(*few, "--table-mode", "replace", "--yes", "--route", "landing")
    assert second.code == 0
    (load_id,) = re.findall(r"Load (\S+): ", second.out)
    kept = re.search(r"kept in (passages_before_\w+)", second.out)
    assert kept is not None
    unsure = splarn("undo", load_id, "--to", "sqlite:///a.db")
    assert (unsure.code, "give --yes to agree" in unsure.err) == (2, True)
    assert f"puts the table with {delivery.good:,} rows back" in unsure.err
    done = splarn("undo", load_id, "--to", "sqlite:///a.db", "--yes", "--json").json
    assert done["rows_restored"] == delivery.good
    assert done["what"].startswith("put the table with")
    again = splarn("undo", first["load_id"][:-1], "--to", "sqlite:///a.db", "--yes")
    assert "removed the table passages" in again.out
    entries = splarn("ledger", "--kind", "undo", "--json").json["entries"]
    assert [entry["parent"] for entry in entries] == [load_id, first["load_id"]]
    wrong = splarn("undo", "1999", "--to", "sqlite:///a.db")
    assert (wrong.code, "notes no load 1999" in wrong.err) == (2, True)


def test_levers_are_swept_and_those_an_engine_lacks_refused(
    splarn: Splarn, loading: list[str], delivery: Delivery, tmp_path: Path
) -> None:
    splarn(*loading)
    ask(f"sqlite:///{tmp_path / 'a.db'}", "CREATE INDEX by_lock ON passages (lock_code)", False)
    (tmp_path / "splarn.toml").write_text(
        f'[source]\npaths = ["{delivery.paths[0].parent}/*.csv"]\nlayout = "layout.json"\n'
        '[target]\nurl = "sqlite:///a.db"\ntable = "passages"\n'
        '[space]\npart_size = ["256KiB"]\ncodec = ["none"]\nload_streams = [1]\n'
        'batch_rows = [5000]\ndurability = ["full", "relaxed"]\nroute = ["straight", "landing"]\n'
        'indexes = ["keep", "rebuild"]\n'
    )
    ran = splarn("sweep", "--sample", "256KiB", "--strategy", "grid", "--repeats", "1", "--json")
    assert ran.code == 0, ran.err
    tried = {
        (c["durability"], c["indexes"], c["route"])
        for c in (trial["configuration"] for trial in ran.json["trials"])
    }
    assert len(tried) == 8
    # Trials had a table with the same index, and left nothing behind.
    left = ask(f"sqlite:///{tmp_path / 'a.db'}", "SELECT name FROM sqlite_master ORDER BY 1")
    assert not [name for (name,) in left if "trial" in name]
    planned = splarn("plan", "--json").json["configuration"]
    assert (planned["durability"], planned["indexes"], planned["route"]) in tried
    lacking = splarn("sweep", "--durability", "none", "--route", "landing")
    assert (lacking.code, "SQLite lacks durability none" in lacking.err) == (2, True)
    alone = splarn("sweep", "--durability", "none", "--route", "straight")
    assert (alone.code, "give --route landing" in alone.err) == (2, True)
    unknown = splarn("load", "--route", "scenic", "--again")
    assert (unknown.code, "--route: the route 'scenic' is not known" in unknown.err) == (2, True)


def test_a_terminal_shows_each_stream(splarn: Splarn, loading: list[str], tmp_path: Path) -> None:
    main, side = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "splarn", *loading, "--streams", "2", "--batch-rows", "100"],
        cwd=tmp_path,
        env={**os.environ, "TERM": "xterm", "COLUMNS": "120", "LINES": "40"},
        stdin=side,
        stdout=side,
        stderr=side,
    )
    os.close(side)
    seen = b""
    while True:
        try:
            block = os.read(main, 65536)
        except OSError:
            break
        if not block:
            break
        seen += block
    os.close(main)
    assert process.wait() == 0
    plain = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", seen.decode())
    assert re.search(r"stream 1 +[\d,]+ rows", plain)
    assert re.search(r"stream 2 .*passages-0\d\.csv", plain)
    assert re.search(r"load .* rows, [\d.]+ MB/s", plain)
    assert "verify" in plain
    # Nothing of it under --json, or where nobody looks.
    quiet = splarn(*loading, "--again", "--table-mode", "append")
    assert "stream 1" not in quiet.out + quiet.err
