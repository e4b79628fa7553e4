"""Medians with bootstrap intervals, outliers, drift, and whether trials tell configurations apart.

Quantiles are Hyndman and Fan's 1996 definition 8, which is about median-unbiased whatever the
distribution.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from statistics import median
from typing import Final

import numpy as np

from splarn.core.tuning.columns import Floats
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.trial import Trial

RESAMPLES = 2000
QUANTILES: Final = "median_unbiased"
# What the logs of a run's seconds scatter by where nothing is known, and how many runs that counts.
USUAL_SPREAD, USUAL_RUNS = 0.10, 3
Z90 = 1.645
# From here on a value is an outlier among those of its configuration, in robust standard
# deviations (Iglewicz and Hoaglin 1993).
FAR = 3.5
# So many runs tell what is usual among them.
FEW = 3


@dataclass(frozen=True)
class Summary:
    """Repeats of one configuration. `low` and `high` bound the median's 90 % interval; seconds.

    `corrected` is the median less the drift. `cpu_seconds` are those of our processes and the
    server's, `peak_memory` bytes, both medians; `outliers` are repeats far from the others, which
    are kept.
    """

    configuration: Configuration
    repeats: int
    low: float
    median: float
    high: float
    phases: dict[str, float]
    corrected: float
    cpu_seconds: float = 0.0
    peak_memory: float = 0.0
    outliers: int = 0


@dataclass(frozen=True)
class Scatter:
    """How far repeats lie from what is usual of their configuration: logs, and how many are free.

    Pooled over all configurations, since few repeats of one tell little of how far runs scatter.
    """

    left: Floats
    freedom: int

    @property
    def spread(self) -> float:
        """Their standard deviation; where repeats tell too little, drawn to what is usual."""
        missing = max(USUAL_RUNS - self.freedom, 0)
        known = float((self.left**2).mean()) * self.freedom if self.freedom else 0.0
        return math.sqrt((known + missing * USUAL_SPREAD**2) / (self.freedom + missing))

    def interval(self, repeats: int, random: np.random.Generator) -> tuple[float, float]:
        """By how much a median of so many may be off, 90 %: two factors.

        A bootstrap of the pooled residuals (Davison and Hinkley 1997, 3.3), widened as Student's t
        is for how few there are.
        """
        if self.freedom >= USUAL_RUNS:
            drawn = random.choice(self.left, (RESAMPLES, repeats))
            free = self.freedom
        else:
            drawn = self.spread * random.standard_normal((RESAMPLES, repeats))
            free = USUAL_RUNS
        off = np.median(drawn, axis=1) * np.sqrt(free / random.chisquare(free, RESAMPLES))
        low, high = np.quantile(off, [0.05, 0.95], method=QUANTILES)
        return float(np.exp(-high)), float(np.exp(-low))


def scatter_of(trials: Iterable[Trial]) -> Scatter:
    """How runs scatter, from repeats of configurations."""
    groups: dict[Configuration, list[float]] = defaultdict(list)
    for trial in trials:
        if trial.counts:
            groups[trial.configuration].append(trial.seconds)
    left: list[Floats] = []
    freedom = 0
    for seconds in groups.values():
        if len(seconds) > 1:
            logs = np.log(np.asarray(seconds, dtype=float))
            # Repeats lie nearer to their own mean than to the truth.
            left.append((logs - logs.mean()) * math.sqrt(len(logs) / (len(logs) - 1)))
            freedom += len(logs) - 1
    return Scatter(np.concatenate(left) if left else np.zeros(0), freedom)


def outliers(seconds: Sequence[float], spread: float) -> list[bool]:
    """Which of a configuration's repeats are far from what is usual of it.

    None of fewer than three. `spread` is how far logs of runs scatter.
    """
    if len(seconds) < FEW:
        return [False] * len(seconds)
    logs = np.log(np.asarray(seconds, dtype=float))
    off = np.abs(logs - np.median(logs))
    return [bool(one) for one in off > FAR * max(min(spread, USUAL_SPREAD), 0.01)]


@dataclass(frozen=True)
class Drift:
    """How the reference moved from the first trial to the last, as a share, with 90 % bounds.

    `a_trial` is the log of it from one trial to the next, by which others are corrected.
    """

    share: float
    low: float
    high: float
    a_trial: float

    @property
    def is_sure(self) -> bool:
        """Whether it is more than how far runs scatter anyway."""
        return not self.low <= 0 <= self.high


def drift_of(trials: Sequence[Trial]) -> Drift | None:
    """By a line through the logs of the reference's seconds; None with fewer than two of them."""
    found = [
        (place, math.log(trial.seconds))
        for place, trial in enumerate(trials)
        if trial.role == "reference" and trial.counts
    ]
    if len(found) < 2:
        return None
    places, logs = np.array(found, dtype=float).T
    off = places - places.mean()
    slope = float(off @ logs / (off @ off))
    own = scatter_of(trials).spread
    if len(found) > FEW:
        left = logs - logs.mean() - slope * off
        own = math.sqrt((own**2 + float(left @ left)) / (len(found) - 1))
    error = Z90 * own / math.sqrt(float(off @ off))
    length = len(trials) - 1
    bounds = [math.exp((slope + side * error) * length) - 1 for side in (-1, 0, 1)]
    return Drift(bounds[1], bounds[0], bounds[2], slope)


