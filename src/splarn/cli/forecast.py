"""`splarn forecast`: time and cost of each configuration."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    AskedMonths,
    AskedQuestions,
    Choices,
    JobFile,
    LayoutFile,
    Paths,
    Settings,
    SweepId,
    TargetUrl,
    VolumeSize,
    takes_levers,
)
from splarn.core.tuning.configuration import LEVERS

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.cli.scans import Asked
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.configuration import Space
    from splarn.core.tuning.forecast import Forecast


# So many times the largest trial is worth a word.
FAR = 1.5


@takes_levers(LEVERS)
def forecast(
    paths: Paths = None,
    volume: VolumeSize = None,
    to: TargetUrl = None,
    layout: LayoutFile = None,
    sweep: SweepId = None,
    show: Annotated[int, typer.Option("--show", metavar="N", help="Configurations to list.")] = 12,
    sort: Annotated[
        str,
        typer.Option(
            "--sort",
            metavar="COLUMN",
            help="Order by time, low, high, cost, a phase or a lever; -COLUMN for the other way.",
        ),
    ] = "time",
    where: Annotated[
        list[str] | None,
        typer.Option("--where", metavar="CONDITION", help="Only such, as 'cost < 2'; repeatable."),
    ] = None,
    link: Annotated[
        str | None,
        typer.Option("--link", metavar="RATE", help="What if the line were of 1Gbit/s or 80MB/s."),
    ] = None,
    price_factor: Annotated[
        float,
        typer.Option("--price-factor", metavar="X", min=0, help="What if prices were X times."),
    ] = 1.0,
    files: Annotated[
        int | None,
        typer.Option("--files", metavar="N", min=1, help="What if it came in N files."),
    ] = None,
    readers: Annotated[
        str | None,
        typer.Option(
            "--readers", metavar="SHARE", help="What if readers took so much, as 0.4 or 0.2..0.6."
        ),
    ] = None,
    explain: Annotated[
        bool, typer.Option("--explain", help="Say what the first one's time is made of, and why.")
    ] = False,
    question: AskedQuestions = None,
    kept_as: Annotated[
        list[str] | None,
        typer.Option(
            "--kept-as",
            metavar="LAYOUT",
            help="How rows could be kept, as 'csv zstd(3)' or 'month(entered) sort(toll)'; "
            "repeatable.",
            rich_help_panel="Questions",
        ),
    ] = None,
    months: AskedMonths = None,
    table_name: Annotated[
        str | None,
        typer.Option(
            "--table",
            metavar="NAME",
            help="Questions of this table of a lake as it is, not of files.",
            rich_help_panel="Questions",
        ),
    ] = None,
    latency: Annotated[
        str | None,
        typer.Option(
            "--latency",
            metavar="TIME",
            help="What if each fetch waited so long, as 30ms.",
            rich_help_panel="Questions",
        ),
    ] = None,
    choices: Choices = NO_CHOICES,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Say what every configuration would take for the whole volume, with 90 % intervals.

    Example: [bold]splarn forecast --volume 200GB,400GB --load-streams 1..8 --explain[/bold]

    What reaches beyond the trials is marked. Several volumes get a table each. With questions it
    also says what these read of the rows and cost by how they are kept; that needs no sweep.
    """
    from splarn.cli.charts import show_streams
    from splarn.cli.context import Context
    from splarn.cli.learned import learn, require_sweep, say_learned, say_volume
    from splarn.cli.machines import show_machines
    from splarn.cli.misuse import if_any, read
    from splarn.cli.scans import asked_by, tell_of_table, tell_scans
    from splarn.core.errors import RequestError
    from splarn.core.tuning.columns import Table
    from splarn.core.tuning.explain import held_up
    from splarn.core.tuning.forecast import forecast as foretell
    from splarn.core.tuning.volume import volume_like, volume_of
    from splarn.core.tuning.whatif import WhatIf, parse_shares
    from splarn.core.units import parse_rate, parse_volume, plural

    context = Context(job, as_json, settings)
    out = context.out
    asked = asked_by(context, question, kept_as, months, link, latency)
    if table_name is not None:
        if asked is None:
            raise RequestError("--table goes with questions: give --question too.")
        of_table = tell_of_table(
            context, asked, context.target(to), table_name, context.prices(("u1",))
        )
        out.document({"currency": of_table["currency"], "forecasts": [], "scans": of_table})
        return
    if asked is None or sweep is not None:
        require_sweep(context)
    supposed = WhatIf(
        read("--link", if_any(parse_rate), link), price_factor, files,
        read("--readers", parse_shares, readers) if readers else (0.0, 0.0),
    )  # fmt: skip
    sources = None if volume else context.paths(paths)
    target = context.target(to) if to or context.job.target.url else None
    chosen_layout = context.layout(layout, sources) if sources else None
    packings = [
        one for value in choices.get("packing", ()) for one in LEVERS["packing"].values(value)
    ]
    try:
        if asked is not None and sweep is None:
            require_sweep(context)
        learned = learn(context, sweep, target, chosen_layout, sources, packings=packings)
    except RequestError as error:
        if asked is None or sweep is not None:
            raise
        told_alone = _questions_alone(context, asked, paths, layout, choices)
        out.note(f"What loading takes is not said: {error}")
        out.document({"currency": told_alone["currency"], "forecasts": [], "scans": told_alone})
        return
    entry = learned.sweep
    form = str(entry.document.get("format", "csv"))
    space = context.space(choices, form, bool(entry.document.get("depot")))
    table = Table.of_space(space)
    prices = context.prices(space.values["tier"])
    sample = entry.document["sample"]
    wanted = (
        [volume_like(sample, read("--volume", parse_volume, one)) for one in volume.split(",")]
        if volume
        else [volume_of(sample, sources or ())]
    )
    with out.working("forecasting"):
        told = [
            _told(learned.model, table, one, prices, supposed, sort, where or (), show)
            for one in wanted
        ]
    out.say(f"Learnt from {learned.words}; {plural(table.count, 'configuration')}.")
    if supposed.words():
        out.say(f"Supposing {', '.join(supposed.words())}.")
    phases = {one.law.phase.name for one in learned.model.phases}
    if link is not None and asked is None and "ship" not in phases:
        out.note("Nothing is shipped on this way, so the line makes no difference.")
    say_learned(out, learned, prices)
    documents: list[dict[str, Any]] = []
    for one, (forecasts, count) in zip(wanted, told, strict=True):
        times = one.bytes / max(learned.model.measured.bytes, 1)
        _show(out, one, times, forecasts[:show], count, prices.currency, sort)
        if forecasts and not documents:
            show_streams(
                out, forecasts[0], space.values["load_streams"],
                lambda every: foretell(learned.model, every, wanted[0], prices, supposed),
            )  # fmt: skip
        by_machines = show_machines(
            out,
            space,
            lambda few, one=one: next(  # type: ignore[misc]
                iter(_told(learned.model, few, one, prices, supposed, "time", where or (), 1)[0]),
                None,
            ),
            entry.document.get("cluster"),
            lambda each, one=one: one.bytes / each.configuration.part_size,  # type: ignore[misc]
            lambda each, one=one: held_up(learned.model, each.configuration, one),  # type: ignore[misc]
            prices.currency,
        )
        say_volume(out, one)
        documents.append(
            {
                **({"by_machines": by_machines} if by_machines else {}),
                "volume": {"bytes": one.bytes, "rows": one.rows, "error": one.error},
                "times_tried": times,
                "forecasts": [each.as_json() for each in forecasts],
            }
        )
    document: dict[str, Any] = {
        "sweep_id": entry.id,
        "currency": prices.currency,
        "configurations": table.count,
        **documents[0],
        "volumes": documents,
    }
    if explain and told[0][0]:
        from splarn.cli.explain import explained

        document["explained"] = explained(out, learned, told[0][0][0], supposed.volume(wanted[0]))
    if asked is not None:
        if volume:
            out.note("Questions are of the files as they are, not of another volume.")
        every = sources or context.paths(paths)
        document["scans"] = tell_scans(
            context, asked, every, chosen_layout or context.layout(layout, every), prices,
            laid_out_by(space),
        )  # fmt: skip
    out.document(document)


