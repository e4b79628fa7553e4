"""Runs whose stages are at work at the same time, broken off and gone on with, on every engine."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from splarn.core.check.limit import BadRows
from splarn.core.errors import OutsideError, RequestError, ShortfallError
from splarn.core.flow.bringing import Bringing
from splarn.core.flow.journal import JOURNAL
from splarn.core.flow.watching import Watching
from splarn.core.layout import LINES, Field, Layout
from splarn.core.load import streams
from splarn.core.load.finish import ANOTHER_HASH
from splarn.core.load.landing import Landing
from splarn.core.load.undo import undo
from splarn.core.prices import Prices, Tier
from splarn.core.reading.faults import read_rejects
from splarn.core.run import flow
from splarn.core.run.flow import RunRecord, run_plan
from splarn.core.run.kinds import by_table
from splarn.core.run.steering import Steering
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.plan_file import Plan, PlannedKind, read_plan, write_plan
from splarn.core.work.log import Log
from splarn.core.work.pools import Pools
from splarn.depots.landing import DepotLanding
from splarn.engines import opener
from tests.cli.plans import FORECAST
from tests.conftest import also, ask
from tests.engines.gauges import GAUGES, count, readings
from tests.engines.test_millrace import Served, serving

# Readings of three files; two of them are bad.
BAD = (40, 777)
GOOD = 1500 - len(BAD)
# What a plan may name beside its choice.
OTHER = {"lever": "load_streams", "value": 2, "seconds": 0.001, "load": 0.001, "cost": 0.001}


@pytest.fixture
def delivery_of(tmp_path: Path) -> list[Path]:
    return [readings(tmp_path / f"in/{n}.csv", n * 500 + 1, n * 500 + 500, BAD) for n in range(3)]


def plan_for(target: str, table: str, paths: list[Path], **levers: Any) -> Plan:
    size = sum(path.stat().st_size for path in paths)
    usual = {"part_size": 4000, "packing": Packing(), "workers": 2, "load_streams": 2,
             "batch_rows": 60}  # fmt: skip
    mode = levers.pop("mode", "create")
    return Plan(
        "plan-1", Configuration(**{**usual, **levers}), FORECAST, Limits(), True, (),
        tuple(map(str, paths)), GAUGES, target, table, mode, BadRows(), Volume(size, 1500), size,
        Prices(tiers={f"u{n}": Tier(per_hour=n) for n in (1, 2, 3)}), "sweep-1",
    )  # fmt: skip


def carry_out(plan: Plan, folder: Path, **more: Any) -> RunRecord:
    """A run in this process. Raises what it raises."""
    with Pools() as pools:
        return run_plan(
            plan, opener(plan.target), folder, folder / "parts" / plan.id, pools,
            Watching(plan.volume.bytes, more.pop("heard", lambda what, told: None)),
            rejects=folder / "rejects", **more,
        )  # fmt: skip


def broken_off(
    patch: pytest.MonkeyPatch, after: int, run: Callable[[], Any], error: type[BaseException]
) -> None:
    """Runs until so many parts are in, and breaks it off then."""
    done = 0
    loaded = Bringing.loaded

    def until(self: Bringing, *given: Any) -> None:
        nonlocal done
        done += 1
        if done > after:
            raise error
        loaded(self, *given)

    with patch.context() as here:
        here.setattr(Bringing, "loaded", until)
        with pytest.raises(error):
            run()


@also("described_sluice")
@pytest.mark.parametrize("way", ["", "folder"])
@pytest.mark.parametrize("lost", ["nothing", "parts", "journal", "all", "hashes"])
def test_a_run_that_is_broken_off_goes_on_whatever_was_lost_beside_it(
    target: str, table: str, tmp_path: Path, delivery_of: list[Path], way: str, lost: str,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    # More parts than an engine that reads files itself is given before it is heard, whatever waits
    # for it in a depot: on a slow machine it might have all of them before the first is told.
    monkeypatch.setattr(flow, "ENDLESS", 4)
    more = {"part_size": 1500, "transfer_streams": 2 if way else 0}
    plan = plan_for(target, table, delivery_of, **more)
    folder = tmp_path / "parts" / plan.id

    def run() -> RunRecord:
        landing = DepotLanding(str(tmp_path / "depot"), plan.id) if way else None
        return carry_out(plan, tmp_path, landing=landing)

    broken_off(monkeypatch, 3, run, KeyboardInterrupt)
    assert 0 < count(target, table) < GOOD
    if lost == "parts":
        for path in (*folder.glob("gauges-*"), *(tmp_path / "depot").rglob("gauges-*")):
            path.unlink()
    elif lost == "journal":
        (folder / JOURNAL).unlink()
    elif lost == "all":
        shutil.rmtree(folder)
    elif lost == "hashes":
        # Noted by a version that hashed rows in another way.
        told = [json.loads(line) for line in (folder / JOURNAL).read_text().splitlines()]
        for one in told:
            one["hashes"] = 1
            one["row_sum"] = one["row_sum"] and {**one["row_sum"], "total": 5}
        (folder / JOURNAL).write_text("".join(json.dumps(one) + "\n" for one in told))
    record = run()
    assert (record.load.rows_loaded, record.load.verified, record.resumed) == (GOOD, True, True)
    assert ANOTHER_HASH not in record.load.notes
    assert record.error_pct is None
    assert count(target, table) == GOOD
    assert ask(target, f"SELECT count(DISTINCT reading_no) FROM {table}") == [(GOOD,)]
    refused = [fault for path in (tmp_path / "rejects").rglob("*.jsonl")
               for fault in read_rejects(path)]  # fmt: skip
    found = sorted((Path(one.path).name, one.row) for one in refused)
    assert found == [("0.csv", 40), ("1.csv", 277)]
    assert not folder.exists()
    assert not list((tmp_path / "depot").rglob("gauges-*"))
    # Given again it only looks; another plan of the same files is refused.
    assert run().load.done_before
    with pytest.raises(RequestError, match="--again"):
        carry_out(replace(plan, id="plan-2", table_mode="append"), tmp_path)


@also("described_sluice")
def test_an_unfinished_run_goes_on_with_what_it_began_with_alone(
    target: str, table: str, tmp_path: Path, delivery_of: list[Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    # One part after the other, so that the first one is in.
    plan = plan_for(target, table, delivery_of, workers=1, load_streams=1)
    broken_off(monkeypatch, 2, lambda: carry_out(plan, tmp_path), KeyboardInterrupt)
    other = replace(plan, configuration=replace(plan.configuration, part_size=9000))
    with pytest.raises(RequestError, match="cut otherwise now"):
        carry_out(other, tmp_path)
    text = delivery_of[0].read_text()
    # At its beginning, which tells files apart; and further on, where only a part does.
    for was, now, why in (("1,RM-1", "1,RM-2", "was another file"), ("90,RM", "90,ME", "not what")):
        delivery_of[0].write_text(text.replace(was, now, 1))
        with pytest.raises(RequestError, match=why):
            carry_out(plan, tmp_path)
    delivery_of[0].write_text(text)
    # Other streams and batches are no other parts.
    changed = replace(plan.configuration, load_streams=2, batch_rows=0, workers=2)
    record = carry_out(replace(plan, configuration=changed), tmp_path)
    assert (record.load.rows_loaded, count(target, table)) == (GOOD, GOOD)


def test_stages_stop_each_other_and_what_is_bad_is_counted_together(
    tmp_path: Path, delivery_of: list[Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    target = f"sqlite:///{tmp_path / 't.db'}"
    plan = replace(plan_for(target, "t", delivery_of, format="jsonl"), bad_rows=BadRows(1))
    with pytest.raises(ShortfallError):
        carry_out(plan, tmp_path)
    fine = replace(plan, bad_rows=BadRows(2), id="plan-3", table="t3")
    told: list[tuple[str, dict[str, Any]]] = []
    record = carry_out(fine, tmp_path, keep_parts=True,
                       heard=lambda what, one: told.append((what, one)))  # fmt: skip
    assert (record.load.rows_loaded, record.set_aside) == (GOOD, 2)
    assert record.rejects is not None
    assert (tmp_path / "parts/plan-3/datapackage.json").exists()
    assert {one["stage"] for what, one in told if what == "part"} == {"shape", "load"}
    # A depot that fails ends it with its own words, and the same command goes on.
    landing = DepotLanding(str(tmp_path / "depot"), "plan-4")
    shipped = replace(fine, id="plan-4", table="t4")
    shipped = replace(shipped, configuration=replace(fine.configuration, transfer_streams=2))

    class Failing:
        read_here = False
        names, clear, sender = landing.names, landing.clear, landing.sender
        place = "a depot"

    failing: Landing = Failing()  # type: ignore[assignment]

    def gone() -> Any:
        raise OutsideError("The depot is full.")

    with monkeypatch.context() as here:
        here.setattr(failing, "sender", gone, raising=False)
        with pytest.raises(OutsideError, match="depot is full"):
            carry_out(shipped, tmp_path, landing=failing)
    assert carry_out(shipped, tmp_path, landing=landing).load.rows_loaded == GOOD


@pytest.mark.parametrize("way", ["", "folder"])
def test_a_slow_target_holds_up_the_stages_before_it(
    tmp_path: Path, delivery_of: list[Path], monkeypatch: pytest.MonkeyPatch, way: str
) -> None:
    target = f"sqlite:///{tmp_path / 't.db'}"
    plan = plan_for(target, "t", delivery_of, part_size=600, load_streams=1, batch_rows=0,
                    transfer_streams=1 if way else 0)  # fmt: skip
    load, lying = streams.run_load_task, []

    def slow(task: Any) -> Any:
        # One that moves on meanwhile is still one.
        folders = (tmp_path / "parts", tmp_path / "depot")
        here = {path.name for folder in folders for path in folder.rglob("gauges-*")}
        lying.append(len(here))
        time.sleep(0.01)
        return load(task)

    monkeypatch.setattr(streams, "run_load_task", slow)
    landing = DepotLanding(str(tmp_path / "depot"), plan.id) if way else None
    record = carry_out(plan, tmp_path, landing=landing)
    assert record.load.rows_loaded == GOOD
    assert len(lying) > 60
    # What each stage is at and what waits before it: two queues of a few, and a worker's each.
    assert max(lying) <= 16
    # Shaping waited most of the time, which is none that it was at work.
    assert 0 < record.phases["shape"] < 0.7 * record.seconds
    # So it took about as long as the slowest stage.
    assert record.seconds < 0.9 * sum(record.phases.values()) + 2


@pytest.mark.parametrize("way", ["", "folder"])
def test_an_engine_that_reads_parts_takes_them_as_they_come(
    tmp_path: Path, delivery_of: list[Path], monkeypatch: pytest.MonkeyPatch, way: str
) -> None:
    with ExitStack() as held:
        at: Served = held.enter_context(serving(tmp_path / "millrace"))
        plan = plan_for(at.url, "gauges", delivery_of, tier="u3", batch_rows=0)

        def run() -> RunRecord:
            landing = DepotLanding(str(tmp_path / "depot"), plan.id) if way else None
            return carry_out(plan, tmp_path, landing=landing)

        broken_off(monkeypatch, 2, run, KeyboardInterrupt)
        assert at.tier == "u1"
        record = run()
        assert (record.load.rows_loaded, record.load.verified) == (GOOD, True)
        assert len(at.numbers("gauges")) == len(set(at.numbers("gauges"))) == GOOD
        assert at.tier == "u1"
        refused = [fault for path in (tmp_path / "rejects").rglob("*.jsonl")
                   for fault in read_rejects(path)]  # fmt: skip
        assert sorted(Path(one.path).name for one in refused) == ["0.csv", "1.csv"]
        assert {"shape", "ship", "size", "queue", "load", "finish"} == set(record.phases)
        assert not list((tmp_path / "depot").rglob("gauges-*"))
        # A whole one takes no longer than its stages in turn, by the engine's own clock.
        whole = replace(plan, id="plan-2", table="other")
        told = carry_out(whole, tmp_path)
        assert told.trial is not None
        assert 0 < told.trial.overlapped < 1.05 * told.trial.seconds + 1


def radioed(path: Path, first: int, last: int) -> Path:
    """Readings as a radio sends them: other names, numbers as text, one of them none."""
    path.parent.mkdir(parents=True, exist_ok=True)
    lines = [
        {"id": str(n) if n != first + 5 else "x", "where": f"RM-{n % 9}", "battery": n % 100,
         "level": f"{n % 700}.{n % 90 + 10}"}
        for n in range(first, last + 1)
    ]  # fmt: skip
    path.write_text("".join(json.dumps(line) + "\n" for line in lines))
    return path


def archived(path: Path, first: int, last: int) -> Path:
    """Readings of an archive: Parquet, another order, days as moments of text."""
    numbers = list(range(first, last + 1))
    table = pa.table({
        "day": [date(2031, 1, n % 9 + 1) for n in numbers], "reading_no": numbers,
        "level": pa.array([n / 4 for n in numbers]),
    })  # fmt: skip
    pq.write_table(table, path)
    return path


def kinds_of(folder: Path, table: str) -> tuple[PlannedKind, ...]:
    radio = radioed(folder / "in/radio.jsonl", 2001, 2600)
    archive = archived(folder / "in/old.parquet", 3001, 3500)
    gates = readings(folder / "in/gates.csv", 1, 40)
    sent = Layout("radio", LINES, (
        Field("id"), Field("where"), Field("battery", "integer"), Field("level"),
    ), "jsonl")  # fmt: skip
    old = Layout("old", LINES, (
        Field("day", "date"), Field("reading_no", "integer"), Field("level", "number"),
    ), "parquet")  # fmt: skip

    def kind(name: str, path: Path, layout: Layout, into: str, **more: Any) -> PlannedKind:
        columns, leave_out = more.get("columns", {}), more.get("leave_out", ())
        size = path.stat().st_size
        return PlannedKind(name, (str(path),), layout, into, columns, leave_out, size)

    return (
        kind("radio", radio, sent, table, columns={"reading_no": "id", "gauge": "where"},
             leave_out=("battery",)),
        kind("archive", archive, old, table),
        kind("gates", gates, GAUGES, f"{table}_gates"),
    )  # fmt: skip


@also("described_sluice", "lake")
def test_files_of_several_kinds_go_into_their_tables_once(
    target: str, table: str, tmp_path: Path, delivery_of: list[Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    plan = plan_for(target, table, delivery_of)
    plan = replace(plan, kinds=kinds_of(tmp_path, table), bad_rows=BadRows(3))
    first, second = by_table(plan, tmp_path)
    assert (first.table, second.table) == (table, f"{table}_gates")
    # It is killed after parts of two kinds are in, and goes on.
    broken_off(monkeypatch, 12, lambda: carry_out(first, tmp_path), KeyboardInterrupt)
    record = carry_out(first, tmp_path)
    good = GOOD + 599 + 500
    assert (record.load.rows_loaded, record.set_aside, record.load.verified) == (good, 3, True)
    assert ask(target, f"SELECT count(DISTINCT reading_no) FROM {table}") == [(good,)]
    told = ask(target, f"SELECT count(*), count(gauge), count(day) FROM {table} "
                       "WHERE reading_no > 2000")  # fmt: skip
    assert told == [(1099, 599, 500)]
    assert record.rejects is not None
    bad = [(Path(one.path).name, one.row) for one in read_rejects(record.rejects)]
    assert sorted(bad) == [("0.csv", 40), ("1.csv", 277), ("radio.jsonl", 6)]
    assert carry_out(second, tmp_path).load.rows_loaded == count(target, f"{table}_gates") == 40
    # Nothing is loaded twice, whichever kind it is of, and all of it can be taken back.
    assert carry_out(first, tmp_path).load.done_before
    with pytest.raises(RequestError, match="--again"):
        carry_out(replace(second, id="plan-9", table_mode="append"), tmp_path)
    undo(opener(target), record.load.load_id)
    assert ask(target, f"SELECT count(*) FROM {table}_gates") == [(40,)]
    # A file that two kinds name is of neither.
    twice = replace(plan.kinds[1], name="other")
    with pytest.raises(RequestError, match="of the kinds archive and other"):
        carry_out(replace(first, kinds=(*first.kinds, twice)), tmp_path)


def steered(plan: Plan, folder: Path, tiers: bool) -> RunRecord:
    """A run that may change to another number of streams, or to another tier."""
    soon = {"low": 0.001, "median": 0.002, "high": 0.003}
    forecast = {"seconds": soon, "cost": {**soon, "high": 100.0}, "phases": {"load": 0.002}}
    other = {**OTHER, "lever": "tier", "value": "u3"} if tiers else OTHER
    late = replace(plan, forecast=forecast, limits=Limits(deadline=0.002), alternatives=(other,))
    watching = Watching(plan.volume.bytes)
    steering = Steering(late, watching, tiers)
    with Pools() as pools:
        return run_plan(
            late, opener(plan.target), folder, folder / "parts" / plan.id, pools, watching,
            steering=steering, rejects=folder / "rejects",
        )  # fmt: skip


def test_a_late_run_goes_on_with_what_its_plan_allows(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("splarn.core.run.steering.LOOK_EVERY", 0.0)
    paths = [readings(tmp_path / f"in/{n}.csv", n * 500 + 1, n * 500 + 500) for n in range(3)]
    plan = plan_for(target, table, paths, workers=1, load_streams=1, part_size=1500)
    record = steered(plan, tmp_path, False)
    assert (record.load.rows_loaded, record.load.verified) == (1500, True)
    assert [(one.lever, one.before, one.value) for one in record.changes] == [
        ("load_streams", 1, 2)
    ]
    assert ask(target, f"SELECT count(DISTINCT reading_no) FROM {table}") == [(1500,)]
    # Of what it changed to nothing is learned.
    assert record.trial is None


@pytest.mark.parametrize("after", [None, 20])
def test_a_compute_is_made_larger_on_the_way_and_comes_back_whatever_happens(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, after: int | None
) -> None:
    monkeypatch.setattr("splarn.core.run.steering.LOOK_EVERY", 0.0)
    paths = [readings(tmp_path / f"in/{n}.csv", n * 2000 + 1, n * 2000 + 2000) for n in range(3)]
    with serving(tmp_path / "millrace", overhead=0.5, start_up=0.0) as at:
        plan = plan_for(at.url, "gauges", paths, tier="u1", batch_rows=0, part_size=3000)
        if after is not None:
            broken_off(monkeypatch, after, lambda: steered(plan, tmp_path, True), KeyboardInterrupt)
            assert at.tier == "u1"
        record = steered(plan, tmp_path, True)
        assert (record.load.rows_loaded, record.load.verified) == (6000, True)
        assert len(at.numbers("gauges")) == len(set(at.numbers("gauges"))) == 6000
        assert at.tier == "u1"
        if after is None:
            assert [(one.before, one.value) for one in record.changes] == [("u1", "u3")]
            assert [one.tier for one in record.load.compute] == ["u1", "u3", "u1"]


def test_a_plan_is_read_as_it_was_written_and_a_log_holds_a_line_each(
    tmp_path: Path, delivery_of: list[Path]
) -> None:
    plan = plan_for("sqlite:///t.db", "t", delivery_of)
    plan = replace(plan, parameters={"month": "07"}, alternatives=(OTHER,))
    write_plan(plan, tmp_path / "plan.json")
    assert read_plan(tmp_path / "plan.json") == plan
    log = Log(tmp_path / "logs/run.jsonl")
    log.write("begin", {"plan": "plan-1"})
    log.write("end", {"seconds": 1.0})
    log.close()
    assert len((tmp_path / "logs/run.jsonl").read_text().splitlines()) == 2
