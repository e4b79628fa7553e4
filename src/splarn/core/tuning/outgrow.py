"""Loads that come again and grow: when a window will be outgrown, and what does then."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.forecast import Forecast, forecast
from splarn.core.tuning.model import Model
from splarn.core.tuning.plan import Choice, Limits, chance_of, choose

# How far ahead is looked, in months.
HORIZON = 120


@dataclass(frozen=True)
class Outgrown:
    """When a configuration no longer keeps the limits: in so many `months`, None within ten years.

    `volume` is what comes by then, and `then` what keeps the limits at that volume, if anything.
    """

    months: int | None
    volume: Volume
    then: Forecast | None


def outgrown(
    model: Model,
    chosen: Configuration,
    every: Sequence[Configuration],
    volume: Volume,
    growth: float,
    prices: Prices,
    limits: Limits,
) -> Outgrown:
    """When loads that begin at a volume and grow by a share each month no longer keep limits.

    Growth is compound, so months are searched by halves.
    """

    def at(months: int) -> Volume:
        return grown(volume, (1 + growth) ** months)

    months = _first(lambda months: _keeps(model, chosen, at(months), prices, limits), HORIZON)
    if months is None:
        return Outgrown(None, at(HORIZON), None)
    choice = choose(forecast(model, every, at(months), prices), limits, prices.currency)
    return Outgrown(months, at(months), choice.chosen if choice.meets_limits else None)


def grown(volume: Volume, by: float) -> Volume:
    """So many times as much, in as many files."""
    return replace(
        volume,
        bytes=volume.bytes * by,
        rows=volume.rows * by,
        files=tuple(size * by for size in volume.files),
    )


@dataclass(frozen=True)
class Increments:
    """Increments beside full deliveries, which are larger by one each time.

    `choice` is what to load an increment with. Full deliveries no longer keep the limits after
    `times` of them, None for more than ten thousand; `full` keeps them then, if anything does.
    """

    volume: Volume
    choice: Choice
    times: int | None
    full: Forecast | None


MOST_TIMES = 10_000


def increments(
    model: Model,
    chosen: Configuration,
    every: Sequence[Configuration],
    volume: Volume,
    size: float,
    prices: Prices,
    limits: Limits,
) -> Increments:
    """What increments of a size, in bytes, take beside a full delivery, now of a volume."""
    share = size / max(volume.bytes, 1)
    one = replace(grown(volume, share), files=(size,), pieces=())
    choice = choose(forecast(model, every, one, prices), limits, prices.currency)

    def keeps(configuration: Configuration, times: int) -> bool:
        return _keeps(model, configuration, grown(volume, 1 + share * times), prices, limits)

    if limits.deadline is None and limits.budget is None:
        return Increments(one, choice, None, None)
    times = _first(lambda times: keeps(chosen, times), MOST_TIMES)
    full = None
    if times is not None:
        then = forecast(model, every, grown(volume, 1 + share * times), prices)
        after = choose(then, limits, prices.currency)
        full = after.chosen if after.meets_limits else None
    return Increments(one, choice, times, full)


def _keeps(
    model: Model, chosen: Configuration, volume: Volume, prices: Prices, limits: Limits
) -> bool:
    told = forecast(model, [chosen], volume, prices)[0]
    return (chance_of(told, limits) or 0) >= limits.confidence


def _first(keeps: Callable[[int], bool], most: int) -> int | None:
    """The first number from 0 to `most` that no longer keeps what smaller ones do, by halves."""
    if not keeps(0):
        return 0
    if keeps(most):
        return None
    low, high = 0, most
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if keeps(middle) else (low, middle)
    return high
