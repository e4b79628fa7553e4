"""The run: a plan carried out, its forecast held against what happened."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from splarn.core.check.limit import too_many_bad
from splarn.core.errors import RequestError
from splarn.core.layout.descriptor import read_layout, to_descriptor
from splarn.core.load import LoadRecord, LoadRequest, inputs_from_manifest, load
from splarn.core.load.landing import Landing
from splarn.core.load.refusals import Confirm
from splarn.core.prices import Cost, Stretch, reckon
from splarn.core.reading.faults import count_rejects, read_rejects, replace_rejects
from splarn.core.shape import Manifest, read_manifest
from splarn.core.shape.manifest import MANIFEST
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import Shaped, shape
from splarn.core.source.files import find_files
from splarn.core.target.notes import LoadNote
from splarn.core.target.seen import look_at
from splarn.core.target.session import OpenEngine
from splarn.core.tuning.bill import BUSY_PHASES
from splarn.core.tuning.laws import PHASE_NAMES
from splarn.core.tuning.plan_file import Plan
from splarn.core.tuning.trial import Trial
from splarn.core.work.pool import Pools
from splarn.core.work.progress import Progress

# Sources may have grown a little since the plan; beyond this the forecast is of something else.
VOLUME_SLACK = 0.02
# Rows that could not be converted, beside the parts until the run is over.
REJECTS = "shape.rejects.jsonl"


@dataclass(frozen=True)
class RunRecord:
    """What a run took. `phases` and `seconds` are in seconds.

    `error_pct` is the actual time over the forecast median, less one, in percent; None when the
    run went on with an earlier one's work, since its time then says nothing. `set_aside` are rows
    that could not be converted into the parts' format; they are in `rejects`. `trial` is what later
    forecasts learn from it; None of a run that says nothing of a whole load.
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


def run_plan(
    plan: Plan,
    open_engine: OpenEngine,
    base: Path,
    folder: Path,
    pools: Pools,
    *,
    rejects: Path | None = None,
    again: bool = False,
    keep_parts: bool = False,
    progress: Progress | None = None,
    confirm: Confirm | None = None,
    begun_loads: tuple[tuple[str, str], ...] = (),
    on_begin: Callable[[LoadNote], None] | None = None,
    landing: Landing | None = None,
) -> RunRecord:
    """Shapes into `folder` and loads from there; the same call goes on after an interruption.

    With a `landing` the parts are shipped there and loaded from there.

    Where an earlier call has loaded all, this one looks whether it is there, and tidies up.

    `confirm` is asked before more rows are removed than come.
    Parts are removed once the load is verified, unless `keep_parts`.
    Raises RequestError when the source is no longer what was planned, and what `shape` and `load`
    raise.
    """
    paths = find_files(plan.sources, base)
    if not paths:
        raise RequestError("The plan's source files are gone: bring them back, or plan again.")
    size = sum(path.stat().st_size for path in paths)
    if abs(size - plan.source_bytes) > VOLUME_SLACK * plan.source_bytes:
        raise RequestError(
            f"The source has {size:,} bytes now and had {plan.source_bytes:,} when it was "
            "planned: plan again."
        )
    refuse_changed(plan, open_engine)
    configuration = plan.configuration
    # Worker processes start before the clock does, as they did for the trials.
    workers = pools.threads(configuration.workers)
    streams = pools.streams(configuration.load_streams, open_engine().in_process)
    begun = time.perf_counter()
    started = datetime.now(UTC).isoformat(timespec="milliseconds")
    parts = PartsFormat(configuration.format, configuration.packing, configuration.part_size)
    aside = None if parts.is_copy(plan.layout) else folder / REJECTS
    standing = (folder / MANIFEST).exists() and (aside is None or aside.exists())
    manifest: Manifest
    if standing:
        manifest = read_manifest(folder)
    else:
        keep = 0 if aside is None or plan.bad_rows.count == 0 else None
        # Parts whose rejects were not kept before a kill are made again.
        made = shape(
            paths, plan.layout, folder, parts, workers, keep=keep,
            again=(folder / MANIFEST).exists(), progress=progress,
        )  # fmt: skip
        manifest = made.manifest
        if aside is not None:
            _hold_to_limit(plan, made)
            replace_rejects(aside, made.faults)
    set_aside = 0 if aside is None else count_rejects(aside)
    shaping = shipped = time.perf_counter() - begun
    sent = None
    inputs = inputs_from_manifest(manifest) if landing is None else ()
    if landing is not None:
        senders = pools.threads(max(configuration.transfer_streams, 1))
        sent = landing.ship(manifest, senders, progress)
        inputs = landing.inputs(manifest)
        shipped = time.perf_counter() - begun
    record = load(
        LoadRequest(
            open_engine,
            plan.table,
            manifest.layout,
            inputs,
            batch_rows=configuration.batch_rows,
            table_mode=plan.table_mode,
            bad_rows=plan.bad_rows.less(set_aside),
            levers=configuration.load_levers,
            rejects=rejects,
            again=again,
            tier=configuration.tier if open_engine().reads_parts else None,
            begun=begun_loads,
        ),
        streams,
        progress=progress,
        confirm=confirm,
        on_begin=on_begin,
    )
    seconds = shipped + record.seconds
    phases = {"shape": shaping, **record.phases}
    if landing is not None:
        phases["ship"] = phases.get("ship", 0.0) + shipped - shaping
    busy = sum(phases.get(phase, 0.0) for phase in BUSY_PHASES)
    of_load = record.usage(configuration.tier)
    compute = record.compute or (Stretch(configuration.tier, busy),)
    usage = replace(of_load, compute=compute, machine=seconds)
    if sent is not None:
        of_sent = sent.usage()
        usage = replace(
            usage,
            stored=of_sent.stored,
            requests=usage.requests + of_sent.requests,
            moved=usage.moved + of_sent.moved,
        )
    resumed = standing or record.resumed or record.done_before
    median = float(plan.forecast["seconds"]["median"])
    kept = None
    if aside is not None and set_aside:
        kept = (rejects or folder.parent) / f"{plan.id}.rejects.jsonl"
        replace_rejects(kept, read_rejects(aside))
    if record.verified and not keep_parts:
        if landing is not None:
            landing.clear()
        shutil.rmtree(folder, ignore_errors=True)
    in_order = {phase: phases[phase] for phase in PHASE_NAMES if phase in phases}
    trial = Trial(
        configuration, 1, "run", seconds, in_order, record.rows_loaded + record.rows_rejected,
        sum(part.raw_bytes for part in record.parts) or round(plan.volume.bytes), manifest.bytes,
        len(manifest.parts), started, compute, moved=round(usage.moved),
        requests=round(usage.requests), scanned=round(usage.scanned),
        part_seconds=tuple(round(part.seconds, 6) for part in record.parts),
        part_bytes=tuple(part.raw_bytes for part in record.parts),
    )  # fmt: skip
    return RunRecord(
        record,
        in_order,
        seconds,
        reckon(plan.prices, usage),
        None if resumed else (seconds / median - 1) * 100,
        resumed,
        set_aside,
        kept,
        trial if record.verified and not resumed else None,
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


def _hold_to_limit(plan: Plan, made: Shaped) -> None:
    """Raises ShortfallError when a conversion set aside more rows than the plan allows."""
    bad = len(made.faults)
    if not plan.bad_rows.allows_in_the_end(bad, made.manifest.rows + bad):
        raise too_many_bad(plan.bad_rows, made.faults[-1])
