"""Medians with bootstrap intervals, and how far the reference drifted."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.trial import Trial

RESAMPLES = 2000


@dataclass(frozen=True)
class Summary:
    """Repeats of one configuration. `low` and `high` bound the median's 90 % bootstrap interval.

    With fewer than three repeats they are the smallest and the largest value. Seconds throughout;
    `cpu_seconds` are those of our processes and the server's, `peak_memory` bytes, both medians.
    """

    configuration: Configuration
    repeats: int
    low: float
    median: float
    high: float
    phases: dict[str, float]
    cpu_seconds: float = 0.0
    peak_memory: float = 0.0


def bootstrap_median(values: Sequence[float], seed: int = 0) -> tuple[float, float, float]:
    """(low, median, high) by the percentile bootstrap (Efron 1979), 90 %."""
    data = np.asarray(values, dtype=float)
    median = float(np.median(data))
    if len(data) < 3:
        return float(data.min()), median, float(data.max())
    draws = np.random.default_rng(seed).choice(data, (RESAMPLES, len(data)))
    low, high = np.quantile(np.median(draws, axis=1), [0.05, 0.95])
    return float(low), median, float(high)


def summarise(trials: Iterable[Trial]) -> list[Summary]:
    """One summary a configuration, fastest first; warm-ups and failed ones are left out."""
    groups: dict[Configuration, list[Trial]] = defaultdict(list)
    for trial in trials:
        if trial.counts:
            groups[trial.configuration].append(trial)
    summaries = []
    for configuration, group in groups.items():
        low, median, high = bootstrap_median([trial.seconds for trial in group])
        phases = {
            phase: float(np.median([trial.phases[phase] for trial in group]))
            for phase in group[0].phases
        }
        cpu = [one.used.cpu_seconds + one.used.server_cpu_seconds for one in group]
        memory = [one.used.peak_memory for one in group]
        summaries.append(
            Summary(
                configuration, len(group), low, median, high, phases,
                float(np.median(cpu)), float(np.median(memory)),
            )
        )  # fmt: skip
    return sorted(summaries, key=lambda summary: summary.median)


def drift(trials: Sequence[Trial]) -> float | None:
    """Last reference over first, less one; None with fewer than two references."""
    seconds = [trial.seconds for trial in trials if trial.role == "reference" and trial.counts]
    return seconds[-1] / seconds[0] - 1 if len(seconds) > 1 else None
