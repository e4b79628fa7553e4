"""Runs trials: shape the sample, load it into an empty table, time each phase, clean up."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from splarn.core.errors import OutsideError, RequestError, SplarnError
from splarn.core.load import BadRows, LoadRequest, inputs_from_manifest, load
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.target.notes import LoadNote
from splarn.core.target.session import OpenEngine, Session
from splarn.core.target.tables import Likeness
from splarn.core.tuning.design import PlannedTrial
from splarn.core.tuning.gauges import Gauge
from splarn.core.tuning.sample import Sample
from splarn.core.tuning.strategy import Strategy
from splarn.core.tuning.trial import Trial
from splarn.core.work.pool import Pools
from splarn.core.work.progress import Progress, Silent

# How tables of trials begin, and the state of the note that tells whose one is.
TRIAL_TABLE = "splarn_trial_"
TRIAL = "trial"
# So many that fail one after the other end a sweep.
FAILURES = 3
LINGER = 0.03


def trial_table(sweep_id: str) -> str:
    """The table of a sweep's trials, which no other sweep uses."""
    return TRIAL_TABLE + sweep_id.removeprefix("sweep-").replace("-", "_")


@dataclass(frozen=True)
class TrialPlace:
    """Where trials happen. `folder` holds each trial's parts while it runs.

    Where there is a table `like`, the trials' own is made with its rules and indexes. `sweep_id` is
    noted in the target as the one whose the table is, so that it can be removed after a kill.
    """

    open_engine: OpenEngine
    table: str
    folder: Path
    like: str | None = None
    sweep_id: str = "sweep"


@dataclass(frozen=True)
class Budgets:
    """What a sweep may take: seconds of this command, and money of all its trials by `priced`."""

    seconds: float | None = None
    money: float | None = None
    priced: Callable[[Trial], float] = lambda trial: 0.0

    def spent(self, begun: float, trials: Sequence[Trial]) -> str:
        """Why it must stop, empty while it need not."""
        if self.seconds is not None and time.perf_counter() - begun >= self.seconds:
            return "time spent"
        if self.money is not None and sum(map(self.priced, trials)) >= self.money:
            return "money spent"
        return ""


def run_trials(
    strategy: Strategy,
    done: Sequence[Trial],
    sample: Sample,
    place: TrialPlace,
    pools: Pools,
    keep: Callable[[Trial], None],
    *,
    budgets: Budgets | None = None,
    progress: Progress | None = None,
) -> tuple[list[Trial], str]:
    """Runs the trials that a strategy wants after the `done` ones; `keep` is given each as it ends.

    A trial that fails is kept as one that did. Returns all trials and why the sweep stopped.
    Raises SplarnError when several fail one after the other, since all would.
    """
    watch = progress or Silent()
    budgets = budgets or Budgets()
    trials = list(done)
    watch.start("sweep", strategy.most(), "trials")
    watch.advance(len(trials))
    begun = time.perf_counter()
    failed = 0
    while True:
        stopped = budgets.spent(begun, trials)
        if stopped:
            break
        plan = strategy.following(trials)
        if plan is None:
            stopped = strategy.ended
            break
        try:
            trial = run_trial(plan, sample, place, pools)
            failed = 0
        except SplarnError as error:
            failed += 1
            if failed >= FAILURES or isinstance(error, RequestError):
                raise
            trial = failed_trial(plan, sample, str(error))
            watch.tell(f"A trial failed ({plan.configuration}): {error}")
        trials.append(trial)
        keep(trial)
        watch.advance(1)
    watch.finish()
    _forget(place)
    return trials, stopped


def failed_trial(plan: PlannedTrial, sample: Sample, reason: str) -> Trial:
    """A trial that did not load what it read, or did not end: it has no times."""
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    return Trial(
        plan.configuration, plan.repeat, plan.role, 0.0, {}, 0, sample.bytes, 0, 0, started,
        failure=reason.rstrip("."),
    )  # fmt: skip


