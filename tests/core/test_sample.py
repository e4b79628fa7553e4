"""The sample: whole records from all over the source, and trials that leave nothing behind."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from splarn.core.errors import OutsideError
from splarn.core.layout import Layout
from splarn.core.source.codecs import Packing
from splarn.core.tuning import runner as runner_module
from splarn.core.tuning.configuration import Configuration, Space
from splarn.core.tuning.design import PlannedTrial, design
from splarn.core.tuning.runner import Budgets, TrialPlace, run_trials
from splarn.core.tuning.sample import Sample, take_sample
from splarn.core.tuning.statistics import summarise
from splarn.core.tuning.strategy import Listed
from splarn.core.tuning.trial import Trial
from splarn.core.work.pool import Inline, Pools
from splarn.demo.scenario import Delivery
from splarn.engines import open_engine, opener


@pytest.fixture
def sample(delivery: Delivery, layout: Layout, tmp_path: Path) -> Sample:
    return take_sample(delivery.paths, layout, 300_000, tmp_path / "sample", Inline())


def test_a_sample_holds_whole_records_of_many_places(
    sample: Sample, delivery: Delivery, layout: Layout
) -> None:
    whole = b"".join(path.read_bytes() for path in delivery.paths)
    taken = [path.read_bytes() for path in sample.paths]
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
    small = take_sample(delivery.paths, layout, 10**9, sample.paths[0].parent / "all", Inline())
    assert small.rows == delivery.rows


def test_a_smaller_sample_is_a_part_of_it(sample: Sample) -> None:
    small = sample.smaller
    assert set(small.paths) < set(sample.paths)
    assert 0.1 * sample.bytes < small.bytes < 0.5 * sample.bytes
    assert small.bytes == sum(path.stat().st_size for path in small.paths)
    text = b"".join(path.read_bytes() for path in small.paths)
    assert 0 < small.rows <= text.count(b"\n")
    assert [path.read_bytes() for path in small.files] == [text]
    assert sum(path.stat().st_size for path in sample.files) == sample.bytes


def place(target: str, tmp_path: Path) -> TrialPlace:
    return TrialPlace(opener(target), "splarn_trial", tmp_path / "scratch")


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
    with Pools() as pools:
        trials, why = run_trials(planned, [], sample, place(target, tmp_path), pools, kept.append)
    assert (why, kept) == ("grid finished", trials)
    assert [trial.configuration for trial in trials] == [
        plan.configuration for plan in planned.planned
    ]
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
    with Pools() as pools, pytest.raises(OutsideError, match="did not load what it read"):
        run_trials(
            Listed([plan] * 9, "all"), [], sample, place(target, tmp_path), pools, kept.append
        )
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
    where = place(f"sqlite:///{tmp_path / 't.db'}", tmp_path)
    few, whole = Listed(planned[:3], "few"), Listed(planned, "grid finished")

    def keep(trial: Trial) -> None:
        return None

    with Pools() as pools:
        none = Budgets(seconds=0)
        first, why = run_trials(few, [], sample, where, pools, keep, budgets=none)
        assert (first, why) == ([], "time spent")
        done, _ = run_trials(few, [], sample, where, pools, keep)
        poor = Budgets(money=2.5, priced=lambda trial: 1.0)
        some, why = run_trials(whole, done[:1], sample, where, pools, keep, budgets=poor)
        assert (len(some), why) == (3, "money spent")
        every, why = run_trials(whole, done, sample, where, pools, keep)
    assert every[:3] == done
    assert (len(every), why) == (len(planned), "grid finished")
