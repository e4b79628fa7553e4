"""The run: a plan carried out, its forecast held against what happened."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from importlib.metadata import version
from pathlib import Path
from typing import Any

import xxhash

from splarn.core.errors import RequestError
from splarn.core.flow.bringing import Bringing, Making, landing_of
from splarn.core.flow.leaving import TableMaking, held_against, input_of
from splarn.core.flow.watching import Watching
from splarn.core.layout.descriptor import read_layout, to_descriptor
from splarn.core.load import LoadRecord, LoadRequest, inputs_of_kinds, load
from splarn.core.load.arriving import Course
from splarn.core.load.landing import Landing
from splarn.core.load.refusals import Confirm
from splarn.core.prices import Cost, Stretch, reckon
from splarn.core.run.kinds import KindFiles, files_of, name_of, parts_format
from splarn.core.run.steering import Change, Steering
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.ship.record import ShipRecord
from splarn.core.source.codecs import Packing
from splarn.core.target.notes import LoadNote
from splarn.core.target.outgoing import Wanted
from splarn.core.target.seen import look_at
from splarn.core.target.session import OpenEngine
from splarn.core.tuning.bill import BUSY_PHASES
from splarn.core.tuning.laws import PHASE_NAMES
from splarn.core.tuning.plan_file import Plan
from splarn.core.tuning.trial import Trial
from splarn.core.unload import UnloadRequest
from splarn.core.unload.unloader import leaving
from splarn.core.work.pools import Pools
from splarn.core.work.progress import Silent

# Sources may have grown a little since the plan; beyond this the forecast is of something else.
VOLUME_SLACK = 0.02


def moved_from(
    open_engine: OpenEngine, place: str, table: str, plan: Plan, target_id: str, folder: Path
) -> UnloadRequest:
    """What asks for the rows of another table than the plan's; `place` and `target_id` are what
    the two targets are known by.

    Raises RequestError where it is the same.
    """
    if (place, table) == (target_id, plan.table):
        raise RequestError(f"{table} is the table that the plan fills: name another one.")
    # The plan says how parts are made.
    output = PartsFormat("csv", Packing(), 1)
    return UnloadRequest(open_engine, place, Wanted(table), folder, output)


@dataclass(frozen=True)
class Moved:
    """A table whose rows a run took in place of files, and what the target of it says of them.

    `verified` says that its figures of every column are those of what came out; it is None where
    it tells none.
    """

    place: str
    table: str
    rows: int
    verified: bool | None
    differences: tuple[str, ...] = ()


@dataclass(frozen=True)
class RunRecord:
    """What a run took. `phases` and `seconds` are in seconds.

    `error_pct` is the actual time over the forecast median, less one, in percent; None when the
    run went on with an earlier one's work, since its time then says nothing. `set_aside` are rows
    that could not be converted into the parts' format; they are in `rejects`. `trial` is what later
    forecasts learn from it; None of a run that says nothing of a whole load. `changes` are what was
    changed while it lasted. `moved` is there where rows came from a table of another target.
    """

    load: LoadRecord
    phases: dict[str, float]
    seconds: float
    cost: Cost
    error_pct: float | None
    resumed: bool
    set_aside: int = 0
    rejects: Path | None = None
    trial: Trial | None = None
    changes: tuple[Change, ...] = ()
    moved: Moved | None = None

    def as_json(self, plan: Plan) -> dict[str, Any]:
        """Everything beside the plan's forecast, ready for JSON."""
        return {
            "plan_id": plan.id,
            "parameters": plan.parameters,
            "configuration": plan.configuration.as_json(),
            "load": self.load.as_json(),
            "forecast": plan.forecast,
            "actual": {
                "seconds": self.seconds,
                "cost": self.cost.total,
                "phases": self.phases,
            },
            "cost": self.cost.as_json(),
            "currency": plan.prices.currency,
            "error_pct": self.error_pct,
            "resumed": self.resumed,
            "changes": [one.as_json() for one in self.changes],
            **({} if self.moved is None else {"moved": asdict(self.moved)}),
            "rows_not_converted": self.set_aside,
            "conversion_rejects": str(self.rejects) if self.rejects else None,
        }