def _forget(place: TrialPlace) -> None:
    """Removes the note that tells whose the table of trials is."""
    session = place.open_engine().connect()
    try:
        session.claims.take_turn(place.table)
        session.notes.forget(place.table)
        session.commit()
    finally:
        session.close()


def remove_left(open_engine: OpenEngine, keeper: Session) -> list[str]:
    """Removes the tables of trials whose sweep was killed; those of living sweeps stay.

    `keeper` is the session by which claims are asked for. Raises OutsideError.
    """
    removed = []
    trials = [note for note in keeper.notes.loads() if note.state == TRIAL]
    left = [note for note in trials if keeper.claims.claim(note.load_id)]
    # What was read must not keep others from writing.
    keeper.rollback()
    for note in left:
        place = TrialPlace(open_engine, note.table, Path(), sweep_id=note.load_id)
        _drop_table(place)
        _forget(place)
        removed.append(note.table)
    return removed


def run_trial(plan: PlannedTrial, sample: Sample, place: TrialPlace, pools: Pools) -> Trial:
    """One trial. Its table and parts are removed whatever happens."""
    configuration = plan.configuration
    sample = sample.smaller if plan.role == "small" else sample
    workers = pools.threads(configuration.workers)
    streams = pools.streams(configuration.load_streams, place.open_engine().in_process)
    # What a stream imports for its first load belongs to no trial.
    list(streams.map(_greet, [place.open_engine] * streams.workers))
    parts = place.folder / "parts"
    shutil.rmtree(parts, ignore_errors=True)
    _make_table(place)
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    gauge = Gauge(place.open_engine().processes_here)
    try:
        with gauge:
            begun = time.perf_counter()
            shaped = shape(
                sample.files,
                sample.layout,
                parts,
                PartsFormat(sample.layout.format, configuration.packing, configuration.part_size),
                workers,
            )
            packed_at = time.perf_counter()
            request = LoadRequest(
                place.open_engine,
                place.table,
                shaped.manifest.layout,
                inputs_from_manifest(shaped.manifest),
                batch_rows=configuration.batch_rows,
                bad_rows=BadRows(),
                levers=configuration.load_levers,
                tier=configuration.tier if place.open_engine().reads_parts else None,
            )
            record = load(request, streams)
        came = record.rows_loaded + record.rows_rejected
        if not record.verified or came != sample.rows:
            differences = "; ".join(record.differences) or f"{came:,} of {sample.rows:,} rows came"
            raise OutsideError(f"It did not load what it read ({differences}).")
    finally:
        _drop_table(place)
        shutil.rmtree(parts, ignore_errors=True)
    return Trial(
        configuration=configuration,
        repeat=plan.repeat,
        role=plan.role,
        seconds=packed_at - begun + record.seconds,
        phases={"shape": packed_at - begun, **record.phases},
        rows=record.rows_loaded + record.rows_rejected,
        bytes=shaped.manifest.raw_bytes,
        packed_bytes=shaped.manifest.bytes,
        parts=len(shaped.manifest.parts),
        started=started,
        compute=record.compute,
        used=gauge.used,
    )


def _greet(open_engine: OpenEngine) -> None:
    """Opens a session and closes it, and stays at it for long enough that each stream gets one."""
    session = open_engine().connect()
    time.sleep(LINGER)
    session.close()


def _make_table(place: TrialPlace) -> None:
    _drop_table(place)
    session = place.open_engine().connect()
    try:
        like = None if place.like is None else session.tables.canonical(place.like)
        if like is not None and session.tables.kind(like) == "table":
            session.tables.clone(like, place.table, Likeness(indexes=True))
            session.commit()
    finally:
        session.close()


def _drop_table(place: TrialPlace) -> None:
    session = place.open_engine().connect()
    try:
        session.claims.take_turn(place.table)
        for note in session.notes.loads(place.table):
            if note.details.side_table:
                session.tables.drop(note.details.side_table)
        session.tables.drop(place.table)
        session.notes.forget(place.table)
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        session.notes.put_load(LoadNote(place.sweep_id, place.table, TRIAL, "sweep", now))
        session.commit()
    finally:
        session.close()
