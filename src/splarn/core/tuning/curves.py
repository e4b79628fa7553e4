"""How time follows one lever: the fitted law with its band, and what trials were beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from math import exp, log
from typing import Any

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.forecast import Span, forecast
from splarn.core.tuning.model import Model
from splarn.core.tuning.trial import Trial


@dataclass(frozen=True)
class Point:
    """A trial beside a curve: what the law says at its value, times by how much the trial was off.

    So what else differs between trials is taken out (a partial residual, Larsen & McCleary 1972).
    """

    value: Any
    seconds: float


@dataclass(frozen=True)
class Curve:
    """Seconds of a configuration against the values of one lever, with 90 % intervals."""

    lever: str
    values: tuple[Any, ...]
    seconds: tuple[Span, ...]
    cost: tuple[float, ...]
    points: tuple[Point, ...]


def misses(model: Model, trials: Sequence[Trial], prices: Prices) -> list[tuple[Trial, float]]:
    """Each trial that tells, with the log of what it took over what the laws say that it would."""
    found = []
    by_volume: dict[tuple[int, int], list[Trial]] = {}
    for trial in trials:
        if trial.tells:
            by_volume.setdefault((trial.bytes, trial.rows), []).append(trial)
    for (size, rows), alike in by_volume.items():
        told = forecast(model, [one.configuration for one in alike], Volume(size, rows), prices)
        for trial, one in zip(alike, told, strict=True):
            took = trial.overlapped or trial.seconds
            expected = one.seconds.median if trial.overlapped else one.in_turn.median
            if took > 0 and expected > 0:
                found.append((trial, log(took / expected)))
    return found


def curve(
    model: Model,
    base: Configuration,
    lever: str,
    values: Sequence[Any],
    volume: Volume,
    prices: Prices,
    off: Sequence[tuple[Trial, float]],
) -> Curve:
    """A configuration's time at a volume, as one of its levers takes these values.

    `off` are trials with how far each was off, of which those with one of the values are beside it.
    """
    told = forecast(model, [replace(base, **{lever: one}) for one in values], volume, prices)
    at = {value: one.seconds.median for value, one in zip(values, told, strict=True)}
    points = []
    for trial, by in off:
        value = getattr(trial.configuration, lever)
        if value in at:
            points.append(Point(value, at[value] * exp(by)))
    return Curve(
        lever, tuple(values), tuple(one.seconds for one in told),
        tuple(one.cost.median for one in told), tuple(points),
    )  # fmt: skip
