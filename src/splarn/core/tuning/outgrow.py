"""Loads that come again and grow: when a window will be outgrown, and what does then."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.forecast import Forecast, forecast
from splarn.core.tuning.model import Model
from splarn.core.tuning.plan import Limits, chance_of, choose

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
        by = (1 + growth) ** months
        return replace(
            volume,
            bytes=volume.bytes * by,
            rows=volume.rows * by,
            files=tuple(size * by for size in volume.files),
        )

    def keeps(months: int) -> bool:
        told = forecast(model, [chosen], at(months), prices)[0]
        return (chance_of(told, limits) or 0) >= limits.confidence

    if not keeps(0):
        months = 0
    elif growth <= 0 or keeps(HORIZON):
        return Outgrown(None, at(HORIZON), None)
    else:
        low, high = 0, HORIZON
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if keeps(middle) else (low, middle)
        months = high
    choice = choose(forecast(model, every, at(months), prices), limits, prices.currency)
    return Outgrown(months, at(months), choice.chosen if choice.meets_limits else None)
