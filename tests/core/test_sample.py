"""The sample: whole records from all over the source, and trials that leave nothing behind."""

from __future__ import annotations

import csv
import io
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import pytest

from splarn.core.errors import OutsideError
from splarn.core.layout import Layout
from splarn.core.source.codecs import Packing, codecs
from splarn.core.tuning import runner as runner_module
from splarn.core.tuning.configuration import Configuration, Space
from splarn.core.tuning.design import PlannedTrial, design
from splarn.core.tuning.possible import rules_of_target
from splarn.core.tuning.readers import Readers
from splarn.core.tuning.runner import Budgets, TrialPlace, run_trial, run_trials
from splarn.core.tuning.sample import Sample, Samples, take_sample
from splarn.core.tuning.statistics import summarise
from splarn.core.tuning.strategy import Listed
from splarn.core.tuning.trial import Trial
from splarn.core.tuning.trial_table import TrialTable
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools
from splarn.demo.scenario import Delivery
from splarn.depots.landing import DepotLanding
from splarn.engines import open_engine, opener


@pytest.fixture
def sample(delivery: Delivery, layout: Layout, tmp_path: Path) -> Sample:
    return take_sample(delivery.paths, layout, 300_000, tmp_path / "sample", Inline())


def test_a_sample_holds_whole_records_of_many_places(
    sample: Sample, delivery: Delivery, layout: Layout
) -> None:
    whole = b"".join(path.read_bytes() for path in delivery.paths)
    taken = [piece.path.read_bytes() for piece in sample.pieces]
    assert sum(map(len, taken)) == sample.bytes
    assert 300_000 <= sample.bytes < 420_000
    assert len(taken) > 1
    for data in taken:
        at = whole.find(data)
        assert at > 0
        assert whole[at - 1 : at] == b"\n"
    assert not sample.layout.dialect.header
    firsts = {data.split(b",", 1)[0] for data in taken}
    assert len(firsts) == len(taken)
    small = take_sample(
        delivery.paths, layout, 10**9, sample.pieces[0].path.parent / "all", Inline()
    )
    assert small.rows == delivery.rows


def test_a_smaller_sample_is_a_part_of_it(sample: Sample) -> None:
    small = sample.smaller
    assert set(small.pieces) < set(sample.pieces)
    assert 0.1 * sample.bytes < small.bytes < 0.5 * sample.bytes
    assert small.bytes == sum(piece.path.stat().st_size for piece in small.pieces)
    text = b"".join(piece.path.read_bytes() for piece in small.pieces)
    assert 0 < small.rows <= text.count(b"\n")
    assert [path.read_bytes() for path in small.files] == [text]
    assert sum(path.stat().st_size for path in sample.files) == sample.bytes


@pytest.mark.parametrize("codec", ["gzip", "zstd"])
def test_a_sample_of_packed_files_is_not_only_their_head(
    tmp_path: Path, layout: Layout, delivery: Delivery, codec: str
) -> None:
    whole = b"".join(path.read_bytes().partition(b"\n")[2] for path in delivery.paths)
    head = delivery.paths[0].read_bytes().partition(b"\n")[0] + b"\n"
    packed = tmp_path / "all.csv.packed"
    packer = codecs()[codec].packer(1)
    packed.write_bytes(packer.compress(head + whole * 4) + packer.flush())
    size = len(whole) // 4
    sample = take_sample([packed], layout, size, tmp_path / "packed", Inline())
    assert 0.5 * size < sample.bytes < 1.6 * size
    assert sample.rows == sum(
        len(list(csv.reader(io.StringIO(piece.path.read_text())))) for piece in sample.pieces
    )
    firsts = [int(piece.path.read_bytes().partition(b",")[0]) for piece in sample.pieces]
    known = [int(row[0]) for row in csv.reader(io.StringIO(whole.decode())) if row[0].isdigit()]
    # They lie in every part of what was delivered.
    where = [known.index(first) / len(known) for first in firsts]
    assert min(where) < 0.3
    assert max(where) > 0.7


