"""Runs trials: shape the sample, load it into an empty table, time each phase, clean up."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from splarn.core.errors import OutsideError, RequestError, SplarnError
from splarn.core.flow.bringing import Bringing, Making, landing_of
from splarn.core.flow.watching import Watching
from splarn.core.load import (
    BadRows,
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    inputs_from_manifest,
    load,
)
from splarn.core.load.arriving import Course
from splarn.core.load.landing import WholeLanding
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.target.session import OpenEngine
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.design import ALONE, FLOW, PlannedTrial
from splarn.core.tuning.gauges import Gauge
from splarn.core.tuning.laws import PHASE_NAMES
from splarn.core.tuning.readers import Readers
from splarn.core.tuning.sample import Sample, Samples
from splarn.core.tuning.strategy import Strategy
from splarn.core.tuning.trial import Trial
from splarn.core.tuning.trial_table import TrialTable, depot_of_trials
from splarn.core.work.disk import forget_files
from splarn.core.work.pools import Pools
from splarn.core.work.progress import Progress, Silent

# So many that fail one after the other end a sweep.
FAILURES = 3
LINGER = 0.03


@dataclass(frozen=True)
class TrialPlace:
    """Where trials happen. `folder` holds each trial's parts while it runs.

    Parts go by way of the `landing` of that name, where there is one. `cold` has the sample read
    from the disk anew. So many `readers` repeat the `reading` statements beside each trial.
    """

    open_engine: OpenEngine
    table: TrialTable
    folder: Path
    landing: Callable[[str], WholeLanding] | None = None
    cold: bool = False
    reading: tuple[str, ...] = ()
    readers: int = 0

    def depot(self) -> WholeLanding | None:
        """The folder in the depot that is this sweep's own."""
        return depot_of_trials(self.table.sweep_id, self.landing)


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
    samples: Samples,
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
    # How many an adaptive one will want is not known.
    known = len(strategy.beforehand()) == strategy.most()
    # One more, of the fastest, is a flow.
    watch.start("sweep", strategy.most() + 1 if known else None, "trials")
    watch.advance(len(trials))
    _greet_streams(strategy, place, pools)
    begun = time.perf_counter()
    failed = 0
    while True:
        stopped = budgets.spent(begun, trials)
        if stopped:
            break
        plan = _alone(trials, place) or strategy.following(chosen_from(trials))
        if plan is None:
            plan = _flow(trials)
        if plan is None:
            stopped = strategy.ended
            break
        try:
            run = run_flow_trial if plan.role == FLOW else run_trial
            trial = run(plan, samples, place, pools)
            failed = 0
        except SplarnError as error:
            failed += 1
            if failed >= FAILURES or isinstance(error, RequestError):
                raise
            trial = failed_trial(plan, str(error))
            watch.tell(f"A trial failed ({plan.configuration}): {error}")
        trials.append(trial)
        keep(trial)
        watch.advance(1)
    watch.finish()
    return trials, stopped


def chosen_from(trials: Sequence[Trial]) -> list[Trial]:
    """The trials that a strategy knows of: not those that show what readers or a flow do."""
    return [trial for trial in trials if trial.role not in (ALONE, FLOW)]


def _flow(trials: Sequence[Trial]) -> PlannedTrial | None:
    """In the end the fastest with its stages at work at the same time, as a run has them."""
    if any(trial.role == FLOW for trial in trials):
        return None
    counting = [trial for trial in trials if trial.counts]
    if not counting:
        return None
    fastest = min(counting, key=lambda one: one.seconds)
    return PlannedTrial(fastest.configuration, 1, FLOW)


def _alone(trials: Sequence[Trial], place: TrialPlace) -> PlannedTrial | None:
    """The reference once more without readers, right after it ran with them."""
    last = trials[-1] if trials else None
    if not place.readers or last is None or last.role != "reference" or last.failure:
        return None
    return PlannedTrial(last.configuration, last.repeat, ALONE)


def failed_trial(plan: PlannedTrial, reason: str) -> Trial:
    """A trial that did not load what it read, or did not end: it has no times."""
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    return Trial(
        plan.configuration, plan.repeat, plan.role, 0.0, {}, 0, 0, 0, 0, started,
        failure=reason.rstrip("."),
    )  # fmt: skip


