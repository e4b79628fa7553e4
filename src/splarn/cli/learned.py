"""What forecast and plan share: the model from a sweep, the volume, and their table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from splarn.cli.context import Context
from splarn.cli.output import Output
from splarn.cli.tables import Column

if TYPE_CHECKING:
    from splarn.core.layout import Layout
    from splarn.core.prices import Prices
    from splarn.core.source.codecs import Packing
    from splarn.core.source.places import Place
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.configuration import Configuration
    from splarn.core.tuning.forecast import Forecast
    from splarn.core.tuning.learning import Learned


def learn(
    context: Context,
    sweep: str | None,
    target: str | None,
    layout: Layout | None,
    files: Sequence[Place] | None = None,
    depot: str | None = None,
    packings: Sequence[Packing] = (),
    engine: str = "",
) -> Learned:
    """What the job's ledger tells of loads into a target; what a person must know is said."""
    from splarn.core.layout.descriptor import layout_id
    from splarn.core.tuning.learning import Wanted
    from splarn.core.tuning.learning import learn as learn_from
    from splarn.engines import identity

    wanted = Wanted(
        None if target is None else identity(target),
        None if layout is None else layout_id(layout),
        depot,
        engine,
    )
    said: list[str] = []
    with context.ledger() as ledger, context.out.working("learning from trials"):
        learned = learn_from(ledger, wanted, sweep, files, packings, said.append)
    for one in said:
        context.out.note(one)
    return learned


def require_sweep(context: Context) -> None:
    """Raises RequestError when there is no sweep at all."""
    from splarn.core.tuning.learning import require_sweep as require

    with context.ledger() as ledger:
        require(ledger)


def say_volume(out: Output, volume: Volume) -> None:
    """Says how sure the volume is, where it is an estimate."""
    if volume.error >= 0.005:
        out.note(
            f"How much the packed files hold is an estimate, give or take {volume.error:.0%}, "
            "which the intervals include: `splarn survey --exact` counts."
        )


def say_learned(out: Output, learned: Learned, prices: Prices) -> None:
    """Says what the last whole load changed, and what does not fit the laws."""
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.doubts import doubts
    from splarn.core.tuning.fit import fit_model
    from splarn.core.tuning.forecast import forecast
    from splarn.core.units import show_change, show_duration

    for one in doubts(learned.model):
        out.note(one)
    runs = [trial for trial in learned.evidence.trials if trial.role == "run"]
    if not runs or out.as_json:
        return
    last, before = runs[-1], learned.evidence.without_runs()
    volume = Volume(last.bytes, last.rows)
    old = fit_model(before.trials, learned.packed, before.loose)
    told = [forecast(one, [last.configuration], volume, prices)[0] for one in (old, learned.model)]
    first, now = (one.seconds.median if last.overlapped else one.in_turn.median for one in told)
    took = last.overlapped or last.seconds
    out.say(
        f"The last whole load took {show_duration(took)}; trials alone would have said "
        f"{show_duration(first)} ({show_change(first / took - 1)}), with it they say "
        f"{show_duration(now)} ({show_change(now / took - 1)})."
    )


def show_forecasts(
    out: Output, forecasts: Sequence[Forecast], currency: str, chosen: Forecast | None = None
) -> None:
    """Forecasts as a table; the chosen one is marked, levers all alike are said once above."""
    from splarn.core.units import show_duration, show_money, show_range

    levers = varying(out, [entry.configuration for entry in forecasts])
    out.table(
        [
            "",
            *levers.values(),
            ">time",
            Column(">90 % interval", 2),
            f">cost, {currency}",
            Column("frontier", 1),
        ],
        (
            (
                "→" if entry is chosen else "",
                *(entry.configuration.show(lever) for lever in levers),
                show_duration(entry.seconds.median),
                show_range(entry.seconds.low, entry.seconds.high, show_duration),
                show_money(entry.cost.median),
                ("yes" if entry.on_frontier else "") + (" *" if entry.extrapolated else ""),
            )
            for entry in forecasts
        ),
    )
    if any(entry.extrapolated for entry in forecasts):
        out.note("* reaches beyond what trials covered: take such forecasts with care.")


def varying(out: Output, configurations: Sequence[Configuration]) -> dict[str, Column]:
    """The levers that differ among configurations, with their names; the others are said."""
    from splarn.core.tuning.configuration import LEVERS

    if not configurations:
        return {}
    first = configurations[0]
    alike = {
        lever
        for lever in LEVERS
        if all(getattr(one, lever) == getattr(first, lever) for one in configurations)
    }
    if len(configurations) == 1:
        out.say(f"Configuration: {first}.")
        return {}
    if alike:
        same = ", ".join(
            f"{LEVERS[lever].words} {first.show(lever)}"
            for lever in LEVERS
            if lever in alike and getattr(first, lever) != LEVERS[lever].unsaid
        )
        out.say(f"The same for all: {same}.")
    return {lever: _column(lever) for lever in LEVERS if lever not in alike}


def _column(lever: str) -> Column:
    """A lever's column, flush right where it is a number."""
    from splarn.core.tuning.configuration import LEVERS

    definition = LEVERS[lever]
    return Column(f">{definition.words}" if definition.is_number else definition.words, joins=True)