def laid_out_by(space: Space) -> list[str]:
    """The layouts of files that a space has, none where it has only the usual one."""
    usual = LEVERS["file_layout"].usual
    found = [str(one) for one in space.values["file_layout"]]
    return [] if found == [usual] else found


def _questions_alone(
    context: Context, asked: Asked, paths: Any, layout: Any, choices: Choices
) -> dict[str, Any]:
    """What questions cost, where no sweep tells what loading takes."""
    from splarn.cli.scans import tell_scans

    sources = context.paths(paths)
    chosen = context.layout(layout, sources)
    space = context.space(choices, chosen.format)
    return tell_scans(
        context, asked, sources, chosen, context.prices(space.values["tier"]), laid_out_by(space)
    )


def _told(
    model: Any, table: Any, volume: Volume, prices: Any, supposed: Any, sort: str,
    where: Any, show: int,
) -> tuple[list[Forecast], int]:  # fmt: skip
    """The forecasts that are wanted, in order, and how many configurations were chosen from.

    Of very many only those that are shown are told one by one.
    """
    from dataclasses import replace

    from splarn.core.tuning.forecast import MANY, forecast, spread_of
    from splarn.core.tuning.select import chosen, order_by

    spread = spread_of(model, table, volume, prices, what_if=supposed)
    kept = chosen(spread, where)
    order = [place for place in order_by(spread, sort).tolist() if kept[place]]
    few = order if table.count <= MANY else order[: max(show, 1)]
    forecasts = forecast(model, [table.at(place) for place in few], volume, prices, supposed)
    return [
        replace(one, on_frontier=bool(spread.on_frontier[place]))
        for one, place in zip(forecasts, few, strict=True)
    ], len(order)


def _show(
    out: Output,
    volume: Volume,
    times: float,
    forecasts: list[Forecast],
    count: int,
    currency: str,
    sort: str,
) -> None:
    from splarn.cli.charts import show_phases
    from splarn.cli.learned import show_forecasts
    from splarn.core.units import plural, show_duration, show_size

    if not forecasts:
        out.note("No configuration meets these conditions: leave one out.")
        return
    by = "fastest first" if sort == "time" else f"by {sort}"
    shown = f"{len(forecasts)} of {count:,}, " if count > len(forecasts) else ""
    rows = f"about {plural(round(volume.rows), 'row')}"
    far = f", {float(f'{times:.3g}'):,.10g} times what was tried" if times > FAR else ""
    out.say(f"{show_size(volume.bytes)} ({rows}{far}), {shown}{by}.")
    show_forecasts(out, forecasts, currency)
    best = forecasts[0]
    show_phases(out, best, "fastest" if sort == "time" else "first")
    if best.in_turn.median > 1.02 * best.seconds.median:
        out.say(
            f"One stage after the other, it would take {show_duration(best.in_turn.median)}; a run "
            "has them at work at the same time."
        )