def run_trial(plan: PlannedTrial, samples: Samples, place: TrialPlace, pools: Pools) -> Trial:
    """One trial. Its table and parts are removed whatever happens."""
    configuration = plan.configuration
    sample = samples.of(plan.role)
    pools = pools.on(configuration.machines)
    workers = pools.threads(configuration.workers)
    streams = pools.streams(configuration.load_streams, place.open_engine())
    parts = place.folder / "parts"
    shutil.rmtree(parts, ignore_errors=True)
    place.table.make()
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    gauge = Gauge(place.open_engine().processes_here, pools.used)
    depot = place.depot()
    sent = None
    if place.cold:
        forget_files(sample.files)
    crew = Readers(
        place.open_engine,
        place.reading,
        0 if plan.role == ALONE else place.readers,
        place.table.name,
    )
    try:
        with gauge, crew:
            begun = time.perf_counter()
            shaped = shape(
                sample.files,
                sample.layout,
                parts,
                _parts_format(configuration, place),
                workers,
                keep=None,
            )
            packed_at = shipped_at = time.perf_counter()
            if depot is not None:
                sent = depot.ship(shaped.manifest, pools.threads(configuration.transfer_streams))
                inputs = depot.inputs(shaped.manifest)
                shipped_at = time.perf_counter()
            else:
                inputs = inputs_from_manifest(shaped.manifest)
            request = LoadRequest(
                place.open_engine,
                place.table.name,
                shaped.manifest.layout,
                inputs,
                batch_rows=configuration.batch_rows,
                bad_rows=BadRows(),
                levers=configuration.load_levers,
                tier=configuration.tier if place.open_engine().has_sizes else None,
            )
            record = load(request, streams)
        came = _held_to_sample(record, len(shaped.faults), sample)
    finally:
        place.table.remove()
        shutil.rmtree(parts, ignore_errors=True)
        if depot is not None:
            depot.clear()
    phases = {"shape": packed_at - begun, **record.phases}
    if depot is not None:
        phases["ship"] = phases.get("ship", 0.0) + shipped_at - packed_at
    return Trial(
        configuration=configuration,
        repeat=plan.repeat,
        role=plan.role,
        seconds=shipped_at - begun + record.seconds,
        phases={phase: phases[phase] for phase in PHASE_NAMES if phase in phases},
        rows=came,
        bytes=sample.bytes,
        packed_bytes=shaped.manifest.bytes,
        parts=len(shaped.manifest.parts),
        started=started,
        compute=record.compute,
        used=gauge.used,
        read=crew.told,
        part_seconds=tuple(round(part.seconds, 6) for part in record.parts),
        part_bytes=tuple(part.raw_bytes for part in record.parts),
        moved=record.moved + (sent.bytes_sent if sent is not None else 0),
        requests=record.requests + (sent.requests if sent is not None else 0),
        scanned=record.scanned,
        waited=sent.throttled if sent is not None else 0.0,
    )


def _parts_format(configuration: Configuration, place: TrialPlace) -> PartsFormat:
    """How parts are written, as a run writes them."""
    return PartsFormat(
        configuration.format, configuration.packing, configuration.part_size,
        converted=not place.open_engine().sets_aside,
    )  # fmt: skip


def _held_to_sample(record: LoadRecord, set_aside: int, sample: Sample) -> int:
    """Rows that came of a sample, which must be all of it. Raises OutsideError."""
    came = record.rows_loaded + record.rows_rejected + set_aside
    if not record.verified or came != sample.rows:
        differences = "; ".join(record.differences) or f"{came:,} of {sample.rows:,} rows came"
        raise OutsideError(f"It did not load what it read ({differences}).")
    return came


def run_flow_trial(plan: PlannedTrial, samples: Samples, place: TrialPlace, pools: Pools) -> Trial:
    """One trial with its stages at work at the same time; its table and parts are removed."""
    configuration, engine = plan.configuration, place.open_engine()
    sample = samples.of(plan.role)
    parts = place.folder / "parts"
    shutil.rmtree(parts, ignore_errors=True)
    place.table.make()
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    output = _parts_format(configuration, place)
    landing = landing_of(engine.reads_parts, place.open_engine, place.depot())
    pools = pools.on(configuration.machines)
    making = Making(
        tuple(sample.files), sample.layout, output, parts,
        pools.threads(configuration.workers, "shape"), BadRows(),
    )  # fmt: skip
    bringing = Bringing(
        [making], landing, configuration.transfer_streams or configuration.load_streams,
        Course(configuration.load_streams), Watching(sample.bytes), shipping=pools.senders,
    )  # fmt: skip
    streams = pools.streams(configuration.load_streams, engine)
    gauge = Gauge(engine.processes_here, pools.used)
    if place.cold:
        forget_files(sample.files)
    crew = Readers(place.open_engine, place.reading, place.readers, place.table.name)
    try:
        with gauge, crew:
            begun = time.perf_counter()
            request = LoadRequest(
                place.open_engine,
                place.table.name,
                output.layout(sample.layout),
                inputs_from_files(sample.files, sample.layout),
                batch_rows=configuration.batch_rows,
                bad_rows=BadRows(),
                levers=configuration.load_levers,
                tier=configuration.tier if engine.has_sizes else None,
                run=f"trial-{started}",
                delivered=sample.layout,
            )
            before = time.perf_counter() - begun
            try:
                record = load(request, streams, arrivals=bringing)
            finally:
                bringing.stop()
        came = _held_to_sample(record, bringing.set_aside(), sample)
    finally:
        place.table.remove()
        shutil.rmtree(parts, ignore_errors=True)
        if landing is not None:
            landing.clear()
    phases = bringing.phases(record.phases)
    manifest = bringing.shaped[0].manifest
    return Trial(
        configuration, plan.repeat, plan.role, sum(phases.values()),
        {phase: phases[phase] for phase in PHASE_NAMES if phase in phases}, came, sample.bytes,
        manifest.bytes, len(manifest.parts), started, record.compute, used=gauge.used,
        read=crew.told, moved=record.moved, requests=record.requests, scanned=record.scanned,
        overlapped=before + record.seconds,
    )  # fmt: skip


def _greet_streams(strategy: Strategy, place: TrialPlace, pools: Pools) -> None:
    """Starts as many streams as any trial has; what each imports first belongs to none of them."""
    streams = pools.streams(strategy.most_streams, place.open_engine())
    list(streams.map(_greet, [place.open_engine] * streams.workers))


def _greet(open_engine: OpenEngine) -> None:
    """Opens a session and closes it, and stays at it for long enough that each stream gets one."""
    session = open_engine().connect()
    time.sleep(LINGER)
    session.close()
