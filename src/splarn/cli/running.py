"""Around a run: the look before it, the forecast beside what happened after it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.cli.tables import Column, name
from splarn.core.units import plural, show_change, show_duration, show_money, show_range, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.run.drift import Delivery
    from splarn.core.run.flow import RunRecord
    from splarn.core.tuning.plan_file import Plan

# So many deliveries are remembered.
LAST = 5
# A difference from the forecast that is not worth a word.
SAME = 0.02


def anew(context: Context, plan: Plan) -> Plan:
    """A plan whose parameters have other values, with the forecast of what comes with these."""
    from splarn.cli.learned import learn, volume_of
    from splarn.core.errors import RequestError
    from splarn.core.source.files import find_files
    from splarn.core.tuning.forecast import forecast

    files = find_files(plan.sources, context.job.folder)
    size = sum(path.stat().st_size for path in files)
    try:
        way = context.shown_depot(plan.depot or None)
        learned = learn(context, None, plan.target, plan.layout, None, way)
    except RequestError as error:
        context.out.note(f"The forecast is the plan's, in proportion: {error}")
        by = size / max(plan.source_bytes, 1)
        return replace(plan, source_bytes=size, forecast=_scaled(plan.forecast, by))
    volume = volume_of(learned.sweep.document["sample"], files, None)
    told = forecast(learned.model, [plan.configuration], volume, plan.prices)[0]
    return replace(plan, source_bytes=size, volume=volume, forecast=told.as_json())


def _scaled(told: Any, by: float) -> Any:
    """All figures times a factor."""
    if isinstance(told, dict):
        return {
            key: _scaled(value, by) if key != "configuration" else value
            for key, value in told.items()
        }
    return told * by if isinstance(told, float) else told


def hold_to_earlier(context: Context, plan: Plan) -> Delivery:
    """A look at what is to be loaded. Raises RequestError where it is unlike what came before.

    What the job lets pass is said.
    """
    from splarn.core.errors import RequestError
    from splarn.core.run.drift import KINDS, Delivery, drifted, look_at_delivery
    from splarn.core.source.files import find_files
    from splarn.engines import identity

    now = look_at_delivery(find_files(plan.sources, context.job.folder), plan.layout)
    before = []
    place, series = identity(plan.target), plan.templates.table or plan.table
    with context.ledger() as ledger:
        for one in ledger.entries("run"):
            told = one.document
            same = told.get("target_id") == place and told.get("series") == series
            if same and told.get("plan_id") != plan.id and told.get("delivery"):
                before.append(Delivery.read(told["delivery"]))
    for drift in drifted(now, before[-LAST:]):
        unlike = f"unlike the deliveries before: {drift.words}"
        if drift.kind in context.job.run.may_pass:
            context.out.note(f"This one is {unlike}; the job lets that pass.")
            continue
        raise RequestError(
            f"This delivery is {unlike}. Nothing was loaded: look at it, and where "
            f'{KINDS[drift.kind]} may come, write may_pass = ["{drift.kind}"] under [run] in the '
            "job file."
        )
    return now


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


def say_steps(context: Context, plan: Plan, folder: Path, delivery: Delivery) -> int:
    """What a run would do and what each step is expected to take; nothing is done."""
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
        ["step", name("what"), ">how much", ">expected"],
        [(step, what, much, show_duration(phases[step]) if step in phases else "")
         for step, what, much in steps],
    )  # fmt: skip
    out.say(
        f"All at the same time: {show_duration(seconds['median'])} "
        f"({show_range(seconds['low'], seconds['high'], show_duration)}) for "
        f"{show_money(cost['median'], currency)}."
    )
    out.document({
        "plan_id": plan.id, "parameters": plan.parameters, "dry": True, "goes_on": begun,
        "steps": [{"step": step, "what": what, "seconds": phases.get(step)}
                  for step, what, _ in steps],
        "seconds": seconds, "cost": cost, "rows": expected, "bytes": delivery.bytes,
    })  # fmt: skip
    return 0


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
    show_beside(out, plan, record)
    show_cost(out, document)


def show_beside(out: Output, plan: Plan, record: RunRecord) -> None:
    """The forecast beside what happened, by phase, in all and for cost."""
    currency = plan.prices.currency
    seconds, cost = plan.forecast["seconds"], plan.forecast["cost"]

    def compared(forecast: float, actual: float, less: str, more: str) -> str:
        if forecast <= 0 or record.resumed:
            return ""
        change = actual / forecast - 1
        if abs(change) < SAME:
            return "as forecast"
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
