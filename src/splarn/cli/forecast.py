"""`splarn forecast`: time and cost of each configuration."""

from __future__ import annotations

from typing import Annotated

import typer

from splarn.cli.options import (
    AsJson,
    BatchRows,
    Codecs,
    Durabilities,
    IndexTimings,
    JobFile,
    LayoutFile,
    PartSizes,
    Paths,
    Routes,
    StreamCounts,
    SweepId,
    TargetUrl,
    Tiers,
    VolumeSize,
    WorkerCounts,
)


def forecast(
    paths: Paths = None,
    volume: VolumeSize = None,
    to: TargetUrl = None,
    layout: LayoutFile = None,
    sweep: SweepId = None,
    show: Annotated[
        int, typer.Option("--show", metavar="N", help="Configurations to list, fastest first.")
    ] = 12,
    part_size: PartSizes = None,
    codec: Codecs = None,
    workers: WorkerCounts = None,
    streams: StreamCounts = None,
    batch_rows: BatchRows = None,
    durability: Durabilities = None,
    indexes: IndexTimings = None,
    route: Routes = None,
    tier: Tiers = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Say what every configuration would take for the whole volume, with 90 % intervals.

    Example: [bold]splarn forecast --volume 200GB --streams 1,2,4,8[/bold]
    """
    from splarn.cli.context import Context
    from splarn.cli.learned import learn, require_sweep, say_volume, show_forecasts, volume_of
    from splarn.core.model.forecast import forecast as predict
    from splarn.core.units import plural, show_count, show_duration, show_size

    context = Context(job, as_json)
    out = context.out
    require_sweep(context)
    files = None if volume else context.paths(paths)
    target = context.target(to) if to or context.job.target.url else None
    how = context.layout(layout, files) if files else None
    model, entry = learn(context, sweep, target, how, files)
    space = context.space(
        part_size,
        codec,
        workers,
        streams,
        batch_rows,
        {"durability": durability, "indexes": indexes, "route": route, "tier": tier},
        format=str(entry.document.get("format", "csv")),
    )
    wanted = volume_of(entry, files, volume)
    prices = context.prices()
    found = predict(model, list(space.grid()), wanted, prices)
    found.sort(key=lambda one: one.seconds.median)
    out.say(
        f"{show_size(wanted.bytes)} (about {show_count(wanted.rows)} rows), learnt from "
        f"{plural(model.trials, 'trial')} of {entry.id}; {plural(len(found), 'configuration')}, "
        "fastest first."
    )
    say_volume(out, wanted)
    show_forecasts(out, found[:show], prices.currency)
    if found:
        best = found[0]
        split = ", ".join(
            f"{phase} {show_duration(seconds)}" for phase, seconds in best.phases.items()
        )
        out.say(f"The fastest spends its time so: {split}.")
    out.document(
        {
            "volume": {"bytes": wanted.bytes, "rows": wanted.rows, "error": wanted.error},
            "sweep_id": entry.id,
            "currency": prices.currency,
            "forecasts": [one.as_json() for one in found],
        }
    )
