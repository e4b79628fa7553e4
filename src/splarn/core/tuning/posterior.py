"""What trials leave open: draws of every law's parameters, and what they say of a decision."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.prices import Prices
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.fit import Model
from splarn.core.tuning.forecast import BUSY_PHASES, costs_of, draw
from splarn.core.tuning.laws import Floats, Volume, columns_of
from splarn.core.tuning.plan import Limits

# What missing a limit by its whole length costs, in shares of what is to be small.
PENALTY = 10.0


@dataclass(frozen=True)
class Aim:
    """What a sweep is to decide: how to load this volume within these limits at these prices."""

    volume: Volume
    limits: Limits
    prices: Prices

    @property
    def quantity(self) -> str:
        """What is to be small: `cost` under a deadline, else `time`."""
        return "cost" if self.limits.deadline is not None else "time"


@dataclass(frozen=True)
class Outlook:
    """What every configuration would lose, and what a trial of it would show.

    `losses` are seconds, or money under a deadline, at the aim's volume, shape (configurations,
    draws). `shown` are the logs of each phase's seconds in a trial, an array of that shape a phase;
    `noise` is the spread of each.
    """

    losses: Floats
    shown: tuple[Floats, ...]
    noise: tuple[float, ...]

    @property
    def best(self) -> int:
        """The configuration that loses least by what is known."""
        return int(self.losses.mean(axis=1).argmin())

    @property
    def regret(self) -> float:
        """What deciding now is expected to lose, as a share of what knowing all would lose."""
        least = self.losses.min(axis=0)
        lost = self.losses[self.best] - least
        return float(lost.mean() / max(least.mean(), 1e-12))

    @property
    def chance(self) -> float:
        """The chance that the best by what is known is the best indeed, or within a hundredth."""
        least = self.losses.min(axis=0)
        return float((self.losses[self.best] <= 1.01 * least).mean())


def look_ahead(
    model: Model, space: Sequence[Configuration], aim: Aim, sample: Volume, draws: int, seed: int
) -> Outlook:
    """What the trials so far say of all configurations, at the aim's volume and at the sample's."""
    random = np.random.default_rng(seed)
    large, small = (
        columns_of(
            space, [volume] * len(space), model.known, slots=model.slots,
            resting_tier=model.resting_tier,
        )
        for volume in (aim.volume, sample)
    )  # fmt: skip
    nothing = np.zeros((len(space), draws))
    total, busy = nothing.copy(), nothing.copy()
    shown, noise = [], []
    errors = model.errors(space, sample.rows / max(sample.bytes, 1), draws, seed + 1)
    for fitted in model.phases:
        theta, error = draw(fitted, random, draws), errors[fitted.law.phase.name]
        seconds = fitted.law.seconds(large, theta) * np.exp(error)
        total = total + seconds
        if fitted.law.phase.name in BUSY_PHASES:
            busy = busy + seconds
        shown.append(np.log(fitted.law.seconds(small, theta)) + error)
        noise.append(fitted.noise)
    cost = costs_of(space, busy, total, aim.prices)
    return Outlook(_losses(total, cost, aim.limits), tuple(shown), tuple(noise))


def _losses(seconds: Floats, cost: Floats, limits: Limits) -> Floats:
    """Time, or cost under a deadline; what goes over a limit is worth many times what it takes."""
    losses = cost if limits.deadline is not None else seconds
    if not losses.any():
        # Nothing has a price.
        losses = seconds
    for values, limit in ((seconds, limits.deadline), (cost, limits.budget)):
        if limit is not None:
            losses = losses * (1 + PENALTY * np.maximum(values / limit - 1, 0))
    return losses


def promises(outlook: Outlook, candidates: Sequence[int], worlds: int, seed: int) -> Floats:
    """How much less regret each candidate's trial would leave, shape (candidates,).

    The knowledge gradient (Frazier, Powell and Dayanik 2008) by Monte Carlo: in each of some worlds
    that are still possible the trial shows what it would, all others are weighed by how likely they
    make that, and the best choice is made by these weights.
    """
    random = np.random.default_rng(seed)
    losses = outlook.losses
    now = float(losses.mean(axis=1).min())
    draws = losses.shape[1]
    picked = random.integers(draws, size=worlds)
    # Only what is best in some world can be chosen in the end.
    contenders = np.unique(np.concatenate((losses.argmin(axis=0), [outlook.best])))
    few = losses[contenders]
    found = np.empty(len(candidates))
    for place, candidate in enumerate(candidates):
        logs = np.zeros((draws, worlds))
        for shown, noise in zip(outlook.shown, outlook.noise, strict=True):
            seen = shown[candidate][picked] + noise * random.standard_normal(worlds)
            logs -= 0.5 * ((shown[candidate][:, None] - seen[None, :]) / noise) ** 2
        weights = np.exp(logs - logs.max(axis=0))
        weights /= weights.sum(axis=0)
        found[place] = now - float((few @ weights).min(axis=0).mean())
    return found
