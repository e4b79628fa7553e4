"""Commands on a real cluster: the same results, and every row once whatever ends meanwhile."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import Any

import pytest

import splarn as library
from splarn.core.shape.manifest import read_manifest
from splarn.demo.scenario import Delivery, make_passages
from tests.cluster import LACKS_SPLARN, OTHER_NUMPY, OwnCluster, kill_some
from tests.conftest import Splarn, ask

pytest.importorskip("distributed")


@pytest.fixture(scope="module")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OwnCluster]:
    """Three workers, for tests that end none of them."""
    own = OwnCluster(tmp_path_factory.mktemp("cluster"))
    yield own
    own.close()


@pytest.fixture
def own(tmp_path: Path) -> Iterator[OwnCluster]:
    """Three workers with nannies of a test's own, to be ended at will."""
    made = OwnCluster(tmp_path / "cluster")
    yield made
    made.close()


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> Delivery:
    return make_passages(tmp_path_factory.mktemp("many"), 60_000, seed=31)


def rows_of(url: str, table: str) -> list[tuple[Any, ...]]:
    """All rows, in order."""
    return sorted(ask(url, f"SELECT * FROM {table}"), key=repr)


def parts_of(folder: Path) -> list[tuple[str, str, int]]:
    """What a manifest says of its parts."""
    return [(part.path, part.hash, part.rows) for part in read_manifest(folder).parts]


def test_every_command_does_on_a_cluster_what_it_does_here(
    splarn: Splarn, cluster: OwnCluster, many: Delivery, postgresql: str, tmp_path: Path
) -> None:
    files, at = many.paths, ("--cluster", cluster.address)
    layout = tmp_path / "layout.json"
    assert splarn("layout", *files, "--out", layout).code == 0
    read = ("--layout", layout)
    looked = [splarn("survey", *files, "--exact", *read, "--json", *w).json for w in ((), at)]
    assert looked[0] == looked[1]
    checked = [splarn("check", *files, *read, "--json", *where) for where in ((), at)]
    assert checked[1].json == checked[0].json
    assert checked[1].json["bad"] == len(many.spoiled)

    # One file, its stretches judged wherever there is room, and the same packed.
    whole = tmp_path / "whole.csv"
    with whole.open("wb") as out:
        for number, path in enumerate(files):
            lines = path.read_bytes().splitlines(keepends=True)
            out.writelines(lines if number == 0 else lines[1:])
    subprocess.run(["gzip", "-k", whole], check=True)
    for words in (
        (whole, "--part-size", "256KiB", "--codec", "zstd:1"),
        (whole, "--part-rows", "7_000"),
        (f"{whole}.gz", "--part-size", "300KiB", "--codec", "gzip:1"),
        (*files, "--format", "parquet", "--part-size", "1MiB", "--rejects", tmp_path / "bad"),
    ):
        for folder, where in (("here", ()), ("there", at)):
            # A folder that is there and empty is as good as a new one.
            shutil.rmtree(tmp_path / folder, ignore_errors=True)
            (tmp_path / folder).mkdir()
            made = splarn("shape", *words, *read, "--into", folder, "--verify", *where, "--json")
            assert made.code == 0 and made.json["verified"], made.err
        assert parts_of(tmp_path / "there") == parts_of(tmp_path / "here")

    sent = splarn("ship", "there", "--to", tmp_path / "depot", "--json", *at)
    assert sent.code == 0, sent.err
    parts = {path for path, _, _ in parts_of(tmp_path / "there")}
    assert parts < {path.name for path in (tmp_path / "depot").iterdir()}

    # Into a server and into files, by streams on a cluster and by streams here.
    lake = f"lake:///{tmp_path}/lake"
    for to in (postgresql, lake):
        for table, where in (("here", ()), ("there", at)):
            words = ("load", "there", "--to", to, "--table", table, "--streams", "3", *where)
            loaded = splarn(*words, "--json")
            assert loaded.code == 0 and loaded.json["verified"], loaded.err
        assert rows_of(to, "there") == rows_of(to, "here")
    assert len(rows_of(lake, "there")) == many.good
    digests = [load_digests(splarn, to) for to in (postgresql, lake)]
    assert digests[0] == digests[1]

    merged = splarn("compact", "--to", lake, "--table", "there", *at, "--json")
    assert merged.code == 0 and merged.json["files_after"] == 1, merged.err
    for folder, where in (("out-here", ()), ("out-there", at)):
        back = splarn(
            "unload", "--from", postgresql, "--table", "there", "--into", folder, "--part-rows",
            "9_000", "--json", *where,
        )  # fmt: skip
        assert back.code == 0 and back.json["verified"], back.err
    assert parts_of(tmp_path / "out-there") == parts_of(tmp_path / "out-here")


