"""What a report tells of a decision, gathered from the ledger, the job and a plan."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.units import plural, show_duration, show_money, show_range, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.learned import Learned
    from splarn.core.ledger import Entry
    from splarn.core.tuning.forecast import Forecast
    from splarn.core.tuning.model import Model
    from splarn.core.tuning.plan_file import Plan
    from splarn.report.facts import Carried, Codec, Decided

# So many configurations are told one by one; of more, the best and what lies on the frontier.
MOST = 2000
# So many runs are looked back on.
RUNS = 20


def decided(context: Context, path: Path | None) -> Decided:
    """What is told of the plan in a file, or of the newest one."""
    from splarn.core.tuning.plan_file import read_plan

    return decided_of(context, read_plan(path or newest_plan(context)))


def newest_plan(context: Context) -> Path:
    """The file of the newest plan in the ledger that is still there.

    Raises RequestError where there is none.
    """
    with context.ledger() as ledger:
        for entry in reversed(ledger.entries("plan")):
            named = entry.document.get("plan")
            for at in (Path(named), context.job.folder / named) if named else ():
                if at.exists():
                    return at
    raise RequestError(
        "There is no plan to report on: write one with `splarn plan`, or name a load, a run or a "
        "JSON document."
    )


def decided_of(context: Context, plan: Plan) -> Decided:
    """The decision of a plan, with all that is known of it by now."""
    from splarn.cli.learned import learn
    from splarn.core.tuning.curves import misses
    from splarn.core.tuning.doubts import doubts
    from splarn.report.facts import Decided

    way = context.shown_depot(plan.way)
    learned = learn(context, plan.sweep or None, plan.target, plan.layout, None, way)
    model = learned.model
    forecasts, count = _forecasts(context, learned, plan)
    chosen = next(one for one in forecasts if one.configuration == plan.configuration)
    trials = tuple(learned.evidence.trials)
    off = misses(model, trials, plan.prices)
    with context.ledger() as ledger:
        runs = _runs(ledger.entries("run"), plan)
        # The chance that was told with it; later trials tell of another one.
        planned = ledger.entries("plan", id_=plan.id)
        loads = tuple(
            {**one.document, "at": one.at}
            for one in ledger.entries("load")
            if one.document.get("table") == plan.table
        )
    sweep = learned.sweep
    return Decided(
        title=f"How to load {plan.table}",
        sentences=_in_short(
            plan, chosen, count, planned[-1].document.get("chance") if planned else None
        ),
        chosen=chosen,
        forecasts=tuple(forecasts),
        count=count,
        limits=plan.limits,
        currency=plan.prices.currency,
        curves=tuple(_curves(model, plan, trials, off)),
        trials=tuple(one for one in trials if one.role != "run"),
        codecs=_codecs(learned, plan),
        runs=runs,
        nearness=tuple(sweep.document.get("ceilings", ())),
        reasons=plan.reasons,
        doubts=tuple(doubts(model)),
        method=_method(context, learned, plan),
        loads=loads[-RUNS:],
        id=plan.id,
    )


def _forecasts(context: Context, learned: Learned, plan: Plan) -> tuple[list[Forecast], int]:
    """All configurations of the job's space, or the best of very many, and how many there are."""
    from dataclasses import replace

    import numpy as np

    from splarn.core.tuning.columns import Table
    from splarn.core.tuning.forecast import forecast, spread_of

    form = str(learned.sweep.document.get("format", "csv"))
    space = context.space({}, form, bool(plan.depot))
    table = Table.of_space(space)
    places: Any = range(table.count)
    spread = spread_of(learned.model, table, plan.volume, plan.prices)
    if table.count > MOST:
        order = np.argsort(spread.seconds[:, 1], kind="stable")[:MOST]
        places = sorted({*order.tolist(), *np.flatnonzero(spread.on_frontier).tolist()[:MOST]})
    configurations = [table.at(place) for place in places]
    told = [
        replace(one, on_frontier=bool(spread.on_frontier[place]))
        for one, place in zip(
            forecast(learned.model, configurations, plan.volume, plan.prices), places, strict=True
        )
    ]
    if not any(one.configuration == plan.configuration for one in told):
        # It was chosen out of a space that the job no longer has.
        told += forecast(learned.model, [plan.configuration], plan.volume, plan.prices)
    return told, table.count