def test_what_trials_load_is_taken_larger_when_one_asks_for_it(sample: Sample) -> None:
    asked: list[int] = []

    def take(size: int) -> Sample:
        asked.append(size)
        return replace(sample, name="larger")

    samples = Samples(sample, take)
    assert samples.of("trial") is samples.of("reference") is sample
    assert samples.of("small").bytes < sample.bytes
    assert asked == []
    assert samples.of("large") is samples.of("large")
    assert asked == [4 * sample.bytes]


def test_trials_go_by_way_of_a_depot_and_leave_nothing_there(
    sample: Sample, target: str, tmp_path: Path
) -> None:
    depot = tmp_path / "depot"
    depot.mkdir()
    (depot / "of-others.csv").write_text("theirs")
    one = Configuration(
        part_size=100_000, format="parquet", packing=Packing("zstd", 1), workers=1,
        transfer_streams=2, load_streams=1, batch_rows=0,
    )  # fmt: skip
    with Pools() as pools, place(target, tmp_path) as bare:
        where = replace(bare, landing=lambda name: DepotLanding(str(depot), name), cold=True)
        trial = run_trial(PlannedTrial(one, 1, "trial"), Samples(sample), where, pools)
    assert (trial.rows, trial.bytes) == (sample.rows, sample.bytes)
    assert list(trial.phases)[:2] == ["shape", "ship"]
    assert trial.phases["ship"] > 0
    assert trial.seconds == pytest.approx(sum(trial.phases.values()), abs=0.5)
    assert trial.usage.stored == trial.packed_bytes
    assert [path.name for path in depot.rglob("*")] == ["of-others.csv"]


@contextmanager
def place(target: str, tmp_path: Path) -> Iterator[TrialPlace]:
    with TrialTable(opener(target), "splarn_trial", "sweep") as table:
        yield TrialPlace(opener(target), table, tmp_path / "scratch")


def test_trials_measure_every_phase_and_clean_up(
    sample: Sample, target: str, tmp_path: Path
) -> None:
    space = Space.of(
        {
            "part_size": (100_000,),
            "packing": (Packing("gzip", 1),),
            "workers": (1, 2),
            "load_streams": (1, 2),
            "batch_rows": (1000, 0),
        }
    )
    planned = Listed(design(space, 1, seed=2), "grid finished")
    kept: list[Trial] = []
    with Pools() as pools, place(target, tmp_path) as where:
        trials, why = run_trials(planned, [], Samples(sample), where, pools, kept.append)
    assert (why, kept) == ("grid finished", trials)
    *of_plan, flow = trials
    assert [trial.configuration for trial in of_plan] == [
        plan.configuration for plan in planned.planned
    ]
    # The fastest comes once more, with its stages at work at the same time.
    assert (flow.role, flow.tells) == ("flow", False)
    assert 0 < flow.overlapped < flow.seconds + 1
    for trial in trials:
        assert (trial.rows, trial.bytes) == (sample.rows, sample.bytes)
        assert trial.packed_bytes < trial.bytes
        assert trial.seconds == pytest.approx(sum(trial.phases.values()), abs=0.5)
        assert Trial.from_json(trial.as_json()) == trial
    session = open_engine(target).connect()
    assert session.tables.columns("splarn_trial") is None
    assert session.notes.loads("splarn_trial") == []
    session.close()
    assert not list((tmp_path / "scratch").glob("parts/*"))


