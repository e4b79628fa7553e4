"""What a report tells: the decision, all configurations, the trials, and what happened since."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.curves import Curve
from splarn.core.tuning.forecast import Forecast
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.trial import Trial


@dataclass(frozen=True)
class Codec:
    """What a packing makes of this data: packed over unpacked bytes, and MB a second of a core."""

    name: str
    share: float
    pack: float
    unpack: float


@dataclass(frozen=True)
class Carried:
    """A run beside its forecast, in seconds."""

    id: str
    at: str
    table: str
    rows: int
    low: float
    median: float
    high: float
    actual: float
    cost: float


@dataclass(frozen=True)
class Decided:
    """The decision and what it rests on, as the report shows it.

    `forecasts` are of all configurations, or of the best of very many (`count` tells how many there
    are); `chosen` is one of them. `nearness` tells of phases how near its ceiling each came.
    """

    title: str
    sentences: tuple[str, ...]
    chosen: Forecast
    forecasts: tuple[Forecast, ...]
    count: int
    limits: Limits
    currency: str
    curves: tuple[Curve, ...] = ()
    trials: tuple[Trial, ...] = ()
    codecs: tuple[Codec, ...] = ()
    runs: tuple[Carried, ...] = ()
    nearness: tuple[Mapping[str, Any], ...] = ()
    reasons: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()
    method: tuple[tuple[str, str], ...] = ()
    loads: tuple[Mapping[str, Any], ...] = ()
    id: str = ""

    @property
    def varied(self) -> tuple[str, ...]:
        """The levers in which configurations differ, in their usual order."""
        first = self.forecasts[0].configuration
        return tuple(
            lever
            for lever in LEVERS
            if any(
                getattr(one.configuration, lever) != getattr(first, lever) for one in self.forecasts
            )
        )

    def label(self, configuration: Configuration) -> str:
        """A configuration by what tells it from others."""
        told = [f"{LEVERS[lever].words} {configuration.show(lever)}" for lever in self.varied]
        return ", ".join(told) or str(configuration)

    @property
    def leading(self) -> list[Forecast]:
        """The choice and the next best, at most eight."""
        others = [one for one in self.forecasts if one is not self.chosen]
        others.sort(key=lambda one: one.seconds.median)
        return [self.chosen, *others[:7]]


@dataclass(frozen=True)
class Table:
    """A table of a report: names of columns, rows of texts, and which columns are `numbers`."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    numbers: tuple[bool, ...] = ()
    # What figures are sorted by, where their texts would not do.
    keys: tuple[tuple[float | str, ...], ...] = ()