def load_digests(splarn: Splarn, to: str) -> Any:
    """What a load found of the rows of a table, column by column."""
    told = splarn("load", "there", "--to", to, "--table", "again", "--json").json
    return told["digests"]


def test_functions_of_the_library_do_on_a_cluster_what_they_do_here(
    cluster: OwnCluster, delivery: Delivery, postgresql: str, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    monkeypatch.chdir(tmp_path)
    shutil.copytree(delivery.paths[0].parent, "delivery")
    files = f"delivery/*{delivery.paths[0].suffix}"
    layout = library.infer_layout(files).layout
    aside: Any = {"bad_rows": "5%", "rejects": "bad"}
    told = []
    for where in ("here", "there"):
        with library.cluster(cluster.address) if where == "there" else nullcontext():
            stock = library.survey(files, exact=True)
            checked = library.check(files, layout)
            made = library.shape(files, where, layout=layout, part_size="256KiB", verify=True)
            sent = library.ship(made.manifest, f"{where}-depot", streams=2)
            loaded = library.load(where, postgresql, f"by_{where}", streams=3, **aside)
            assert loaded.verified
            back = library.unload(postgresql, f"{where}-back", table=f"by_{where}")
            lake = library.load(where, "lake:///lake", where, streams=2, **aside)
            merged = library.compact("lake:///lake", table=where)
        told.append((
            stock.rows, checked.bad, parts_of(tmp_path / where), len(sent.files), loaded.digests,
            lake.digests, [part.rows for part in back.manifest.parts], back.differences,
            merged.files_after,
        ))  # fmt: skip
    assert told[0] == told[1]
    space = library.space(part_size=["128KiB", "256KiB"], load_streams=[1, 2, 3])
    with library.cluster(cluster.address, per_machine=2):
        swept = library.sweep(
            files, postgresql, layout=layout, space=space, sample="256KiB", strategy="star",
            ledger="book",
        )  # fmt: skip
        plan = library.plan(files, postgresql, "run", swept, layout=layout, bad_rows="5%")
        ran = library.run(plan, ledger="book", rejects="bad")
    assert ran.load.verified and ran.load.rows_loaded == delivery.good
    # No more than that are at work on the one machine.
    assert all(one.configuration.load_streams <= 2 for one in swept.trials)
    with library.cluster("tcp://127.0.0.1:9"), pytest.raises(library.OutsideError):
        library.check(files, layout)
    with (
        library.cluster(cluster.address),
        pytest.raises(library.RequestError, match="a file that one process writes"),
    ):
        library.load("here", "sqlite:///a.db", "t", **aside)


def test_all_machines_that_share_the_work_are_paid_for(
    splarn: Splarn, many: Delivery, postgresql: str, tmp_path: Path
) -> None:
    (tmp_path / "prices.toml").write_text(
        'currency = "crowns"\nmachine_per_hour = 3600\n[tiers.u1]\nper_hour = 0\n'
    )
    (tmp_path / "splarn.toml").write_text('prices = "prices.toml"\n')
    two = OwnCluster(tmp_path / "two", 0)
    try:
        for host in ("127.0.0.1", "127.0.0.2"):
            two.add(host=host)
        two.await_workers(2)
        load = ("load", *many.paths, "--to", postgresql, "--bad-rows", "set-aside", "--json")
        ship = ("ship", *many.paths, "--to", tmp_path / "depot", "--json")
        for machines, words in (
            (1, (*load, "--table", "alone")),
            (2, (*load, "--table", "shared", "--cluster", two.address)),
            (2, (*ship, "--cluster", two.address)),
        ):
            told = splarn(*words).json
            paid = told["cost"]["machine"]
            assert paid == pytest.approx(machines * told["seconds"], rel=0.3), words
    finally:
        two.close()


def test_secrets_reach_workers_and_nothing_shows_them(
    splarn: Splarn, cluster: OwnCluster, many: Delivery, postgresql: str, tmp_path: Path
) -> None:
    # Roles are the server's: one that a test left behind when it was ended is no hindrance.
    role = f"carrier_{postgresql.rpartition('_')[2]}"
    ask(postgresql, f"CREATE ROLE {role} LOGIN SUPERUSER PASSWORD 'xq7-lantern-9'", rows=False)
    named = postgresql.replace("postgres@", f"{role}:${{LOCK_WORD}}@")
    spelled = postgresql.replace("postgres@", f"{role}:xq7-lantern-9@")
    for table, to in (("named", named), ("spelled", spelled)):
        ran = splarn(
            "load", *many.paths, "--to", to, "--table", table, "--bad-rows", "set-aside",
            "--cluster", cluster.address, env={"LOCK_WORD": "xq7-lantern-9"},
        )  # fmt: skip
        assert ran.code == 0, ran.err
        assert "lantern" not in ran.out + ran.err
    # One that fails on its way tells what failed, and no more.
    gone = splarn(
        "load", *many.paths, "--to", named, "--table", "halted", "--bad-rows", "halt",
        "--cluster", cluster.address, env={"LOCK_WORD": "xq7-lantern-9"},
    )  # fmt: skip
    assert gone.code == 1 and "lantern" not in gone.out + gone.err
    with cluster.client() as client:
        events = repr(client.get_events()) + repr(client.get_worker_logs())
        events += repr(client.get_scheduler_logs())
        held = client.run(lambda: repr(sorted(__import__("os").environ.items())))
    assert "lantern" not in events + repr(held) + cluster.log
    for path in tmp_path.rglob("*"):
        assert not path.is_file() or b"lantern" not in path.read_bytes()


@pytest.mark.parametrize(
    ("worker", "told"),
    [
        ({"before": LACKS_SPLARN}, "it has no Splarn"),
        ({"before": OTHER_NUMPY}, "numpy 1.0.0 in place of"),
    ],
)
def test_a_worker_that_would_not_do_the_same_is_refused(
    splarn: Splarn, many: Delivery, tmp_path: Path, worker: dict[str, Any], told: str
) -> None:
    made = OwnCluster(tmp_path / "cluster", 1)
    try:
        made.add(**worker)
        made.await_workers(2)
        ran = splarn("check", *many.paths, "--cluster", made.address)
        assert ran.code == 2
        assert told in ran.err
        assert "Traceback" not in ran.err
    finally:
        made.close()


def test_a_worker_that_comes_late_without_the_package_gets_nothing_to_do(
    own: OwnCluster, many: Delivery, postgresql: str, tmp_path: Path
) -> None:
    process = begin(tmp_path, many, postgresql, "late", own, "--batch-rows", "200")
    await_rows(postgresql, "late")
    own.add(before=LACKS_SPLARN)
    own.await_workers(4)
    assert ended(process)["verified"]
    assert len(rows_of(postgresql, "late")) == many.good


def test_what_only_this_machine_has_is_refused(
    splarn: Splarn, many: Delivery, tmp_path: Path, postgresql: str
) -> None:
    apart = ("unshare", "--mount", "--propagation", "private", "sh", "-c")
    if subprocess.run([*apart, "true"], check=False, capture_output=True).returncode:
        pytest.skip("a worker with a view of its own of the disk needs more rights")
    hidden, into = tmp_path / "mine", tmp_path / "parts"
    shutil.copytree(many.paths[0].parent, hidden)
    made = OwnCluster(tmp_path / "cluster", 0)
    try:
        for folder in (hidden, into):
            folder.mkdir(exist_ok=True)
        blind = (*apart, f'mount -t tmpfs none {hidden} && exec "$@"', "sh")
        made.add(around=blind)
        made.await_workers(1)
        files = sorted(hidden.glob("*.csv"))
        at = ("--cluster", made.address)
        ran = splarn("check", *files, *at)
        assert ran.code == 2
        assert "does not see" in ran.err and "shared folder" in ran.err
        # What is to be written is looked at just as what is read.
        ran = splarn("shape", *many.paths, "--into", hidden / "parts", *at)
        assert ran.code == 2 and "does not see the folder" in ran.err
        assert not list(hidden.glob(".*"))
        ran = splarn("load", *many.paths, "--to", f"sqlite:///{into}/x.db", "--table", "t", *at)
        assert ran.code == 2 and "one process writes" in ran.err
        # With one that sees it, the other is left out and named.
        made.add()
        made.await_workers(2)
        ran = splarn("check", *files, *at, "--json")
        assert ran.json["rows"] == many.rows
        assert "1 of 2 workers are left out" in ran.err
    finally:
        made.close()


def test_a_part_that_takes_more_memory_than_a_worker_has_ends_in_one_sentence(
    splarn: Splarn, tmp_path: Path
) -> None:
    made = OwnCluster(tmp_path / "cluster", 2, memory="400MB")
    large = tmp_path / "large.csv"
    with large.open("w") as file:
        file.write("passage,remark\n")
        file.writelines(f"{number},{'barge-' * 40}{number}\n" for number in range(900_000))
    try:
        ran = splarn(
            "shape", large, "--into", "parts", "--format", "parquet", "--part-size", "1GiB",
            "--sort-by", "remark", "--cluster", made.address,
        )  # fmt: skip
        assert ran.code == 3, ran.out
        assert "out of memory" in ran.err and "Traceback" not in ran.err
        assert not list((tmp_path / "parts").glob("*.parquet"))
        # The others are as they were.
        ran = splarn("check", large, "--cluster", made.address, "--json")
        assert ran.json["good"] == 900_000, ran.err
    finally:
        made.close()


def await_rows(to: str, table: str) -> None:
    """Returns once a load has brought some rows in."""
    until = time.monotonic() + 60
    while time.monotonic() < until:
        with suppress(Exception):
            if ask(to, f"SELECT count(*) FROM {table}")[0][0]:
                return
        time.sleep(0.05)
    pytest.fail(f"no row of {table} came in")


def begin(
    home: Path, delivery: Delivery, to: str, table: str, cluster: OwnCluster, *more: str
) -> subprocess.Popen[str]:
    words = [
        "load", *map(str, delivery.paths), "--to", to, "--table", table, "--streams", "3",
        "--bad-rows", "set-aside", "--cluster", cluster.address, "--json", *more,
    ]  # fmt: skip
    return subprocess.Popen(
        [sys.executable, "-m", "splarn", *words], cwd=home, text=True, start_new_session=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip


def ended(process: subprocess.Popen[str]) -> dict[str, Any]:
    out, err = process.communicate(timeout=170)
    assert process.returncode == 0, (out, err)
    return dict(json.loads(out))


@pytest.mark.parametrize("kind", ["postgresql", "lake"])
def test_every_row_comes_once_whoever_is_killed(
    own: OwnCluster, many: Delivery, kind: str, postgresql: str, tmp_path: Path
) -> None:
    to = postgresql if kind == "postgresql" else f"lake:///{tmp_path}/lake"
    chance = random.Random(17)
    wanted = many.good
    for number in range(2):
        table = f"killed_{number}"
        batch = ("--batch-rows", str(chance.choice([0, 300, 2_000])))
        # Workers end at random while the same client goes on.
        process = begin(tmp_path, many, to, table, own, *batch)
        time.sleep(chance.uniform(1.2, 3.0))
        kill_some(own, chance)
        kill_some(own, chance)
        if number:
            # The client ends too, while workers are at what it gave them; the next one goes on.
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
            process = begin(tmp_path, many, to, table, own, *batch)
        told = ended(process)
        assert told["verified"]
        found = ask(to, f"SELECT count(*), count(DISTINCT passage_no) FROM {table}")
        assert tuple(found[0]) == (wanted, wanted)


def test_two_clients_at_once_and_a_scheduler_that_is_gone(
    own: OwnCluster, many: Delivery, postgresql: str, tmp_path: Path
) -> None:
    both = [begin(tmp_path, many, postgresql, f"side_{n}", own) for n in range(2)]
    for number, process in enumerate(both):
        assert ended(process)["verified"]
        assert len(rows_of(postgresql, f"side_{number}")) == many.good
    # Of two that load the same into one table, one does it and the other is told so.
    both = [begin(tmp_path, many, postgresql, "one", own) for _ in range(2)]
    ends = [process.communicate(timeout=170) for process in both]
    codes = sorted(process.returncode for process in both)
    assert codes[0] == 0 and codes[1] in (0, 3), ends
    assert len(rows_of(postgresql, "one")) == many.good

    process = begin(tmp_path, many, postgresql, "gone", own, "--batch-rows", "200")
    time.sleep(2.0)
    own.kill(own.scheduler)
    _, err = process.communicate(timeout=170)
    assert process.returncode in (0, 3), err
    assert "Traceback" not in err
    for worker in own.processes:
        own.kill(worker)
    own.begin_scheduler()
    for _ in range(2):
        own.add()
    own.await_workers(2)
    assert ended(begin(tmp_path, many, postgresql, "gone", own))["verified"]
    assert len(rows_of(postgresql, "gone")) == many.good
