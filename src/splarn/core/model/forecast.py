"""Forecasts: time and cost of configurations at a volume, each a distribution."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from splarn.core.configuration import LEVERS, Configuration
from splarn.core.model.fit import Measured, Model, PhaseFit
from splarn.core.model.frontier import on_frontier
from splarn.core.model.laws import Volume, levers_of
from splarn.core.prices import Prices, billed_seconds, tier_of

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
BUSY_PHASES = ("queue", "size", "load", "finish")


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
    draws: Any
    cost_draws: Any

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
    levers = levers_of(
        configurations,
        [volume] * len(configurations),
        model.codecs,
        model.measured.ways,
        slots=model.slots,
        rest=model.rest,
    )
    ratio = max(volume.bytes, 1) / max(model.measured.bytes, 1)
    # A volume that is an estimate makes every phase as uncertain as it is itself.
    volume_off = np.exp(volume.error / Z90 * random.standard_normal(DRAWS))
    noise = {phase: found * volume_off for phase, found in _noise(model, ratio, random).items()}
    by_phase = {
        fitted.law.phase: noise[fitted.law.phase]
        * fitted.law.seconds(levers, _draw(fitted, random), len(model.codecs))
        for fitted in model.phases
    }
    total = sum(by_phase.values())
    busy = sum(by_phase[phase] for phase in BUSY_PHASES if phase in by_phase)
    cost = _costs(configurations, busy, total, prices)
    spans = np.quantile(total, [0.05, 0.5, 0.95], axis=1).T
    cost_spans = np.quantile(cost, [0.05, 0.5, 0.95], axis=1).T
    medians = {phase: np.median(seconds, axis=1) for phase, seconds in by_phase.items()}
    front = on_frontier(spans[:, 1], cost_spans[:, 1])
    return [
        Forecast(
            configuration,
            Span(*spans[index].tolist()),
            Span(*cost_spans[index].tolist()),
            {phase: float(values[index]) for phase, values in medians.items()},
            outside_measured(configuration, model.measured),
            bool(front[index]),
            total[index],
            cost[index],
        )
        for index, configuration in enumerate(configurations)
    ]


def _noise(model: Model, ratio: float, random: np.random.Generator) -> dict[str, Any]:
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
        fitted.law.phase: np.exp(fitted.residuals[picked]).mean(axis=1) * np.exp(slow)
        for fitted in model.phases
    }


def _draw(fitted: PhaseFit, random: np.random.Generator) -> Any:
    """Parameters sampled from the Laplace approximation, shape (draws, parameters)."""
    draws = random.standard_normal((DRAWS, len(fitted.theta)))
    root = np.linalg.cholesky(fitted.covariance + 1e-12 * np.eye(len(fitted.theta)))
    return fitted.theta + draws @ root.T


def _costs(configurations: Sequence[Configuration], busy: Any, total: Any, prices: Prices) -> Any:
    costs = total / 3600 * prices.machine_per_hour
    names = np.array([configuration.tier for configuration in configurations])
    for name in dict.fromkeys(names.tolist()):
        tier = tier_of(prices, name)
        rows = names == name
        costs[rows] += billed_seconds(tier, busy[rows]) / 3600 * tier.per_hour
    return costs


def outside_measured(configuration: Configuration, measured: Measured) -> tuple[str, ...]:
    """The levers, in words, whose value lies outside what trials covered."""
    found = []
    for lever in ("part_size", "workers", "load_streams", "batch_rows"):
        low, high = getattr(measured, lever)
        value = getattr(configuration, lever)
        if not low <= value <= high:
            found.append(LEVERS[lever])
    if str(configuration.packing) not in measured.codecs:
        found.append(LEVERS["packing"])
    if configuration.tier not in measured.tiers:
        found.append(LEVERS["tier"])
    if str(configuration.load_levers) not in measured.ways:
        found.append("way of writing")
    return tuple(found)
