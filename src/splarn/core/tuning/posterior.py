"""What trials leave open: draws of every law's parameters, and what they say of a decision."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.prices import Prices
from splarn.core.tuning.columns import Floats, Table, Volume, added
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.laws import LEAST
from splarn.core.tuning.model import Model
from splarn.core.tuning.overlap import overlapped
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.statistics import QUANTILES

# What missing a limit by its whole length costs, in shares of what is to be small.
PENALTY = 10.0


@dataclass(frozen=True)
class Aim:
    """What a sweep is to decide: how to load this volume within these limits at these prices."""

    volume: Volume
    limits: Limits
    prices: Prices


@dataclass(frozen=True)
class Shown:
    """What trials would show: the logs of each phase's seconds, an array (candidates, draws) each.

    `seconds` and `cost` are what such a trial takes in all, its mean; shape (candidates,).
    """

    logs: tuple[Floats, ...]
    seconds: Floats
    cost: Floats


@dataclass(frozen=True)
class Outlook:
    """What every configuration would lose, and what a trial of it would show.

    `losses` are seconds, or money under a deadline, at the aim's volume, shape (configurations,
    draws); `in_seconds` says which. `shows` tells of trials of the configurations at these places,
    of a volume; `noise` is the spread of the logs of each phase, `thetas` its parameters' draws.
    """

    configurations: Sequence[Configuration]
    losses: Floats
    in_seconds: bool
    shows: Callable[[Sequence[int], Volume], Shown]
    noise: tuple[float, ...]
    thetas: Mapping[str, Floats]

    @property
    def best(self) -> int:
        """The place of the configuration that loses least by what is known."""
        return int(self.losses.mean(axis=1).argmin())

    @property
    def choice(self) -> Configuration:
        """The configuration that loses least by what is known."""
        return self.configurations[self.best]

    @property
    def span(self) -> tuple[float, float]:
        """The 90 % interval of what the best loses."""
        low, high = np.quantile(self.losses[self.best], [0.05, 0.95], method=QUANTILES)
        return float(low), float(high)

    @property
    def regret(self) -> float:
        """What deciding now is expected to lose, as a share of what knowing all would lose."""
        least = self.losses.min(axis=0)
        lost = self.losses[self.best] - least
        return float(lost.mean() / max(least.mean(), 1e-12))

    def chance(self, within: float) -> float:
        """The chance that no configuration is better than the best by more than such a share."""
        least = self.losses.min(axis=0)
        return float((self.losses[self.best] <= (1 + within) * least).mean())


def look_ahead(
    model: Model, space: Sequence[Configuration], aim: Aim, draws: int, seed: int
) -> Outlook:
    """What the trials so far say of all configurations at the aim's volume, and of more trials."""
    random = np.random.default_rng(seed)
    table = Table.of(space)
    kinds = model.kinds(table)
    thetas = {one.law.phase.name: one.draws(draws, random) for one in model.phases}

    def phases_of(volume: Volume, here: Table) -> dict[str, Floats]:
        told = model.seconds(here, volume, thetas, kinds, seed + 1)
        return {name: few[which] for name, (few, which) in told.items()}

    def cost_of(volume: Volume, here: Table, phases: dict[str, Floats], total: Floats) -> Floats:
        columns = model.columns(here, volume)
        items = model.costs(here, columns, phases, aim.prices, total)
        return sum(items.values(), np.zeros((here.count, draws)))

    def shows(places: Sequence[int], volume: Volume) -> Shown:
        # A trial's stages follow one another, so that each shows what it takes by itself.
        here = table.take(np.array(places))
        by_phase = phases_of(volume, here)
        total = added(by_phase.values())
        cost = cost_of(volume, here, by_phase, total)
        logs = tuple(np.log(np.maximum(one, LEAST)) for one in by_phase.values())
        return Shown(logs, total.mean(axis=1), cost.mean(axis=1))

    by_phase = phases_of(aim.volume, table)
    share = model.sharing.draws(draws, random)
    seconds = overlapped(model.columns(table, aim.volume), by_phase, share)
    cost = cost_of(aim.volume, table, by_phase, seconds)
    # Where nothing has a price, what is cheap is what is fast.
    in_seconds = aim.limits.deadline is None or not cost.any()
    losses = _losses(seconds if in_seconds else cost, seconds, cost, aim.limits)
    return Outlook(
        space, losses, in_seconds, shows, tuple(one.noise for one in model.phases), thetas
    )


def _losses(losses: Floats, seconds: Floats, cost: Floats, limits: Limits) -> Floats:
    """What is to be small, where what goes over a limit is worth many times what it takes."""
    for values, limit in ((seconds, limits.deadline), (cost, limits.budget)):
        if limit is not None:
            losses = losses * (1 + PENALTY * np.maximum(values / limit - 1, 0))
    return losses


def promises(outlook: Outlook, shown: Shown, worlds: int, seed: int) -> Floats:
    """How much less regret each trial that is shown would leave, shape (candidates,).

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
    noise = np.array(outlook.noise)
    found = np.empty(len(shown.seconds))
    for place in range(len(found)):
        # In spreads of their noise, the distances of all draws from what each world shows.
        here = np.stack([one[place] for one in shown.logs], axis=1) / noise
        seen = here[picked] + random.standard_normal((worlds, len(noise)))
        logs = here @ seen.T - 0.5 * (here**2).sum(axis=1)[:, None]
        weights = np.exp(logs - logs.max(axis=0))
        weights /= weights.sum(axis=0)
        found[place] = now - float((few @ weights).min(axis=0).mean())
    return found
