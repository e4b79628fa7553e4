"""Forecasts: time and cost of configurations at a volume, each a distribution."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from splarn.core.prices import Prices, billed_seconds, tier_of
from splarn.core.target.levers import LOAD_LEVERS, way_of_writing
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.fit import Measured, Model
from splarn.core.tuning.frontier import on_frontier
from splarn.core.tuning.laws import PHASES, Floats, Volume

DRAWS = 400
SEED = 20
# What the laws leave out grows with the distance from what was measured: spread of the log total
# for each tenfold of volume beyond the sample.
DISCREPANCY = 0.06
# Spread of the log total from one run to the next for reasons that last as long as a run.
DRIFT = 0.08
MOST_STRETCHES = 32
# Half of a normal 90 % interval, in standard deviations.
Z90 = 1.645
# Phases in which the rented compute is in use.
BUSY_PHASES = tuple(phase.name for phase in PHASES if phase.rents)


@dataclass(frozen=True)
class Span:
    """A median with its 90 % interval."""

    low: float
    median: float
    high: float

    def as_json(self) -> dict[str, float]:
        """The three figures by name."""
        return {"low": self.low, "median": self.median, "high": self.high}


@dataclass(frozen=True)
class Forecast:
    """What one configuration will take. `phases` are median seconds.

    `extrapolated` names the levers that no trial covered. `draws` are the sampled totals (seconds)
    and costs that `plan` takes its chances from.
    """

    configuration: Configuration
    seconds: Span
    cost: Span
    phases: dict[str, float]
    extrapolated: tuple[str, ...]
    on_frontier: bool
    draws: Floats
    cost_draws: Floats

    def as_json(self) -> dict[str, Any]:
        """Everything but the draws."""
        return {
            "configuration": self.configuration.as_json(),
            "seconds": self.seconds.as_json(),
            "cost": self.cost.as_json(),
            "phases": self.phases,
            "extrapolated": bool(self.extrapolated),
            "extrapolated_levers": list(self.extrapolated),
            "on_frontier": self.on_frontier,
        }

    @property
    def binding_phase(self) -> str:
        """The phase that takes the longest."""
        return max(self.phases, key=lambda phase: self.phases[phase])


def forecast(
    model: Model, configurations: Sequence[Configuration], volume: Volume, prices: Prices
) -> list[Forecast]:
    """Forecasts in the order of the configurations; stages follow one another, so times add.

    Raises RequestError for a tier that the price list does not have.
    """
    if not configurations:
        return []
    random = np.random.default_rng(SEED)
    columns = model.columns(configurations, volume)
    ratio = max(volume.bytes, 1) / max(model.measured.bytes, 1)
    # A volume that is an estimate makes every phase as uncertain as it is itself.
    volume_off = np.exp(volume.error / Z90 * random.standard_normal(DRAWS))
    noise = {phase: off * volume_off for phase, off in _noise(model, ratio, random).items()}
    errors = model.errors(configurations, volume, DRAWS, SEED + 1)
    by_phase = {
        fitted.law.phase.name: noise[fitted.law.phase.name]
        * np.exp(errors[fitted.law.phase.name])
        * fitted.law.seconds(columns, fitted.draws(DRAWS, random))
        for fitted in model.phases
    }
    nothing = np.zeros((len(configurations), DRAWS))
    total = sum(by_phase.values(), nothing)
    busy = sum((by_phase[phase] for phase in BUSY_PHASES if phase in by_phase), nothing)
    cost = costs_of(configurations, busy, total, prices)
    spans = np.quantile(total, [0.05, 0.5, 0.95], axis=1).T
    cost_spans = np.quantile(cost, [0.05, 0.5, 0.95], axis=1).T
    medians = {phase: np.median(seconds, axis=1) for phase, seconds in by_phase.items()}
    front = on_frontier(spans[:, 1], cost_spans[:, 1])
    return [
        Forecast(
            configuration=configuration,
            seconds=Span(*spans[index].tolist()),
            cost=Span(*cost_spans[index].tolist()),
            phases={phase: float(values[index]) for phase, values in medians.items()},
            extrapolated=outside_measured(configuration, model.measured),
            on_frontier=bool(front[index]),
            draws=total[index],
            cost_draws=cost[index],
        )
        for index, configuration in enumerate(configurations)
    ]


def _noise(model: Model, ratio: float, random: np.random.Generator) -> dict[str, Floats]:
    """Multipliers of each phase's seconds, shape (draws,), from the trials' own residuals.

    A run of many times the sample is many samples one after the other, so its noise is the mean of
    as many residuals, drawn anew with all phases of one trial together. What moves slowly, or lies
    outside the laws, does not average out; it is drawn once for a whole run.
    """
    trials = len(model.phases[0].residuals)
    stretches = int(np.clip(round(ratio), 1, MOST_STRETCHES))
    picked = random.integers(trials, size=(DRAWS, stretches))
    decades = max(float(np.log10(ratio)), 0.0)
    slow = np.hypot(DRIFT, DISCREPANCY * decades) * random.standard_normal(DRAWS)
    return {
        fitted.law.phase.name: np.exp(fitted.residuals[picked]).mean(axis=1) * np.exp(slow)
        for fitted in model.phases
    }


def costs_of(
    configurations: Sequence[Configuration], busy: Floats, total: Floats, prices: Prices
) -> Floats:
    """Costs of seconds in which compute is busy and of all seconds, both of one shape."""
    costs = total / 3600 * prices.machine_per_hour
    names = np.array([configuration.tier for configuration in configurations])
    for name in dict.fromkeys(names.tolist()):
        tier = tier_of(prices, name)
        rows = names == name
        costs[rows] += billed_seconds(tier, busy[rows]) / 3600 * tier.per_hour
    return costs


def outside_measured(configuration: Configuration, measured: Measured) -> tuple[str, ...]:
    """The levers, in words, whose value lies outside what trials covered."""
    words = []
    for name, lever in LEVERS.items():
        if name in LOAD_LEVERS:
            # These are measured together.
            continue
        value = getattr(configuration, name)
        if lever.is_number:
            low, high = measured.spans[name]
            covered = low <= value <= high
        else:
            covered = str(value) in measured.names[name]
        if not covered:
            words.append(lever.words)
    if way_of_writing(configuration) not in measured.ways:
        words.append("way of writing")
    return tuple(words)
