"""A table that goes from one engine into another in one flow, whatever breaks off."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import pytest

from splarn.core.errors import RequestError
from splarn.core.load.undo import undo
from splarn.core.run.flow import RunRecord
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.source.codecs import Packing
from splarn.core.target.outgoing import Wanted
from splarn.core.unload import UnloadRequest
from splarn.depots.landing import DepotLanding
from splarn.engines import identity, opener
from tests.cli.plans import plan_of
from tests.conftest import Splarn, also, ask
from tests.engines.gauges import count
from tests.engines.gauges import run as load_gauges
from tests.engines.test_flow import broken_off, carry_out, plan_for
from tests.engines.test_unload import filled

# Each engine gets the rows of another one.
FROM = {"sqlite": "postgresql", "duckdb": "mariadb", "postgresql": "lake", "mysql": "sqlite",
        "mariadb": "sqlite", "lake": "duckdb"}  # fmt: skip
ROWS = 3000


@pytest.fixture
def origin(request: pytest.FixtureRequest, target: str, tmp_path: Path) -> str:
    """The URL of another engine than the target."""
    kind = FROM[target.partition(":")[0].partition("+")[0]]
    if kind in ("sqlite", "duckdb", "lake"):
        return f"{kind}:///{tmp_path / 'origin'}.{kind}"
    return str(request.getfixturevalue(kind))


def moving(origin: str, table: str, folder: Path) -> UnloadRequest:
    # The plan says how parts are made.
    output = PartsFormat("csv", Packing(), 1)
    return UnloadRequest(opener(origin), identity(origin), Wanted(table), folder, output)


@also("lake")
@pytest.mark.parametrize("lost", ["nothing", "all"])
def test_a_table_goes_over_once_whatever_breaks_off(
    target: str, origin: str, table: str, tmp_path: Path, lost: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    digests = filled(tmp_path, origin, f"{table}_from", ROWS)
    by_way = lost == "all"
    plan = plan_for(target, table, [], part_size=20_000, format="jsonl" if by_way else "csv",
                    transfer_streams=2 if by_way else 0)  # fmt: skip
    folder = tmp_path / "parts" / plan.id

    def run(**more: Any) -> RunRecord:
        landing = DepotLanding(str(tmp_path / "depot"), plan.id) if by_way else None
        asked = moving(origin, f"{table}_from", folder)
        return carry_out(plan, tmp_path, moving=asked, landing=landing, **more)

    broken_off(monkeypatch, 2, run, KeyboardInterrupt)
    if lost == "all":
        shutil.rmtree(folder)
    record = run()
    assert (record.load.rows_loaded, record.load.verified, record.resumed) == (ROWS, True, True)
    assert record.moved is not None
    assert (record.moved.rows, record.moved.verified, record.moved.differences) == (ROWS, True, ())
    assert len(record.load.parts) > 4
    # What is forecast of files, and learnt of them, is not said of a table.
    assert (record.error_pct, record.trial) == (None, None)
    assert count(target, table) == ROWS
    assert [one.__dict__ for one in record.load.digests] == [one.__dict__ for one in digests]
    assert not folder.exists()
    again = run()
    assert again.load.done_before is True
    assert count(target, table) == ROWS
    assert undo(opener(target), record.load.load_id).rows_removed == ROWS


def test_a_table_that_changed_meanwhile_is_not_gone_on_with(
    postgresql: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    origin = f"sqlite:///{tmp_path / 'origin.db'}"
    filled(tmp_path, origin, "odd", ROWS)
    plan = plan_for(postgresql, table, [], part_size=20_000)
    folder = tmp_path / "parts" / plan.id

    def run() -> RunRecord:
        return carry_out(plan, tmp_path, moving=moving(origin, "odd", folder))

    broken_off(monkeypatch, 2, run, KeyboardInterrupt)
    there = count(postgresql, table)
    ((first, value),) = ask(origin, "SELECT min(no), max(no) FROM odd")
    ask(origin, f"UPDATE odd SET no = {value + 1} WHERE no = {first}", False)
    with pytest.raises(RequestError, match="bring back what it began with"):
        run()
    assert count(postgresql, table) == there
    ask(origin, f"UPDATE odd SET no = {first} WHERE no = {value + 1}", False)
    record = run()
    assert (count(postgresql, table), record.load.verified) == (ROWS, True)


def test_a_plan_moves_a_table_by_the_command(
    tmp_path: Path, splarn: Splarn, postgresql: str, table: str
) -> None:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "a.csv").write_text("1,LK-1,2.50,2031-01-01\n")
    assert splarn("layout", "in", "--out", "layout.json").code == 0
    rows = [f"{n},LK-{n % 9},{n / 4:.2f},2031-01-0{n % 9 + 1}\n" for n in range(1, 901)]
    (tmp_path / "b.csv").write_text("reading_no,gauge,level,day\n" + "".join(rows))
    load_gauges("sqlite:///" + str(tmp_path / "a.db"), "gauges", tmp_path / "b.csv")
    plan = plan_of(tmp_path, ["in/*.csv"], postgresql, table=table)
    words = ("run", plan, "--from", "sqlite:///a.db", "--from-table", "gauges")
    done = splarn(*words, "--json")
    assert done.code == 0, done.err
    moved = done.json["moved"]
    assert (moved["rows"], moved["table"], moved["verified"]) == (900, "gauges", True)
    assert done.json["error_pct"] is None
    assert ask(postgresql, f"SELECT count(*), sum(reading_no) FROM {table}") == [(900, 405_450)]
    told = splarn(*words)
    assert told.code == 0
    assert "Already in" in told.out
    for more, said in (
        (("--from-table", "gauges"), "--from-table goes with --from"),
        (("--from", "sqlite:///a.db", "--dry"), "--dry says the steps of files"),
        (("--from", "sqlite:///a.db", "--from-table", "gaugs"), "There is no table gaugs"),
        (("--from", "sqlite:///no.db"), "There is no file"),
        (("--from", postgresql), "is the table that the plan fills"),
    ):
        wrong = splarn("run", plan, *more)
        assert wrong.code == 2, wrong.err
        assert said in " ".join(wrong.err.split())
    assert not (tmp_path / "no.db").exists()
