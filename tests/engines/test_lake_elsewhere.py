"""Lakes elsewhere and among others: stores, catalogs over HTTP, other writers, other machines."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from pyiceberg.catalog.sql import SqlCatalog

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.compaction import CompactRequest, compact
from splarn.core.layout.descriptor import write_layout
from splarn.core.load import load, undo
from splarn.core.work.pool import Inline
from splarn.engines import open_engine, opener
from splarn.engines.lake.catalog import LakeCatalog
from splarn.engines.lake.metadata import store_settings
from splarn.engines.sql.claims import MachineClaims
from tests.conftest import Splarn, ask
from tests.engines.lives import GAUGES, digests, readings, request, run
from tests.engines.rest_catalog import served
from tests.engines.test_lake import MONTHS, Killed, files_of, kill, table_of

# What is killed leaves files open.
pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")


def test_other_writers_are_waited_for_and_kept(
    lake: str, table: str, files: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Somebody else commits at the very moment, by the library alone."""
    run(lake, table, files[0])
    carry_out, others = LakeCatalog._carry_out, []

    def beside(self: LakeCatalog, found: Any, change: Any) -> None:
        if change.files_change and len(others) < 3:
            theirs = table_of(lake, table)
            row = theirs.scan(limit=1).to_arrow()
            theirs.append(row)
            others.append(row)
        carry_out(self, found, change)

    monkeypatch.setattr(LakeCatalog, "_carry_out", beside)
    record = run(lake, table, files[1], table_mode="append")
    monkeypatch.undo()
    assert len(others) == 3
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(1303,)]
    assert undo(opener(lake), record.load_id).rows_removed == 900
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(403,)]
    # What others did to the load's own rows is seen.
    again = run(lake, table, files[1], table_mode="append", again=True)
    table_of(lake, table).delete("reading_no = 1200")
    with pytest.raises(RequestError, match="900 rows are there as it left them"):
        undo(opener(lake), again.load_id)


def test_loads_of_many_tables_and_at_once_are_all_in(lake: str, table: str, tmp_path: Path) -> None:
    parts = [readings(tmp_path / f"{n}.csv", 1 + n * 100, 100 + n * 100) for n in range(6)]
    run(lake, table, parts[0], levers=MONTHS)
    failures: list[BaseException] = []

    def one(path: Path) -> None:
        try:
            run(lake, table, path, table_mode="append")
        except BaseException as error:
            failures.append(error)

    threads = [threading.Thread(target=one, args=(path,)) for path in parts[1:]]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert failures == []
    asked = ask(lake, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}")
    assert asked == [(600, 600)]


@pytest.mark.no_cover
def test_a_warehouse_in_a_store_holds_the_same(
    s3: str, table: str, files: tuple[Path, Path], tmp_path: Path
) -> None:
    lake = f"lake:///{tmp_path}/lake?warehouse={s3}/w"
    first = run(lake, table, files[0], levers=MONTHS)
    before = digests(lake, table)
    second = run(lake, table, files[1], table_mode="append")
    record = compact(CompactRequest(opener(lake), table))
    assert (record.verified, record.plan.files, record.files_after) == (True, 18, 9)
    # Another reader, which has only what the catalog tells it.
    catalog = SqlCatalog("splarn", uri=f"sqlite:///{tmp_path}/lake/catalog.db", **store_settings())
    rows = catalog.load_table(("main", table)).scan().to_arrow()
    catalog.close()
    assert (len(rows), len(rows.column("reading_no").unique())) == (1300, 1200)
    assert undo(opener(lake), second.load_id).rows_removed == 900
    assert digests(lake, table) == before
    assert undo(opener(lake), first.load_id).rows_removed == 400
    assert not list((tmp_path / "lake").glob("*/"))