def run_plan(
    plan: Plan,
    open_engine: OpenEngine,
    base: Path,
    folder: Path,
    pools: Pools,
    watching: Watching,
    *,
    rejects: Path | None = None,
    again: bool = False,
    keep_parts: bool = False,
    confirm: Confirm | None = None,
    begun_loads: tuple[tuple[str, str], ...] = (),
    on_begin: Callable[[LoadNote], None] | None = None,
    landing: Landing | None = None,
    steering: Steering | None = None,
    moving: UnloadRequest | None = None,
) -> RunRecord:
    """Makes parts in `folder` and loads each as soon as it is whole, all at the same time.

    With a `landing` parts are shipped there meanwhile and loaded from there. The same call goes on
    after an interruption: parts made stay, what was sent stays, rows in stay. Where an earlier call
    has loaded all, this one looks whether it is there, and tidies up.

    `confirm` is asked before more rows are removed than come; `watching` is told how it goes.
    Parts are removed once they are in, unless `keep_parts`. `steering` may change streams and tier.
    With `moving` the rows are those of a table of another target rather than of the plan's files.
    Raises RequestError when the source is no longer what was planned, and what `shape`, `ship` and
    `load` raise.
    """
    files = _source_of(plan, base) if moving is None else []
    refuse_changed(plan, open_engine)
    configuration, engine = plan.configuration, open_engine()
    # Worker processes start before the clock does, as they did for the trials.
    pools = pools.on(configuration.machines)
    workers = pools.threads(configuration.workers, "shape")
    course = Course(configuration.load_streams) if steering is None else steering.course
    streams = pools.streams(course.most, engine)
    watching.begin()
    begun = time.perf_counter()
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    parts = parts_format(plan, engine.sets_aside)
    # Rows that cannot be moved in one set are loaded once more, from the parts.
    twice = configuration.route == "landing" and plan.bad_rows.count != 0
    kept_here = keep_parts or twice
    with ExitStack() as held:
        making: TableMaking | None = None
        if moving is None:
            into, delivered = parts.layout(plan.layout), plan.layout
            makings: list[Making] = [
                Making(
                    one.paths, one.layout, parts,
                    folder if one.kind is None else folder / one.kind.name,
                    workers, plan.bad_rows, kept_here, one.fitting(into),
                    None if one.kind is None else name_of(one.kind),
                )
                for one in files
            ]  # fmt: skip
            inputs = inputs_of_kinds([(one.paths, one.layout) for one in files])
        else:
            moving = replace(moving, into=folder, output=replace(parts, converted=True))
            going = held.enter_context(leaving(moving, Silent()))
            making = TableMaking(
                (), going.source, moving.output, folder, workers, plan.bad_rows, kept_here,
                going=going, request=moving,
            )  # fmt: skip
            into, delivered = making.made, going.source
            makings, inputs = [making], (input_of(making),)
        landing = landing_of(engine.reads_parts, open_engine, landing)
        senders = configuration.transfer_streams or configuration.load_streams
        # What has been shipped waits where it is; what lies here fills the disk.
        away = landing is not None and not landing.read_here
        bringing = Bringing(
            makings, landing, senders, course, watching,
            _enough(plan, watching) if engine.reads_parts else None,
            ENDLESS if away and engine.reads_parts else None,
            (rejects or folder.parent) / f"{plan.id}.rejects.jsonl",
            pools.senders,
        )  # fmt: skip
        request = LoadRequest(
            open_engine,
            plan.table,
            into,
            inputs,
            batch_rows=configuration.batch_rows,
            table_mode=plan.table_mode,
            bad_rows=plan.bad_rows,
            levers=configuration.load_levers,
            rejects=rejects,
            again=again,
            tier=configuration.tier if engine.has_sizes else None,
            begun=begun_loads,
            run=plan.id,
            cut=way_of_cutting(makings),
            delivered=delivered,
        )
        before = time.perf_counter() - begun
        try:
            record = load(
                request, streams, progress=watching.stage("load"), confirm=confirm,
                on_begin=on_begin, arrivals=bringing,
            )  # fmt: skip
        finally:
            bringing.stop()
    _tidy_up(record, bringing, folder, keep_parts)
    kept = bringing.rejects if bringing.faults else None
    changes = () if steering is None else tuple(steering.changes)
    told = _told(plan, record, bringing, before, started, kept, changes)
    return told if making is None else _moved(told, making)


def _moved(told: RunRecord, making: TableMaking) -> RunRecord:
    """The same of rows that came from a table, of which no forecast tells and none is to learn."""
    going, load = making.going, told.load
    verified, differs = held_against(going, load.rows_loaded, load.digests)
    moved = Moved(going.place, going.wanted.table, going.rows, verified, differs)
    return replace(told, trial=None, error_pct=None, moved=moved)


# What cuts the same files otherwise than before, or calls the parts otherwise, must count this on.
CUTTING = 2
# As many parts as there are.
ENDLESS = 1 << 30


def _enough(plan: Plan, watching: Watching) -> Callable[[], bool]:
    """Whether what is still to arrive will have arrived by the time that the rest is loaded.

    A larger compute is begun no sooner, so that it never waits and is paid no longer than needed.
    """
    loading = float(plan.forecast["phases"].get("load", 0.0))

    def enough() -> bool:
        share = watching.stage("ship").share
        return share > 0 and watching.elapsed * (1 / share - 1) <= loading

    return enough


