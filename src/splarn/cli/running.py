"""Around a run: the look before it, the forecast beside what happened after it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.cli.tables import Column, name
from splarn.cli.tables import text as sentences
from splarn.core.units import plural, show_change, show_duration, show_money, show_range, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.run.drift import Delivery
    from splarn.core.run.flow import RunRecord
    from splarn.core.tuning.plan_file import Plan

# Seconds or money that nothing is held against.
NOTHING = 1e-6
# A difference from the forecast that is not worth a word.
SAME = 0.02
# One that is told as a factor.
MANY_TIMES = 9


def anew(context: Context, plan: Plan) -> Plan:
    """A plan whose parameters have other values, with the forecast of what comes with these."""
    from splarn.cli.kinds import forecasts_by_table
    from splarn.cli.learned import learn
    from splarn.core.errors import RequestError
    from splarn.core.run.kinds import files_of, scaled
    from splarn.core.tuning.forecast import forecast
    from splarn.core.tuning.volume import volume_of

    kinds = files_of(plan, context.job.folder)
    files = [path for one in kinds for path in one.paths]
    size = kinds[0].bytes
    before = plan.source_bytes + sum(kind.bytes for kind in plan.kinds)
    plan = replace(plan, kinds=tuple(
        replace(one.kind, bytes=one.bytes) for one in kinds if one.kind is not None
    ))  # fmt: skip
    try:
        way = context.shown_depot(plan.way)
        learned = learn(context, None, plan.target, plan.layout, None, way)
    except RequestError as error:
        context.out.note(f"The forecast is the plan's, in proportion: {error}")
        by = sum(one.bytes for one in kinds) / max(before, 1)
        return replace(plan, source_bytes=size, forecast=scaled(plan.forecast, by), tables={})
    sample = learned.sweep.document["sample"]
    volume = volume_of(sample, files, bool(plan.kinds))
    told = forecast(learned.model, [plan.configuration], volume, plan.prices)[0]
    plan = replace(plan, source_bytes=size, volume=volume, forecast=told.as_json())
    tables = forecasts_by_table(plan, learned.model, sample, context.job.folder)
    return replace(plan, tables=tables)


def taken_apart(context: Context, plan: Plan) -> Plan:
    """The plan with files of other columns as kinds of their own, where the job lets them pass.

    Raises RequestError where it does not.
    """
    from splarn.core.errors import RequestError
    from splarn.core.run import kinds

    apart, found = kinds.taken_apart(plan, context.job.folder)
    for path, other in found:
        if "columns" not in context.job.run.may_pass:
            raise RequestError(
                f"{path} has other columns than those before: {other.words}. Nothing was loaded: "
                'look at it, and where columns may come and go, write may_pass = ["columns"] under '
                "[run] in the job file."
            )
        nulls = f", null in the table: {', '.join(other.lacks)}" if other.lacks else ""
        lost = f", left out: {', '.join(other.adds)}" if other.adds else ""
        context.out.note(f"{path} has other columns, which the job lets pass{nulls}{lost}.")
    return apart


def hold_to_earlier(context: Context, plan: Plan) -> Delivery:
    """A look at what is to be loaded. Raises RequestError where it is unlike what came before.

    What the job lets pass is said.
    """
    from splarn.core.run.noting import held_to_earlier
    from splarn.engines import identity

    job = context.job
    said: list[str] = []
    with context.ledger() as ledger, context.out.working("looking at what comes"):
        found = held_to_earlier(
            ledger, plan, job.folder, identity(plan.target), job.run.may_pass, said.append
        )
    for one in said:
        context.out.note(one)
    return found


@contextmanager
def telling(heard: Callable[[str, dict[str, Any]], None]) -> Iterator[None]:
    """Tells of an error that ends what is done meanwhile, and raises it."""
    from splarn.core.errors import SplarnError

    try:
        yield
    except (SplarnError, KeyboardInterrupt) as error:
        heard("error", {"error": str(error) or "interrupted"})
        raise


def ceilings_of(context: Context, plan: Plan) -> dict[str, float]:
    """Bytes a second that each stage reaches at most here, where `doctor --probe` has noted it."""
    from splarn.core.tuning.ceilings import ceilings

    with context.ledger() as ledger:
        probe = ledger.last("probe")
    if probe is None:
        return {}
    found = ceilings(plan.configuration, probe.document)
    return {phase: speed for phase, (speed, _) in found.items() if phase != "ship"}


def say_steps(context: Context, plan: Plan, folder: Path, delivery: Delivery) -> dict[str, Any]:
    """What a run would do and what each step is expected to take, as JSON too; nothing is done."""
    from splarn.core.run.flow import refuse_changed
    from splarn.engines import opener

    out, one = context.out, plan.configuration
    open_engine = opener(plan.target)
    refuse_changed(plan, open_engine)
    target = open_engine().place
    phases = plan.forecast["phases"]
    count = plan.volume.parts(one.part_size)
    parts = plural(sum(number for _, number in count), "part")
    workers, streams = plural(one.workers, "worker"), plural(one.load_streams, "stream")
    steps = [("shape", f"{plural(delivery.files, 'file')} into {parts} by {workers}, "
              f"{one.format} {one.packing}", show_size(delivery.bytes))]  # fmt: skip
    if plan.depot:
        senders = plural(one.transfer_streams, "stream")
        steps.append(("ship", f"to {context.shown_depot(plan.depot)} by {senders}", ""))
    elif "ship" in phases:
        steps.append(("ship", f"into the inbox of {target} by {streams}", ""))
    if "size" in phases:
        steps.append(("size", f"the compute to {one.tier} and back", ""))
    steps.append(("queue", "until the target lets it in", ""))
    expected = plan.volume.rows if delivery.rows is None else delivery.rows
    rows = f"about {plural(round(expected), 'row')}"
    steps.append(("load", f"into {plan.table} of {target} by {streams}", rows))
    steps.append(("finish", "what came in held against what was read, and noted", rows))
    seconds, cost = plan.forecast["seconds"], plan.forecast["cost"]
    currency = plan.prices.currency
    begun = folder.exists() and any(folder.iterdir())
    out.say(
        f"{'It would go on with' if begun else 'It would carry out'} {plan.id}; nothing was done."
    )
    out.table(
        ["step", sentences("what"), ">how much", ">expected"],
        [(step, what, much, show_duration(phases[step]) if step in phases else "")
         for step, what, much in steps],
    )  # fmt: skip
    out.say(
        f"All at the same time: {show_duration(seconds['median'])} "
        f"({show_range(seconds['low'], seconds['high'], show_duration)}) for "
        f"{show_money(cost['median'], currency)}."
    )
    return {
        "plan_id": plan.id, "parameters": plan.parameters, "dry": True, "goes_on": begun,
        "steps": [{"step": step, "what": what, "seconds": phases.get(step)}
                  for step, what, _ in steps],
        "seconds": seconds, "cost": cost, "rows": expected, "bytes": delivery.bytes,
    }  # fmt: skip


def show_run(context: Context, plan: Plan, record: RunRecord, document: dict[str, Any]) -> None:
    """What came of a run, for a person."""
    from splarn.cli.costs import show_cost
    from splarn.cli.load import show_load

    out = context.out
    show_load(out, record.load)
    if record.load.done_before:
        return
    if record.set_aside:
        out.note(
            f"{plural(record.set_aside, 'bad row')} could not be converted to "
            f"{plan.configuration.format}, and "
            f"{'is' if record.set_aside == 1 else 'are'} in {record.rejects}."
        )
    if record.moved is None:
        show_beside(out, plan, record)
    else:
        # A plan forecasts files: how long rows take to leave a table it does not know.
        stages = {"shape": "unloading", "ship": "shipping", "load": "loading"}
        told = [
            f"{words} {show_duration(record.phases[phase])}"
            for phase, words in stages.items() if phase in record.phases
        ]  # fmt: skip
        out.say(f"All at the same time, {', '.join(told)}: {show_duration(record.seconds)} in all.")
    show_cost(out, document, plan.configuration.machines)


def show_beside(out: Output, plan: Plan, record: RunRecord) -> None:
    """The forecast beside what happened, by phase, in all and for cost."""
    currency = plan.prices.currency
    seconds, cost = plan.forecast["seconds"], plan.forecast["cost"]

    def compared(forecast: float, actual: float, less: str, more: str) -> str:
        if forecast < NOTHING or record.resumed:
            return ""
        change = actual / forecast - 1
        if abs(change) < SAME:
            return "as forecast"
        if change > MANY_TIMES:
            return f"{change + 1:,.0f} times as {'much' if more == 'dearer' else 'long'}"
        return f"{show_change(abs(change)).lstrip('+')} {more if change > 0 else less}"

    rows = [
        (
            phase,
            show_duration(expected),
            "",
            show_duration(record.phases.get(phase, 0.0)),
            compared(expected, record.phases.get(phase, 0.0), "faster", "slower"),
        )
        for phase, expected in plan.forecast["phases"].items()
    ]
    rows.append(
        (
            "all at the same time",
            show_duration(seconds["median"]),
            show_range(seconds["low"], seconds["high"], show_duration),
            show_duration(record.seconds),
            compared(seconds["median"], record.seconds, "faster", "slower"),
        )
    )
    rows.append(
        (
            f"cost, {currency}",
            show_money(cost["median"]),
            f"{show_money(cost['low'])} – {show_money(cost['high'])}",
            show_money(record.cost.total),
            compared(cost["median"], record.cost.total, "cheaper", "dearer"),
        )
    )
    out.table(
        [name(""), ">forecast", Column(">90 % interval", 1), ">actual", "than forecast"], rows
    )
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