def _in_short(plan: Plan, chosen: Forecast, count: int, told: float | None) -> tuple[str, ...]:
    """The decision in three sentences, with the chance that was `told`, or that of the draws."""
    limits, currency = plan.limits, plan.prices.currency
    span, cost = plan.forecast["seconds"], plan.forecast["cost"]
    first = f"Load {show_size(plan.volume.bytes)} into {plan.table} with {plan.configuration}."
    second = (
        f"That takes {show_duration(span['median'])} "
        f"({show_range(span['low'], span['high'], show_duration)} nine times in ten) and costs "
        f"{show_money(cost['median'], currency)}; of {plural(count, 'configuration')}, "
        f"the {chosen.binding_phase} phase binds it."
    )
    if limits.deadline is not None or limits.budget is not None:
        kept = chosen.draws <= (limits.deadline or float("inf"))
        kept &= chosen.cost_draws <= (limits.budget or float("inf"))
        share = float(kept.mean()) if told is None else told
        chance = "more than 99 %" if share > 0.99 else f"{share:.0%}".replace("%", " %")
        named = [
            *([f"the deadline of {show_duration(limits.deadline)}"] if limits.deadline else []),
            *([f"the budget of {show_money(limits.budget, currency)}"] if limits.budget else []),
        ]
        third = (
            f"It keeps {' and '.join(named)} with a chance of {chance}"
            f" ({limits.confidence * 100:g} % was asked for)."
        )
    else:
        third = plan.reasons[0] if plan.reasons else "No limits were set."
    return first, second, third


def _curves(model: Model, plan: Plan, trials: Sequence[Any], off: Sequence[Any]) -> list[Any]:
    """The choice's time against streams, tier and part size, over all values that were tried."""
    from splarn.core.tuning.curves import curve
    from splarn.core.units import tier_units

    found = []
    for lever in ("load_streams", "tier", "part_size"):
        own = getattr(plan.configuration, lever)
        values = {getattr(one.configuration, lever) for one in trials if one.tells} | {own}
        key = tier_units if lever == "tier" else float
        ordered = sorted(values, key=key)
        if len(ordered) > 1:
            found.append(
                curve(model, plan.configuration, lever, ordered, plan.volume, plan.prices, off)
            )
    return found


def _codecs(learned: Learned, plan: Plan) -> tuple[Codec, ...]:
    from splarn.report.facts import Codec

    begin = f"{plan.configuration.format} "
    return tuple(
        Codec(name.removeprefix(begin), one.share, _speed(one.pack), _speed(one.unpack))
        for name, one in sorted(learned.packed.items())
        if name.startswith(begin) and (one.pack or one.unpack)
    )


def _speed(seconds: float) -> float:
    return 1 / seconds if seconds else 0.0


def _runs(entries: Sequence[Entry], plan: Plan) -> tuple[Carried, ...]:
    """Runs into this target's table, each beside its forecast."""
    from splarn.engines import identity
    from splarn.report.facts import Carried

    series, found = plan.templates.table or plan.table, []
    for entry in entries:
        told = entry.document
        same = told.get("target_id") == identity(plan.target) and told.get("series") == series
        if not same or told.get("resumed"):
            continue
        span, actual = told["forecast"]["seconds"], told["actual"]
        found.append(Carried(
            entry.id, entry.at, told["load"]["table"], told["load"]["rows_loaded"], span["low"],
            span["median"], span["high"], actual["seconds"], actual["cost"],
        ))  # fmt: skip
    return tuple(found[-RUNS:])


def _method(context: Context, learned: Learned, plan: Plan) -> tuple[tuple[str, str], ...]:
    """How it was measured, so that others can do it again."""
    document = learned.sweep.document
    sample, machine = document.get("sample", {}), document.get("machine", {})
    told = [
        ("sweep", f"{learned.sweep.id}, {learned.sweep.at[:16].replace('T', ' ')} UTC"),
        ("plan", plan.id),
        ("learnt from", learned.words),
        ("target", f"{document.get('target', '')} ({document.get('engine', 'unknown')})"),
        ("sample", f"{show_size(sample.get('bytes', 0))}, {sample.get('rows', 0):,} rows"),
        ("strategy", str(document.get("strategy", ""))),
        ("ended because", str(document.get("stopped_because", "it was broken off"))),
        ("machine", _machine(machine)),
        ("volume", f"{show_size(plan.volume.bytes)}, about {round(plan.volume.rows):,} rows"),
        ("again", f"splarn sweep, then splarn plan, in {context.job.folder.resolve().name}"),
    ]
    return tuple((name, what) for name, what in told if what)


def _machine(machine: Any) -> str:
    if isinstance(machine, dict):
        return ", ".join(f"{name} {value}" for name, value in machine.items())
    return str(machine)