@pytest.mark.no_cover
def test_a_catalog_over_http_keeps_the_same_promises(
    table: str, files: tuple[Path, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("LARKMERE_TOKEN", "quiet-water")
    with served(tmp_path, "quiet-water") as (port, catalog):
        lake = f"lake+rest://:${{LARKMERE_TOKEN}}@127.0.0.1:{port}?warehouse={tmp_path}/w"
        assert "quiet" not in open_engine(lake).place
        first = run(lake, table, files[0], levers=MONTHS)
        before = digests(lake, table)
        record = run(lake, table, files[1], table_mode="replace")
        assert undo(opener(lake), record.load_id).rows_restored == 400
        wanted = request(lake, table, files[1], table_mode="append")
        for after in itertools.count(step=4):
            with monkeypatch.context() as patch:
                kill(patch, after, landed=True)
                try:
                    record = load(wanted, Inline())
                    break
                except Killed:
                    pass
        assert record.verified is True
        assert compact(CompactRequest(opener(lake), table)).files_after == 9
        rows = catalog.inner.load_table(("main", table)).scan().to_arrow()
        assert len(rows) == 1300
        undo(opener(lake), record.load_id)
        assert digests(lake, table) == before
        undo(opener(lake), first.load_id)
        assert catalog.commits > 5
        wrong = lake.replace("${LARKMERE_TOKEN}", "other")
        with pytest.raises(OutsideError, match="no token") as refused:
            run(wrong, table, files[0])
        assert "other" not in str(refused.value).replace("another", "")
    with pytest.raises(OutsideError, match="failed"):
        run(lake, table, files[0])


@pytest.mark.no_cover
def test_the_same_load_of_two_machines_is_in_once(
    lake: str, table: str, files: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Locks are of one machine; without them the commit alone keeps two loaders apart."""
    for name in ("claim", "take_turn"):
        monkeypatch.setattr(MachineClaims, name, lambda self, what: True)
    run(lake, table, files[0], levers=MONTHS)
    wanted = request(lake, table, files[1], table_mode="append")
    carry_out, others = LakeCatalog._carry_out, list[Any]()

    def meanwhile(what: Callable[[str], Any]) -> None:
        def beside(self: LakeCatalog, found: Any, change: Any) -> None:
            if change.add and not others:
                others.append("begins")
                (load_id,) = change.notes
                others.append(what(load_id))
            carry_out(self, found, change)

        others.clear()
        monkeypatch.setattr(LakeCatalog, "_carry_out", beside)

    meanwhile(lambda load_id: load(wanted, Inline()))
    with pytest.raises(OutsideError, match="Another loader is at work"):
        load(wanted, Inline())
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(1300,)]
    assert load(wanted, Inline()).done_before
    undo(opener(lake), others[1].load_id)
    # One takes back what the other is about to commit.
    meanwhile(lambda load_id: undo(opener(lake), load_id))
    with pytest.raises(OutsideError, match=r"Another loader|is gone|failed"):
        load(request(lake, table, files[1], table_mode="append"), Inline())
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(400,)]
    assert run(lake, table, files[1], table_mode="append").rows_loaded == 900
    assert ask(lake, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}") == [(1300, 1200)]


@pytest.mark.no_cover
def test_sweeps_try_layouts_and_plans_carry_them_out(splarn: Splarn, tmp_path: Path) -> None:
    lake = f"lake:///{tmp_path}/lake"
    (tmp_path / "in").mkdir()
    readings(tmp_path / "in" / "a.csv", 1, 4000)
    words = [
        "--to",
        lake,
        "--layout",
        "layout.json",
        "--load-streams",
        "1",
        "--part-size",
        "8KiB,16KiB",
    ]
    write_layout(GAUGES, tmp_path / "layout.json")
    swept = splarn("sweep", "in/a.csv", *words, "--file-layout", "plain,month(day) sort(level)",
                   "--sample", "16KiB", "--strategy", "grid", "--repeats", "1", "--json",
                   "--batch-rows", "0", "--codec", "none", "--workers", "1")  # fmt: skip
    tried = {trial["configuration"]["file_layout"] for trial in swept.json["trials"]}
    assert tried == {"plain", "month(day) sort(level)"}
    # Nothing of a trial is left.
    left = [path for path in (tmp_path / "lake").rglob("*") if path.is_file()]
    assert [path.name for path in left] == ["catalog.db"]
    planned = splarn("plan", "in/a.csv", *words, "--table", "gauges", "--file-layout",
                     "month(day) sort(level)", "--json")  # fmt: skip
    assert planned.code == 0, planned.err
    ran = splarn("run", "plan.json", "--json").json
    assert (ran["load"]["verified"], ran["load"]["rows_loaded"]) == (True, 4000)
    assert all(path.parent.name.startswith("day_month=") for path in files_of(lake, "gauges"))
    assert splarn("undo", ran["load"]["load_id"], "--to", lake, "--yes").code == 0
