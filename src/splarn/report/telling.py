"""What is told of a decision: gathered from a plan, its model and trials, and a ledger."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from splarn.core.ledger import Entry, Ledger
from splarn.core.tuning.columns import Packed, Table
from splarn.core.tuning.configuration import Space
from splarn.core.tuning.curves import curve, misses
from splarn.core.tuning.doubts import doubts
from splarn.core.tuning.forecast import Forecast, forecast, spread_of
from splarn.core.tuning.model import Model
from splarn.core.tuning.plan_file import Plan
from splarn.core.tuning.trial import Trial
from splarn.core.units import (
    plural,
    show_duration,
    show_money,
    show_range,
    show_size,
    tier_units,
)
from splarn.report.facts import Carried, Codec, Decided

# So many configurations are told one by one; of more, the best and what lies on the frontier.
MOST = 2000
# So many runs are looked back on.
RUNS = 20


def decided_by(
    plan: Plan,
    model: Model,
    space: Space,
    trials: Sequence[Trial],
    packed: Mapping[str, Packed] | None = None,
    chance: float | None = None,
) -> Decided:
    """The decision of a plan by a model of these trials, among the configurations of a space.

    `chance` is what was told with the plan; without it, that of the model's draws is told.
    """
    forecasts, count = _forecasts(plan, model, space)
    chosen = next(one for one in forecasts if one.configuration == plan.configuration)
    off = misses(model, trials, plan.prices)
    return Decided(
        title=f"How to load {plan.table}",
        sentences=_in_short(plan, chosen, count, chance),
        chosen=chosen,
        forecasts=tuple(forecasts),
        count=count,
        limits=plan.limits,
        currency=plan.prices.currency,
        curves=tuple(_curves(model, plan, trials, off)),
        trials=tuple(one for one in trials if one.role != "run"),
        codecs=_codecs(packed or {}, plan),
        reasons=plan.reasons,
        doubts=tuple(doubts(model)),
        id=plan.id,
    )


def with_history(told: Decided, ledger: Ledger, plan: Plan, target_id: str) -> Decided:
    """The same with the runs and loads of that table which a ledger has."""
    loads = tuple(
        {**one.document, "at": one.at}
        for one in ledger.entries("load")
        if one.document.get("table") == plan.table
    )
    runs = _runs(ledger.entries("run"), plan, target_id)
    return replace(told, runs=runs, loads=loads[-RUNS:])


def _forecasts(plan: Plan, model: Model, space: Space) -> tuple[list[Forecast], int]:
    """All configurations of the space, or the best of very many, and how many there are."""
    table = Table.of_space(space)
    places: Any = range(table.count)
    spread = spread_of(model, table, plan.volume, plan.prices)
    if table.count > MOST:
        order = np.argsort(spread.seconds[:, 1], kind="stable")[:MOST]
        places = sorted({*order.tolist(), *np.flatnonzero(spread.on_frontier).tolist()[:MOST]})
    configurations = [table.at(place) for place in places]
    told = [
        replace(one, on_frontier=bool(spread.on_frontier[place]))
        for one, place in zip(
            forecast(model, configurations, plan.volume, plan.prices), places, strict=True
        )
    ]
    if not any(one.configuration == plan.configuration for one in told):
        # It was chosen out of another space.
        told += forecast(model, [plan.configuration], plan.volume, plan.prices)
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


def _codecs(packed: Mapping[str, Packed], plan: Plan) -> tuple[Codec, ...]:
    begin = f"{plan.configuration.format} "
    return tuple(
        Codec(name.removeprefix(begin), one.share, _speed(one.pack), _speed(one.unpack))
        for name, one in sorted(packed.items())
        if name.startswith(begin) and (one.pack or one.unpack)
    )


def _speed(seconds: float) -> float:
    return 1 / seconds if seconds else 0.0


def _runs(entries: Sequence[Entry], plan: Plan, target_id: str) -> tuple[Carried, ...]:
    """Runs into this target's table, each beside its forecast."""
    series, found = plan.templates.table or plan.table, []
    for entry in entries:
        told = entry.document
        same = told.get("target_id") == target_id and told.get("series") == series
        if not same or told.get("resumed"):
            continue
        span, actual = told["forecast"]["seconds"], told["actual"]
        found.append(Carried(
            entry.id, entry.at, told["load"]["table"], told["load"]["rows_loaded"], span["low"],
            span["median"], span["high"], actual["seconds"], actual["cost"],
        ))  # fmt: skip
    return tuple(found[-RUNS:])
