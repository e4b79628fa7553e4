"""What a sweep will about take, beside what the load takes that it is to decide about."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import fmean

from splarn.core.prices import reckon
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.design import PlannedTrial, share_of
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.model import Model
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.trial import Trial

# So many more trials than are known beforehand an adaptive sweep usually wants.
FURTHER = 15


@dataclass(frozen=True)
class Foreseen:
    """About what a sweep takes and what one load does; seconds, and money where it has a price.

    Of its `trials` it begins with `start` ones, without which nothing can be said.
    """

    trials: int
    start: int
    seconds: float
    cost: float
    load_seconds: float
    load_cost: float

    def least(self) -> tuple[float, float]:
        """About what the first ones take: seconds and money."""
        share = self.start / max(self.trials, 1)
        return self.seconds * share, self.cost * share

    def pays(self, loads: int) -> bool:
        """Whether trying costs less than all those loads together; else it cannot be worth it."""
        if self.cost and self.load_cost:
            return self.cost < self.load_cost * loads
        return self.seconds < self.load_seconds * loads


def by_model(
    model: Model,
    planned: Sequence[PlannedTrial],
    further: int,
    every: Sequence[Configuration],
    aim: Aim,
    sample: Volume,
) -> Foreseen:
    """By what earlier trials tell. Raises RequestError for a tier without a price."""
    seconds = cost = 0.0
    for share in dict.fromkeys(share_of(plan.role) for plan in planned):
        here = [plan.configuration for plan in planned if share_of(plan.role) == share]
        told = forecast(model, here, Volume(sample.bytes * share, sample.rows * share), aim.prices)
        seconds += sum(one.seconds.median for one in told)
        cost += sum(one.cost.median for one in told)
    count = len(planned) + further
    grown = count / len(planned)
    whole = min(
        forecast(model, every[:: max(len(every) // 200, 1)], aim.volume, aim.prices),
        key=lambda one: one.seconds.median,
    )
    return Foreseen(
        count, len(planned), seconds * grown, cost * grown, whole.seconds.median, whole.cost.median
    )


def by_first(trials: Sequence[Trial], start: int, further: int, aim: Aim) -> Foreseen:
    """By the first trials alone, as if all were like them and time grew with the volume."""
    grown = aim.volume.bytes / max(fmean(one.bytes for one in trials), 1)
    seconds = fmean(one.seconds for one in trials)
    cost = fmean(reckon(aim.prices, one.usage).total for one in trials)
    count = start + further
    return Foreseen(count, start, seconds * count, cost * count, seconds * grown, cost * grown)
