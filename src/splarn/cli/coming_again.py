"""What `plan` says of a load that comes again: increments beside full deliveries, and growth."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from splarn.core.prices import Prices
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.configuration import Configuration
    from splarn.core.tuning.forecast import Forecast
    from splarn.core.tuning.model import Model
    from splarn.core.tuning.plan import Choice, Limits


@dataclass(frozen=True)
class ComingAgain:
    """Sentences for a person, and keys for the document."""

    reasons: list[str] = field(default_factory=list)
    document: dict[str, Any] = field(default_factory=dict)


def coming_again(
    model: Model,
    choice: Choice,
    volume: Volume,
    prices: Prices,
    limits: Limits,
    increment: str | None,
    growth: str | None,
) -> ComingAgain:
    """What increments of a size take beside full deliveries, and when growth outruns the limits.

    With an increment it is that which grows. Raises RequestError where growth has no limit to
    outrun.
    """
    from splarn.cli.misuse import read
    from splarn.core.errors import RequestError
    from splarn.core.tuning.outgrow import increments
    from splarn.core.units import parse_share, parse_volume

    limited = limits.deadline is not None or limits.budget is not None
    if growth is not None and not limited:
        raise RequestError("--growth: give a --deadline or a --budget that may be outgrown.")
    every = [one.configuration for one in choice.ranked]
    chosen, what, reasons = choice.chosen, "it", []
    document: dict[str, Any] = {}
    if increment is not None:
        size = read("--increment", parse_volume, increment)
        told = increments(model, chosen.configuration, every, volume, size, prices, limits)
        reasons = [_beside(chosen, told.choice, size, prices.currency)]
        if limited:
            reasons.append(_full_for(told.times, told.full))
        document["increment"] = {
            "bytes": size,
            "forecast": told.choice.chosen.as_json(),
            "meets_limits": told.choice.meets_limits,
            "full_keeps_limits_for": told.times,
        }
        chosen, volume, what = told.choice.chosen, told.volume, "an increment"
    if growth is not None:
        share = read("--growth", parse_share, growth)
        reasons.append(
            _growing(model, chosen.configuration, every, volume, prices, limits, share, what)
        )
    return ComingAgain(reasons, document)


def _beside(full: Forecast, choice: Choice, size: float, currency: str) -> str:
    """What an increment takes, and what a full delivery instead."""
    from splarn.core.units import show_duration, show_money, show_size

    one = choice.chosen
    with_ = "" if one.configuration == full.configuration else f", best with {one.configuration}"
    fits = "" if choice.meets_limits else ", which does not keep the limits"
    less = full.seconds.median - one.seconds.median
    paid = full.cost.median - one.cost.median
    saved = f"{show_duration(abs(less))} {'less' if less >= 0 else 'more'}"
    money = f" and {show_money(abs(paid), currency)} {'less' if paid >= 0 else 'more'}"
    return (
        f"An increment of {show_size(size)} takes {show_duration(one.seconds.median)} "
        f"({show_duration(one.seconds.low)} to {show_duration(one.seconds.high)}) for "
        f"{show_money(one.cost.median, currency)}{fits}{with_}: {saved}{money if paid else ''} "
        "each time than a full delivery."
    )


def _full_for(times: int | None, then: Forecast | None) -> str:
    """For how many increments more a full delivery keeps the limits."""
    from splarn.core.tuning.outgrow import MOST_TIMES
    from splarn.core.units import plural

    if times is None:
        return f"A full delivery keeps the limits for {MOST_TIMES:,} increments and more."
    if not times:
        return "A full delivery does not keep the limits as it is."
    after = (
        f"{then.configuration} does then" if then is not None else "none that keeps them now does"
    )
    return (
        f"A full delivery no longer keeps the limits after {plural(times, 'increment')}; {after}."
    )


def _growing(
    model: Model,
    chosen: Configuration,
    every: list[Configuration],
    volume: Volume,
    prices: Prices,
    limits: Limits,
    share: float,
    what: str,
) -> str:
    """When a load that comes again and grows no longer keeps its limits."""
    from splarn.core.tuning.outgrow import outgrown
    from splarn.core.units import show_size

    told = outgrown(model, chosen, every, volume, share, prices, limits)
    if told.months is None:
        return f"Growing by {share:.1%} a month {what} keeps the limits for ten years and more."
    after = (
        f"then {told.then.configuration} does."
        if told.then is not None
        else "then none that keeps them now does."
    )
    return (
        f"Growing by {share:.1%} a month {what} keeps the limits for {told.months} months, until "
        f"{show_size(told.volume.bytes)} come; {after}"
    )
