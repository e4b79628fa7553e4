"""Measured runs held against one another: ratios with intervals, and what a lever does.

Ratios are of geometric means, their intervals normal on the logs, with a spread that is pooled over
both sides and drawn towards what runs usually scatter by where few tell of it: a difference is only
called one when the interval leaves 1 out (Kalibera and Jones 2013, "Rigorous Benchmarking in
Reasonable Time").
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from statistics import fmean, median
from typing import Any

import numpy as np

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import LEVERS, Configuration, Space
from splarn.core.tuning.fit import LEAST_TRIALS, fit_model
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.posterior import Aim, look_ahead
from splarn.core.tuning.statistics import QUANTILES, USUAL_RUNS, USUAL_SPREAD, Z90
from splarn.core.tuning.trial import Trial

# Fewer pairs of trials tell less of a lever than the laws do.
FEW_PAIRS = 3
DRAWS = 600
# Phases of fewer seconds say nothing.
LEAST = 0.005


@dataclass(frozen=True)
class Measure:
    """One run: seconds in all and by phase, how much came in, and its cost where it is known."""

    seconds: float
    phases: Mapping[str, float]
    rows: float
    configuration: Configuration | None = None
    cost: float | None = None


@dataclass(frozen=True)
class Side:
    """Runs under one name. `facts` are what else may differ, by what it is called."""

    name: str
    measures: tuple[Measure, ...]
    facts: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Ratio:
    """How many times as long the second takes as the first, with a 90 % interval."""

    low: float
    ratio: float
    high: float

    @property
    def differs(self) -> bool:
        """Whether there is a difference that can be told."""
        return not self.low <= 1 <= self.high

    @property
    def inverse(self) -> Ratio:
        """How many times as fast it is."""
        return Ratio(1 / self.high, 1 / self.ratio, 1 / self.low)

    def as_json(self) -> dict[str, Any]:
        """The three figures."""
        return {"low": self.low, "median": self.ratio, "high": self.high}


@dataclass(frozen=True)
class Comparison:
    """One side against the first: in all and by phase. `matched` are configurations both have.

    `per_row` says that the volumes differ, so that times are held against one another a row.
    `different` are facts as (what, first, other).
    """

    first: Side
    other: Side
    whole: Ratio
    phases: dict[str, Ratio]
    matched: int
    per_row: bool
    different: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True)
class Standing:
    """A side by itself: medians of its runs' seconds, rows a second and cost.

    `speed_up` is how many times as many rows a second as the first side, `efficiency` that over how
    many times the streams it has; None where that is not known.
    """

    name: str
    runs: int
    seconds: float
    rows_a_second: float
    speed_up: float
    efficiency: float | None
    cost: float | None


def standings(sides: Sequence[Side]) -> list[Standing]:
    """The sides beside one another, the first one first."""
    speeds = [median([one.rows / max(one.seconds, 1e-9) for one in s.measures]) for s in sides]
    streams = [_streams(side) for side in sides]
    found = []
    for side, speed, own in zip(sides, speeds, streams, strict=True):
        speed_up = speed / max(speeds[0], 1e-9)
        more = own / streams[0] if own and streams[0] else None
        costs = [one.cost for one in side.measures if one.cost is not None]
        found.append(
            Standing(
                side.name,
                len(side.measures),
                median([one.seconds for one in side.measures]),
                speed,
                speed_up,
                None if more is None else speed_up / more,
                median(costs) if costs else None,
            )
        )
    return found


def _streams(side: Side) -> int | None:
    """How many streams all runs of a side had; None where that differs or is not known."""
    chosen = [one.configuration for one in side.measures]
    known = {None if one is None else one.load_streams for one in chosen}
    return known.pop() if len(known) == 1 else None


@dataclass(frozen=True)
class Effect:
    """What a step of one lever does to the time, all other levers alike.

    `pairs` are configurations that were tried on both sides of it; 0 where the laws tell.
    """

    lever: str
    was: str
    now: str
    speed: Ratio
    pairs: int


def compare(first: Side, other: Side) -> Comparison:
    """Holds one side against another.

    Runs of the same configuration are held against one another where both sides have some, else all
    of one side against all of the other.
    """
    rows = [fmean([one.rows for one in side.measures]) for side in (first, other)]
    per_row = abs(math.log(max(rows[1], 1) / max(rows[0], 1))) > 0.01
    pairs = _pairs(first.measures, other.measures)
    phases = [
        phase
        for phase in first.measures[0].phases
        if all(phase in one.phases for side in (first, other) for one in side.measures)
    ]
    by_phase = {
        phase: _ratio(pairs, per_row, phase)
        for phase in phases
        if fmean([one.phases[phase] for one in (*first.measures, *other.measures)]) >= LEAST
    }
    different = tuple(
        (what, first.facts.get(what, "unknown"), other.facts.get(what, "unknown"))
        for what in dict.fromkeys((*first.facts, *other.facts))
        if first.facts.get(what) != other.facts.get(what)
    )
    matched = len(pairs) if pairs and pairs[0][0][0].configuration is not None else 0
    return Comparison(
        first, other, _ratio(pairs, per_row, None), by_phase, matched, per_row, different
    )


def effects(trials: Sequence[Trial]) -> list[Effect]:
    """What each step of each lever does, at the volume of the trials.

    From trials that differ in nothing else where there are three pairs of such, else by the laws.
    """
    groups: dict[Configuration, list[Measure]] = defaultdict(list)
    for trial in trials:
        if trial.counts:
            groups[trial.configuration].append(measure_of(trial))
    values = {name: sorted({getattr(one, name) for one in groups}) for name in LEVERS}
    told = _by_law(trials, values) if sum(map(len, groups.values())) >= LEAST_TRIALS else {}
    found = []
    for name, lever in LEVERS.items():
        for was, now in pairwise(values[name]):
            pairs = [
                (measures, groups[twin])
                for one, measures in groups.items()
                if getattr(one, name) == was and (twin := replace(one, **{name: now})) in groups
            ]
            if len(pairs) >= FEW_PAIRS or (pairs and (name, was) not in told):
                speed = _ratio(pairs, False, None).inverse
                found.append(Effect(name, lever.show(was), lever.show(now), speed, len(pairs)))
            elif (name, was) in told:
                found.append(Effect(name, lever.show(was), lever.show(now), told[name, was], 0))
    return found


def _by_law(trials: Sequence[Trial], values: dict[str, list[Any]]) -> dict[tuple[str, Any], Ratio]:
    """The speed after each step over that before it, by the fitted laws, over all other levers."""
    used = [trial for trial in trials if trial.counts]
    model = fit_model(trials)
    space = Space({name: tuple(known) for name, known in values.items()})
    every = list(space.grid())
    volume = Volume(
        fmean([float(trial.bytes) for trial in used]), fmean([float(trial.rows) for trial in used])
    )
    outlook = look_ahead(model, every, Aim(volume, Limits(), Prices()), DRAWS, seed=1)
    logs = {one: np.log(losses) for one, losses in zip(every, outlook.losses, strict=True)}
    told = {}
    for name, known in values.items():
        for was, now in pairwise(known):
            steps = [
                logs[one] - logs[twin]
                for one in every
                if getattr(one, name) == was and (twin := replace(one, **{name: now})) in logs
            ]
            if steps:
                drawn = np.exp(np.mean(steps, axis=0))
                told[name, was] = Ratio(
                    *np.quantile(drawn, [0.05, 0.5, 0.95], method=QUANTILES).tolist()
                )
    return told


def measure_of(trial: Trial) -> Measure:
    """A trial as a run among others."""
    return Measure(trial.seconds, trial.phases, trial.rows, trial.configuration)


Pair = tuple[Sequence[Measure], Sequence[Measure]]


def _pairs(first: Sequence[Measure], other: Sequence[Measure]) -> list[Pair]:
    groups: list[dict[Configuration | None, list[Measure]]] = []
    for measures in (first, other):
        of: dict[Configuration | None, list[Measure]] = defaultdict(list)
        for one in measures:
            of[one.configuration].append(one)
        groups.append(of)
    both = [one for one in groups[0] if one is not None and one in groups[1]]
    if both:
        return [(groups[0][one], groups[1][one]) for one in both]
    return [(first, other)]


def _ratio(pairs: Sequence[Pair], per_row: bool, phase: str | None) -> Ratio:
    """The second over the first: the mean of the pairs' log ratios and what it is sure within."""

    def logs(measures: Sequence[Measure]) -> list[float]:
        seconds = [one.seconds if phase is None else one.phases[phase] for one in measures]
        rows = [max(one.rows, 1.0) if per_row else 1.0 for one in measures]
        return [
            math.log(max(took, 1e-6) / amount) for took, amount in zip(seconds, rows, strict=True)
        ]

    ratios, deviations, freedom, scatter = [], 0.0, 0, 0.0
    for first, other in pairs:
        sides = [logs(first), logs(other)]
        means = [fmean(side) for side in sides]
        ratios.append(means[1] - means[0])
        for side, mean in zip(sides, means, strict=True):
            deviations += sum((one - mean) ** 2 for one in side)
            freedom += len(side) - 1
        scatter += sum(1 / len(side) for side in sides)
    spread = (deviations + USUAL_RUNS * USUAL_SPREAD**2) / (freedom + USUAL_RUNS)
    error = math.sqrt(spread * scatter) / len(pairs)
    if len(pairs) > 2:
        # Pairs that disagree beyond their own scatter make the mean less sure.
        middle = fmean(ratios)
        between = sum((one - middle) ** 2 for one in ratios) / (len(ratios) - 1)
        error = max(error, math.sqrt(between / len(ratios)))
    middle = fmean(ratios)
    return Ratio(*(math.exp(middle + side * Z90 * error) for side in (-1, 0, 1)))