def summarise(trials: Sequence[Trial]) -> list[Summary]:
    """One summary a configuration, fastest first; warm-ups and failed ones are left out."""
    groups: dict[Configuration, list[tuple[int, Trial]]] = defaultdict(list)
    for place, trial in enumerate(trials):
        if trial.counts:
            groups[trial.configuration].append((place, trial))
    scatter = scatter_of(trials)
    moved = drift_of(trials)
    a_trial = moved.a_trial if moved is not None and moved.is_sure else 0.0
    middle = (len(trials) - 1) / 2
    factors: dict[int, tuple[float, float]] = {}
    random = np.random.default_rng(0)
    summaries = []
    for configuration, group in groups.items():
        count = len(group)
        if count not in factors:
            factors[count] = scatter.interval(count, random)
        seconds = [trial.seconds for _, trial in group]
        least, most = factors[count]
        usual = median(seconds)
        summaries.append(
            Summary(
                configuration=configuration,
                repeats=count,
                low=usual * least,
                median=usual,
                high=usual * most,
                phases={
                    phase: median(trial.phases[phase] for _, trial in group)
                    for phase in group[0][1].phases
                },
                corrected=median(
                    trial.seconds * math.exp(-a_trial * (place - middle)) for place, trial in group
                ),
                cpu_seconds=median(
                    [one.used.cpu_seconds + one.used.server_cpu_seconds for _, one in group]
                ),
                peak_memory=median([one.used.peak_memory for _, one in group]),
                outliers=sum(outliers(seconds, scatter.spread)),
            )
        )  # fmt: skip
    return sorted(summaries, key=lambda summary: summary.median)


@dataclass(frozen=True)
class Doubt:
    """Two configurations that trials do not tell apart.

    They differ by `difference` (a share), runs scatter by `spread`, and about so many `repeats` of
    each would tell.
    """

    difference: float
    spread: float
    repeats: int


def doubt_of(trials: Sequence[Trial], summaries: Sequence[Summary]) -> Doubt | None:
    """Of the two fastest, where what they differ by is less than what repeats show; else None.

    So many repeats make the 90 % interval of their ratio as narrow as their difference (Kalibera
    and Jones 2013, 9.3).
    """
    if len(summaries) < 2:
        return None
    spread = scatter_of(trials).spread
    first, second = summaries[:2]
    apart = math.log(second.median / first.median)
    error = Z90 * spread * math.sqrt(1 / first.repeats + 1 / second.repeats)
    if apart >= error:
        return None
    repeats = math.ceil(2 * (Z90 * spread / max(apart, 0.005)) ** 2)
    return Doubt(math.exp(apart) - 1, spread, repeats)
