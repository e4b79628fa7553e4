"""`splarn forecast`: time and cost of each configuration."""

from __future__ import annotations

from typing import Annotated

import typer

from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    Choices,
    JobFile,
    LayoutFile,
    Paths,
    SweepId,
    TargetUrl,
    VolumeSize,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS


@takes_levers(LEVERS)
def forecast(
    paths: Paths = None,
    volume: VolumeSize = None,
    to: TargetUrl = None,
    layout: LayoutFile = None,
    sweep: SweepId = None,
    show: Annotated[
        int, typer.Option("--show", metavar="N", help="Configurations to list, fastest first.")
    ] = 12,
    choices: Choices = NO_CHOICES,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Say what every configuration would take for the whole volume, with 90 % intervals.

    Example: [bold]splarn forecast --volume 200GB --load-streams 1,2,4,8[/bold]
    """
    from splarn.cli.context import Context
    from splarn.cli.learned import learn, require_sweep, say_volume, show_forecasts, volume_of
    from splarn.core.tuning.forecast import forecast as predict
    from splarn.core.units import plural, show_duration, show_size

    context = Context(job, as_json)
    out = context.out
    require_sweep(context)
    files = None if volume else context.paths(paths)
    target = context.target(to) if to or context.job.target.url else None
    chosen_layout = context.layout(layout, files) if files else None
    model, entry = learn(context, sweep, target, chosen_layout, files)
    form = str(entry.document.get("format", "csv"))
    space = context.space(choices, form, bool(entry.document.get("depot")))
    wanted = volume_of(entry.document["sample"], files, volume)
    prices = context.prices(space.values["tier"])
    forecasts = predict(model, list(space.grid()), wanted, prices)
    forecasts.sort(key=lambda one: one.seconds.median)
    out.say(
        f"{show_size(wanted.bytes)} (about {plural(round(wanted.rows), 'row')}), learnt from "
        f"{plural(model.trials, 'trial')} of {entry.id}; {plural(len(forecasts), 'configuration')}"
        ", fastest first."
    )
    say_volume(out, wanted)
    show_forecasts(out, forecasts[:show], prices.currency)
    if forecasts:
        best = forecasts[0]
        split = ", ".join(
            f"{phase} {show_duration(seconds)}" for phase, seconds in best.phases.items()
        )
        out.say(f"The fastest spends its time so: {split}.")
    out.document(
        {
            "volume": {"bytes": wanted.bytes, "rows": wanted.rows, "error": wanted.error},
            "sweep_id": entry.id,
            "currency": prices.currency,
            "forecasts": [one.as_json() for one in forecasts],
        }
    )
