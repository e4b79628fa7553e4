"""Loads that are killed, cut off or starved of disk, then given again: every row once."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pymysql
import pytest

from splarn.core.errors import OutsideError
from splarn.core.reading.faults import read_rejects
from splarn.demo.scenario import Delivery, make_passages
from splarn.engines import open_engine
from tests.conftest import SERVERS_REQUIRED, ask
from tests.servers import OwnPostgresql, fill, mount_small, unmount

# Of each of four engines: more than fifty in all.
KILLS = 6
WAYS = [
    ["--table-mode", "append"],
    ["--table-mode", "replace", "--yes"],
    ["--table-mode", "empty", "--yes", "--route", "landing", "--no-keep-old"],
    ["--table-mode", "empty", "--yes", "--indexes", "rebuild", "--no-keep-old"],
]


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> Delivery:
    return make_passages(tmp_path_factory.mktemp("many"), 30_000, seed=23)


class Loader:
    """The same load command, given again and again in one folder."""

    def __init__(self, home: Path, delivery: Delivery, target: str, table: str) -> None:
        self.home, self.target, self.table = home, target, table
        self.delivery = delivery
        layout = home / "layout.json"
        if not layout.exists():
            words = ["layout", *map(str, delivery.paths), "--out", str(layout)]
            subprocess.run([sys.executable, "-m", "splarn", *words], check=True, cwd=home)
        self.words = [
            "load", *map(str, delivery.paths), "--layout", str(layout), "--to", target,
            "--table", table, "--streams", "2", "--batch-rows", "150", "--bad-rows", "set-aside",
        ]  # fmt: skip

    def begin(self, *more: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-m", "splarn", *self.words, "--json", *more],
            cwd=self.home,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )

    def end(self, *more: str) -> dict[str, Any]:
        """Gives the command once more and lets it end well."""
        process = self.begin(*more)
        out, err = process.communicate(timeout=150)
        assert process.returncode == 0, (out, err)
        return dict(json.loads(out))

    def rows_in(self) -> int:
        """Rows that are noted as in, whatever table they lie in; -1 where that cannot be seen."""
        try:
            session = open_engine(self.target).connect()
        except OutsideError:
            return -1
        try:
            loads = [
                note.load_id for note in session.notes.loads(self.table) if note.state == "open"
            ]
            return sum(part.rows for part in session.notes.parts(loads))
        except OutsideError:
            return -1
        finally:
            session.close()

    def in_the_middle(self, *more: str) -> subprocess.Popen[str]:
        """A load that has brought some rows in."""
        process = self.begin(*more)
        seen = 0
        while process.poll() is None and seen <= 0:
            time.sleep(0.02)
            seen = self.rows_in()
        assert process.poll() is None, process.communicate()
        return process

    def check(self) -> None:
        counted = ask(self.target, f"SELECT count(*), count(DISTINCT passage_no) FROM {self.table}")
        assert counted == [(self.delivery.good, self.delivery.good)]


def failed(process: subprocess.Popen[str]) -> str:
    """The error of a load that something outside broke off."""
    out, err = process.communicate(timeout=120)
    assert process.returncode == 3, (process.returncode, out, err)
    assert "Traceback" not in err
    return str(json.loads(out)["error"])


def test_a_load_killed_at_random_moments_ends_in_the_exact_rows(
    tmp_path: Path, many: Delivery, target: str, table: str
) -> None:
    loader = Loader(tmp_path, many, target, table)
    chance = random.Random(len(target))
    killed = way = 0
    while killed < KILLS or way == 0:
        words = WAYS[way % len(WAYS)]
        way += 1
        while killed < KILLS:
            process = loader.begin(*words)
            try:
                out, err = process.communicate(timeout=chance.uniform(0.8, 1.9))
            except subprocess.TimeoutExpired:
                os.killpg(process.pid, signal.SIGKILL)
                process.communicate()
                killed += 1
                continue
            assert process.returncode == 0, (out, err)
            break
        else:
            loader.end(*words)
        loader.check()
        if way == 1:
            refused = [
                (Path(fault.path).name, fault.row)
                for path in (tmp_path / "rejects").rglob("*.jsonl")
                for fault in read_rejects(path)
            ]
            assert sorted(refused) == sorted((one.file, one.row) for one in many.spoiled)
    # The same content is known to be in, however often its load was broken off.
    process = loader.begin("--table-mode", "append")
    out, _ = process.communicate()
    assert (process.returncode, json.loads(out)["done_before"]) == (0, True)


def test_an_interrupted_load_says_how_to_go_on(
    tmp_path: Path, many: Delivery, target: str, table: str
) -> None:
    if target.startswith("duckdb"):
        pytest.skip("no other process can see how far a load into DuckDB is")
    loader = Loader(tmp_path, many, target, table)
    process = loader.in_the_middle()
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "goes on" in json.loads(out)["error"]
    assert "Traceback" not in err
    assert 0 < loader.rows_in() < many.good
    done = loader.end()
    assert (done["resumed"], done["verified"]) == (True, True)
    loader.check()


def test_two_terminals_with_the_same_load_bring_each_row_once(
    tmp_path: Path, many: Delivery, target: str, table: str
) -> None:
    if target.startswith("duckdb"):
        pytest.skip("DuckDB itself lets only one process open the file")
    loader = Loader(tmp_path, many, target, table)
    pair = [loader.begin(), loader.begin()]
    ended = [process.communicate(timeout=120) for process in pair]
    codes = sorted(process.returncode for process in pair)
    assert codes[0] == 0, ended
    answers = [json.loads(out) for out, _ in ended]
    if codes[1]:
        (other,) = (one for one in answers if "error" in one)
        assert (codes[1], "another Splarn" in other["error"]) == (3, True), ended
    else:
        # The second came when the first was through, and looked.
        assert sorted(one["done_before"] for one in answers) == [False, True]
    loader.check()


CUTS = {
    "postgresql": "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity "
    "WHERE datname = current_database() AND pid <> pg_backend_pid()",
    "mariadb": "SELECT id FROM information_schema.processlist "
    "WHERE db = database() AND id <> connection_id()",
}


@pytest.mark.parametrize("kind", ["postgresql", "mariadb"])
def test_a_load_whose_connections_are_cut_goes_on(
    tmp_path: Path, many: Delivery, table: str, kind: str, request: pytest.FixtureRequest
) -> None:
    target = str(request.getfixturevalue(kind))
    loader = Loader(tmp_path, many, target, table)
    process = loader.in_the_middle()
    # Held, so that it does not end while its connections are looked up.
    os.killpg(process.pid, signal.SIGSTOP)
    found = ask(target, CUTS[kind])
    if kind == "mariadb":
        for (number,) in found:
            with suppress(pymysql.err.OperationalError):  # Some end by themselves.
                ask(target, f"KILL {number}", rows=False)
    os.killpg(process.pid, signal.SIGCONT)
    error = failed(process)
    # A stream that begins then finds no server; one at work is cut off.
    assert "cannot be reached" in error or "same command" in error
    assert 0 < loader.rows_in() < many.good
    done = loader.end()
    assert (done["resumed"], done["verified"]) == (True, True)
    loader.check()


@pytest.mark.parametrize(
    "words",
    [[], ["--durability", "relaxed"], ["--durability", "none", "--route", "landing"]],
    ids=["full", "relaxed", "none"],
)
def test_a_load_whose_server_crashes_goes_on_when_it_is_back(
    tmp_path: Path, many: Delivery, table: str, own_postgresql: OwnPostgresql, words: list[str]
) -> None:
    loader = Loader(tmp_path, many, own_postgresql.url, table)
    process = loader.in_the_middle(*words)
    own_postgresql.crash()
    error = failed(process)
    # A stream that begins then finds no server; one at work is cut off.
    assert "cannot be reached" in error or "same command" in error
    own_postgresql.start()
    if words:
        left = ask(own_postgresql.url, "SELECT relname FROM pg_class WHERE relpersistence = 'u'"
                   " AND relkind = 'r'")  # fmt: skip
        assert all(ask(own_postgresql.url, f"SELECT count(*) FROM {n}") == [(0,)] for (n,) in left)
    done = loader.end(*words)
    assert (done["resumed"], done["verified"]) == (True, True)
    loader.check()


@contextmanager
def small_disk(folder: Path) -> Iterator[None]:
    """A disk of its own under a folder."""
    if not mount_small(folder):
        if SERVERS_REQUIRED:
            pytest.fail("no tmpfs can be mounted")
        pytest.skip("no tmpfs can be mounted without more rights")
    try:
        yield
    finally:
        unmount(folder)


@pytest.mark.parametrize("kind", ["sqlite", "duckdb", "postgresql"])
def test_a_load_that_fills_the_disk_goes_on_when_there_is_more(
    tmp_path: Path, many: Delivery, table: str, kind: str, request: pytest.FixtureRequest
) -> None:
    # PostgreSQL's own user must be able to reach it.
    place = Path("/tmp") / f"splarn-{table}" if kind == "postgresql" else tmp_path / "disk"
    with small_disk(place):
        if kind == "postgresql":
            own: OwnPostgresql = request.getfixturevalue("own_postgresql")
            target = own.database_at(place / "space", f"small_{table}")
        else:
            target = f"{kind}:///{place / 'target.db'}"
        filler = fill(place, 1_200_000)
        loader = Loader(tmp_path, many, target, table)
        error = failed(loader.begin())
        assert "free some space" in error, error
        filler.unlink()
        before = loader.rows_in()
        done = loader.end()
        assert done["resumed"] or not before
        assert done["verified"]
        loader.check()
        if kind == "postgresql":
            own.drop_database(f"small_{table}")
    if kind == "postgresql":
        place.rmdir()
