"""Stages at work at the same time: what they take together, sharing a machine.

A part goes through the stages one after the other, so all take as long as the slowest, and once
through the others, as in a flow shop of equal jobs (Johnson 1954). Stages that share processors or
a line slow one another, so some of what the others take comes on top of that.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.columns import Columns, Floats, added
from splarn.core.tuning.trial import Trial

# Stages that can work at the same time, each part going from one to the next.
STAGES = ("shape", "ship", "load")
# The share of what the other stages take that is not hidden behind the slowest, before a run shows
# it: mean and spread. And how well a run's phases tell it, as a share of its time.
USUAL, APART = 0.15, 0.25
KNOWN = 0.03


@dataclass(frozen=True)
class Sharing:
    """How much of what the other stages take is not hidden behind the slowest: mean and spread."""

    mean: float = USUAL
    spread: float = APART

    def draws(self, count: int, random: np.random.Generator) -> Floats:
        """Possible shares, shape (count,)."""
        found: Floats = np.clip(self.mean + self.spread * random.standard_normal(count), 0.0, 1.0)
        return found


def overlapped(columns: Columns, seconds: Mapping[str, Floats], share: Floats | float) -> Floats:
    """What all phases take with the stages at work at the same time; shapes as in `seconds`."""
    rounds = {"shape": columns.shaped, "ship": columns.shipped, "load": columns.loaded}
    stages = [name for name in STAGES if name in seconds]
    rest = [each for name, each in seconds.items() if name not in STAGES]
    once = [seconds[name] / np.maximum(rounds[name].parts, 1).astype(seconds[name].dtype)
            for name in stages]  # fmt: skip
    slowest, its_once = seconds[stages[0]], once[0]
    for name, each in zip(stages[1:], once[1:], strict=True):
        slower = seconds[name] > slowest
        its_once = np.where(slower, each, its_once)
        slowest = np.maximum(slowest, seconds[name])
    through = added(once) - its_once
    others = added(seconds[name] for name in stages) - slowest
    found: Floats = slowest + np.maximum(through, share * others)
    return added((found, *rest))


def sharing_of(trials: Sequence[Trial]) -> Sharing:
    """What runs with overlapping stages show of it, with what is thought before.

    A normal mean of known spreads (Gelman and others, "Bayesian Data Analysis", 2013, 2.5).
    """
    weight, mean = 1 / APART**2, USUAL / APART**2
    for trial in trials:
        stages = [trial.phases[name] for name in STAGES if name in trial.phases]
        others = sum(stages) - max(stages, default=0.0)
        if not trial.overlapped or others <= KNOWN * trial.overlapped:
            continue
        hidden = sum(trial.phases.values()) - trial.overlapped
        shown = float(np.clip(1 - hidden / others, 0.0, 1.0))
        spread = max(KNOWN * trial.overlapped / others, KNOWN)
        weight += 1 / spread**2
        mean += shown / spread**2
    return Sharing(mean / weight, weight**-0.5)
