"""`splarn run`: a plan carried out."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.options import AsJson, JobFile, Yes
from splarn.cli.tables import Column, name
from splarn.core.units import plural, show_change

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.run.flow import RunRecord
    from splarn.core.tuning.plan_file import Plan


def run(
    plan: Annotated[Path, typer.Argument(metavar="PLAN", help="Plan written by `splarn plan`.")],
    parts: Annotated[
        Path | None,
        typer.Option("--parts", metavar="DIR", help="Where the parts are made meanwhile."),
    ] = None,
    keep_parts: Annotated[
        bool, typer.Option("--keep-parts", help="Leave the parts there when all is loaded.")
    ] = False,
    again: Annotated[
        bool, typer.Option("--again", help="Load content again that is already in.")
    ] = False,
    yes: Yes = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Carry a plan out: shape, load, verify, and hold the forecast beside what happened.

    Example: [bold]splarn run plan.json[/bold]

    An interrupted run goes on where it stopped when the same command is given again.
    """
    from contextlib import closing

    from splarn.cli.context import Context
    from splarn.cli.costs import show_cost
    from splarn.cli.learned import layout_id
    from splarn.cli.load import (
        agree,
        begun_before,
        load_code,
        load_document,
        note_begun,
        show_load,
    )
    from splarn.core.ledger import FOLDER
    from splarn.core.run.flow import run_plan
    from splarn.core.source.places import is_url
    from splarn.core.source.secrets import filled
    from splarn.core.tuning.plan_file import read_plan
    from splarn.core.work.machine import describe_machine
    from splarn.core.work.owner import owned
    from splarn.core.work.pools import Pools
    from splarn.core.work.progress import Silent
    from splarn.engines import identity, opener

    context = Context(job, as_json)
    out = context.out
    chosen = read_plan(plan)
    folder = parts or context.job.folder / FOLDER / "parts" / chosen.id
    open_engine = opener(chosen.target)
    context.check_ledger()
    landing = None
    if chosen.depot:
        from splarn.depots.landing import DepotLanding

        landing = DepotLanding(filled(chosen.depot, "The depot"), chosen.id)
    away = any(map(is_url, (*chosen.sources, chosen.depot)))
    with owned(folder), Pools(inherit=not away) as pools:
        record = run_plan(
            chosen,
            open_engine,
            context.job.folder,
            folder,
            pools,
            rejects=context.rejects(),
            again=again,
            keep_parts=keep_parts,
            watch=lambda stage: out.progress() if stage == "load" else Silent(),
            confirm=agree(yes, as_json),
            begun_loads=begun_before(context, chosen.target),
            on_begin=note_begun(context, chosen.target),
            landing=landing,
        )
    document = {
        "plan_id": chosen.id,
        "configuration": chosen.configuration.as_json(),
        "load": load_document(record.load),
        "forecast": chosen.forecast,
        "actual": {
            "seconds": record.seconds,
            "cost": record.cost.total,
            "phases": record.phases,
        },
        "cost": record.cost.as_json(),
        "currency": chosen.prices.currency,
        "error_pct": record.error_pct,
        "resumed": record.resumed,
        "rows_not_converted": record.set_aside,
        "conversion_rejects": str(record.rejects) if record.rejects else None,
    }
    if record.load.done_before:
        show_load(out, record.load)
        out.document(document)
        return load_code(record.load)
    with closing(open_engine().connect()) as session:
        engine = session.version()
    rows = f"{record.load.table}: {plural(record.load.rows_loaded, 'row')}"
    context.note(
        "load",
        record.load.load_id,
        f"{rows}, by {chosen.id}",
        {**load_document(record.load), "target_id": identity(chosen.target)},
        parent=chosen.id,
        seconds=record.load.seconds,
    )
    error = (
        ""
        if record.error_pct is None
        else f", forecast off by {show_change(record.error_pct / 100)}"
    )
    context.note(
        "run",
        f"run-{record.load.load_id}",
        rows + error,
        {
            **document,
            "machine": describe_machine(),
            "trial": None if record.trial is None else record.trial.as_json(),
            "target_id": identity(chosen.target),
            "layout": layout_id(chosen.layout),
            "depot": context.shown_depot(chosen.depot or None),
            "engine": engine,
        },
        parent=chosen.id,
        seconds=record.seconds,
    )
    show_load(out, record.load)
    if record.set_aside:
        out.note(
            f"{plural(record.set_aside, 'bad row')} could not be converted to "
            f"{chosen.configuration.format}, and "
            f"{'is' if record.set_aside == 1 else 'are'} in {record.rejects}."
        )
    _show_beside(out, chosen, record)
    show_cost(out, document)
    out.document(document)
    return load_code(record.load)


def _show_beside(out: Output, plan: Plan, record: RunRecord) -> None:
    from splarn.core.units import show_change, show_duration, show_money, show_range

    seconds, cost = plan.forecast["seconds"], plan.forecast["cost"]
    currency = plan.prices.currency

    def compared(forecast: float, actual: float) -> str:
        if forecast <= 0 or record.resumed:
            return ""
        return show_change(actual / forecast - 1)

    rows = [
        (
            phase,
            show_duration(expected),
            "",
            show_duration(record.phases[phase]),
            compared(expected, record.phases[phase]),
        )
        for phase, expected in plan.forecast["phases"].items()
    ]
    rows.append(
        (
            "total time",
            show_duration(seconds["median"]),
            show_range(seconds["low"], seconds["high"], show_duration),
            show_duration(record.seconds),
            compared(seconds["median"], record.seconds),
        )
    )
    rows.append(
        (
            f"cost, {currency}",
            show_money(cost["median"]),
            f"{show_money(cost['low'])} – {show_money(cost['high'])}",
            show_money(record.cost.total),
            compared(cost["median"], record.cost.total),
        )
    )
    out.table([name(""), ">forecast", Column(">90 % interval", 1), ">actual", ">off by"], rows)
    if record.error_pct is None:
        out.note("This run went on with earlier work, so its time cannot be held to the forecast.")
    elif seconds["low"] <= record.seconds <= seconds["high"]:
        out.good("The actual time lies within the forecast's 90 % interval.")
    else:
        side = "below" if record.seconds < seconds["low"] else "above"
        out.note(
            f"The actual time lies {side} the forecast's 90 % interval: the machine or the target "
            "was not as it was during the sweep."
            + (" The next forecast learns from this load." if record.trial is not None else "")
        )