def test_a_trial_that_lost_rows_is_a_failed_one_and_several_end_the_sweep(
    sample: Sample, target: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    load, spoiled = runner_module.load, [2, 4, 5, 6]
    begun: list[int] = []

    def losing(*args: object, **more: object) -> object:
        record = load(*args, **more)  # type: ignore[arg-type]
        begun.append(1)
        if len(begun) not in spoiled:
            return record
        if len(begun) == 2:
            return replace(record, verified=False, differences=("column toll: sum 1 against 2",))
        return replace(record, rows_loaded=record.rows_loaded - 1)

    monkeypatch.setattr(runner_module, "load", losing)
    plan = PlannedTrial(
        Configuration(
            part_size=100_000, packing=Packing(), workers=1, load_streams=1, batch_rows=0
        ),
        1,
        "trial",
    )
    kept: list[Trial] = []
    with (
        Pools() as pools,
        pytest.raises(OutsideError, match="did not load what it read"),
        place(target, tmp_path) as where,
    ):
        run_trials(Listed([plan] * 9, "all"), [], Samples(sample), where, pools, kept.append)
    assert [bool(trial.failure) for trial in kept] == [False, True, False, True, True]
    assert "column toll" in kept[1].failure
    assert [trial.counts for trial in kept] == [True, False, True, False, False]
    assert all(trial.seconds == 0 for trial in kept if trial.failure)
    assert kept[1].usage.compute[0].seconds == 0
    assert summarise(kept)[0].repeats == 2
    session = open_engine(target).connect()
    assert session.tables.columns("splarn_trial") is None
    session.close()


def test_a_sweep_goes_on_behind_what_is_done(
    sample: Sample, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    space = Space.of(
        {
            "part_size": (100_000,),
            "packing": (Packing(),),
            "workers": (1,),
            "load_streams": (1,),
            "batch_rows": (1000, 2000, 0),
        }
    )
    planned = design(space, 2, seed=4)
    few, whole = Listed(planned[:3], "few"), Listed(planned, "grid finished")

    def keep(trial: Trial) -> None:
        return None

    with Pools() as pools, place(f"sqlite:///{tmp_path / 't.db'}", tmp_path) as where:
        none = Budgets(seconds=0)
        first, why = run_trials(few, [], Samples(sample), where, pools, keep, budgets=none)
        assert (first, why) == ([], "time spent")
        done, _ = run_trials(few, [], Samples(sample), where, pools, keep)
        done = [trial for trial in done if trial.role != "flow"]
        poor = Budgets(money=2.5, priced=lambda trial: 1.0)
        some, why = run_trials(whole, done[:1], Samples(sample), where, pools, keep, budgets=poor)
        assert (len(some), why) == (3, "money spent")
        every, why = run_trials(whole, done, Samples(sample), where, pools, keep)
    assert every[:3] == done
    assert (len(every), why) == (len(planned) + 1, "grid finished")


def test_readers_are_timed_and_what_is_refused_is_asked_again(
    sample: Sample, target: str, tmp_path: Path
) -> None:
    one = Configuration(
        part_size=100_000, packing=Packing(), workers=1, load_streams=1, batch_rows=1000
    )
    statements = ("SELECT 1", "SELECT count(*) FROM {table}")
    with Pools() as pools, place(target, tmp_path) as bare:
        where = replace(bare, reading=statements, readers=2)
        trials, _ = run_trials(
            Listed([PlannedTrial(one, 1, "reference")], "all"), [], Samples(sample), where, pools,
            lambda trial: None,
        )  # fmt: skip
    # The reference comes again without them, and once with its stages at the same time.
    beside, alone, flow = trials
    assert (flow.role, flow.read.sessions) == ("flow", 2)
    assert (beside.role, alone.role) == ("reference", "alone")
    assert beside.read.sessions == 2
    assert beside.read.readings > 0
    assert 0 < beside.read.median <= beside.read.high
    assert (alone.read.sessions, alone.read.readings, alone.tells) == (0, 0, False)
    wrong = Readers(opener(target), ["SELECT nothing_of_the_kind"], 1, "t")
    with wrong:
        while not wrong.refused:
            time.sleep(0.01)
    assert (wrong.told.readings, wrong.told.median) == (0, 0.0)


def test_what_a_target_lacks_is_left_out(target: str) -> None:
    space = Space.of({"durability": ("full", "none"), "route": ("straight", "landing"),
                      "tier": ("u1", "u9")})  # fmt: skip
    kept = space.without(rules_of_target(space, opener(target)(), ("u1", "u2")))
    assert {one.tier for one in kept.grid()} == {"u1"}
    reasons = [reason for reason, _ in kept.left_out()]
    assert any("no tier u9" in reason for reason in reasons)
    assert all(one.agree for one in kept.grid())