def way_of_cutting(makings: Sequence[Making]) -> str:
    """What tells whether the same files are cut into the same parts."""
    settings: list[Any] = [CUTTING]
    for one in makings:
        settings += [to_descriptor(one.layout), repr(one.output)]
        if one.fitting is not None:
            settings.append(repr(one.fitting))
        if one.output.format == "parquet":
            # Its files name what wrote them.
            settings.append(version("pyarrow"))
    return xxhash.xxh3_64_hexdigest(json.dumps(settings, default=str).encode())


def _source_of(plan: Plan, base: Path) -> list[KindFiles]:
    files = files_of(plan, base)
    for one in files:
        planned = plan.source_bytes if one.planned_bytes is None else one.planned_bytes
        if abs(one.bytes - planned) > VOLUME_SLACK * planned:
            what = "The source has" if one.kind is None else f"The kind {one.kind.name} has"
            raise RequestError(
                f"{what} {one.bytes:,} bytes now and had {planned:,} when it was planned: plan "
                "again."
            )
    return [one for one in files if one.paths]


def _tidy_up(record: LoadRecord, bringing: Bringing, folder: Path, keep_parts: bool) -> None:
    """Leaves what is to be kept and removes the rest."""
    if keep_parts:
        for shaped in bringing.shaped:
            shaped.finish()
    elif not record.differences:
        if bringing.landing is not None:
            bringing.landing.clear()
        shutil.rmtree(folder, ignore_errors=True)


def _told(
    plan: Plan,
    record: LoadRecord,
    bringing: Bringing,
    before: float,
    started: str,
    kept: Path | None,
    changes: tuple[Change, ...],
) -> RunRecord:
    """What came of a run: its phases, its cost, and what forecasts learn from it."""
    seconds = before + record.seconds
    phases = bringing.phases(record.phases)
    busy = sum(phases.get(phase, 0.0) for phase in BUSY_PHASES)
    tier = plan.configuration.tier
    compute = record.compute or (Stretch(tier, busy),)
    usage = replace(
        record.usage(tier), compute=compute, machine=seconds * plan.configuration.machines
    )
    if bringing.landing is not None and not bringing.landing.read_here:
        of_sent = ShipRecord(bringing.landing.place, tuple(bringing.sent), 0.0, True).usage()
        usage = replace(
            usage,
            stored=of_sent.stored,
            requests=usage.requests + of_sent.requests,
            moved=usage.moved + of_sent.moved,
        )
    resumed = record.resumed or record.done_before
    expected = plan.forecast["seconds"]
    in_order = {phase: phases[phase] for phase in PHASE_NAMES if phase in phases}
    trial = None
    # One that changed on its way tells of no configuration, and several kinds of no layout.
    made = [shaped.manifest for shaped in bringing.shaped]
    if made and record.verified and not (resumed or changes or plan.kinds):
        trial = Trial(
            plan.configuration, 1, "run", sum(in_order.values()), in_order,
            record.rows_loaded + record.rows_rejected,
            sum(part.raw_bytes for part in record.parts) or round(plan.volume.bytes),
            sum(one.bytes for one in made), sum(len(one.parts) for one in made), started, compute,
            moved=round(usage.moved), requests=round(usage.requests), scanned=round(usage.scanned),
            part_seconds=tuple(round(part.seconds, 6) for part in record.parts),
            part_bytes=tuple(part.raw_bytes for part in record.parts), overlapped=seconds,
        )  # fmt: skip
    return RunRecord(
        record,
        in_order,
        seconds,
        reckon(plan.prices, usage),
        None if resumed else (seconds / float(expected["median"]) - 1) * 100,
        resumed,
        bringing.set_aside(),
        kept,
        trial,
        changes,
    )


def refuse_changed(plan: Plan, open_engine: OpenEngine) -> None:
    """Raises RequestError where the layout or the table is no longer what was planned with."""
    file = Path(plan.layout_file) if plan.layout_file else None
    planned = to_descriptor(plan.layout)
    if file is not None and file.exists() and to_descriptor(read_layout(file)) != planned:
        raise RequestError(
            f"The layout {file} says something else now than when it was planned: plan again."
        )
    if not plan.seen.columns or plan.table_mode == "replace":
        return
    now = look_at(open_engine, plan.table).columns
    if now != plan.seen.columns:
        state = "has other columns now than" if now else "is gone, and was there"
        raise RequestError(
            f"The table {plan.table} {state} when it was planned: plan again with the table as it "
            "is."
        )
