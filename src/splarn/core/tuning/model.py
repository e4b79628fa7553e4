"""The model: fitted laws, what they leave out, and what is known beside them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from splarn.core.prices import Prices
from splarn.core.tuning.bill import Traffic, costs_of
from splarn.core.tuning.columns import Columns, Facts, Floats, Places, Table, Volume, columns_of
from splarn.core.tuning.discrepancy import Discrepancy
from splarn.core.tuning.laws import Law
from splarn.core.tuning.overlap import Sharing
from splarn.core.tuning.places import Kinds, alike, kinds_of, places_of
from splarn.core.tuning.sampling import Likely, draws_of

LEAST_NOISE = 0.02


@dataclass(frozen=True)
class PhaseFit:
    """A law with the likeliest parameters (logs) and their covariance by Laplace's approximation.

    `likely` tells how likely others are; `freedom` what share of a residual's spread the fit has
    left, one a trial. `error` is what the law leaves out. `residuals` are log
    observed over what both predict, one a trial, in the same order in every phase.
    """

    law: Law
    theta: Floats
    covariance: Floats
    residuals: Floats
    error: Discrepancy
    likely: Likely
    freedom: Floats

    def draws(self, count: int, random: np.random.Generator) -> Floats:
        """Parameters that are still possible, shape (count, parameters)."""
        return draws_of(self.likely, self.theta, self.covariance, count, random)

    @property
    def noise(self) -> float:
        """The spread of a trial's log seconds around what is true of its configuration."""
        return max(self.error.noise, LEAST_NOISE)


@dataclass(frozen=True)
class Measured:
    """What trials covered; outside it a forecast is an extrapolation.

    `spans` are the smallest and largest value of each lever that is a number, `names` the values of
    each other one, `ways` the values of the load levers taken together.
    """

    spans: dict[str, tuple[int, int]]
    names: dict[str, tuple[str, ...]]
    ways: tuple[str, ...]
    bytes: float


@dataclass(frozen=True)
class LeftOut:
    """How well trials are foretold by the others.

    Of `trials` so many can be `foretold` at all: without the others the laws would be other ones.
    `held` of these lay in their 90 % interval, and `width` is by what intervals are to be widened
    so that 90 % would.
    """

    trials: int
    foretold: int
    held: int
    width: float


def at_work(columns: Columns) -> Floats:
    """The logs of how large parts are and how many are at work at once; shape (n, 4)."""
    size = columns.total_mb / columns.parts
    lanes = (columns.shaped.busy, columns.shipped.busy, columns.loaded.busy)
    found: Floats = np.log2(np.concatenate((size, *lanes), axis=1))
    return found


@dataclass(frozen=True)
class Model:
    """The fitted laws of all phases, from trials of `trials` loads, and what else is known.

    `spread` is that of the logs of a whole trial's seconds around what is true of it, `reach` the
    least and the most that was at work.
    """

    phases: tuple[PhaseFit, ...]
    facts: Facts
    measured: Measured
    trials: int
    traffic: Traffic
    spread: float
    reach: tuple[Floats, Floats]
    tried: Table
    volumes: tuple[Volume, ...]
    # Those of the trials, with what chance did to their parts.
    fitted: Columns
    # How far stages slow one another that work at the same time.
    sharing: Sharing = field(default_factory=Sharing)
    # Whether all trials come from another machine, engine or crowd than what is asked about.
    elsewhere: bool = False
    # By what intervals are widened, and why.
    width: float = 1.0
    left_out: LeftOut | None = None

    def costs(
        self,
        table: Table,
        columns: Columns,
        seconds: Mapping[str, Floats],
        prices: Prices,
        total: Floats | None = None,
    ) -> dict[str, Floats]:
        """What loads cost whose phases take so long, by item; see `costs_of`."""
        resting = self.facts.resting_tier
        return costs_of(table, columns, seconds, prices, self.traffic, resting, total)

    def columns(self, table: Table, volume: Volume) -> Columns:
        """Configurations at a volume as this model's laws want them."""
        return columns_of(table, [volume], self.facts)

    def beyond(self, columns: Columns) -> Floats:
        """How many doublings each lies beyond what trials had at work; shape (n, 1)."""
        here = at_work(columns)
        over = np.maximum(here - self.reach[1], self.reach[0] - here)
        found: Floats = np.linalg.norm(np.maximum(over, 0), axis=1)[:, None]
        return found

    def unlike(self, table: Table, volume: Volume, kinds: Kinds) -> Floats:
        """How little each has in common with any trial in loading, 0 to 1; shape (n, 1)."""
        levers = next(one.law.phase.levers for one in self.phases if one.law.phase.name == "load")
        few, back = table.distinct(levers)
        every = np.arange(self.tried.count)
        tried = places_of(self.tried, self.volumes, kinds, levers, every)
        near = alike(places_of(few, [volume], kinds, levers), tried).max(axis=1)
        found: Floats = (1 - near)[back][:, None]
        return found

    def kinds(self, table: Table) -> Kinds:
        """What is to be told apart among what was tried and these configurations."""
        return kinds_of(self.tried, table)

    def errors(
        self, table: Table, volume: Volume, count: int, seed: int, kinds: Kinds
    ) -> dict[str, tuple[Floats, Places]]:
        """Draws of what each phase's law leaves out, in logs, and which of them each entry has.

        Shapes (distinct, count) and (configurations,). The same seed and `kinds`, those of all that
        is ever asked for, draw the same errors whatever the configurations and the volume are.
        """
        random = np.random.default_rng(seed)
        every = np.arange(self.tried.count)
        found = {}
        for fitted in self.phases:
            levers = fitted.law.phase.levers
            few, back = table.distinct(levers)
            tried = places_of(self.tried, self.volumes, kinds, levers, every)
            wanted = places_of(few, [volume], kinds, levers)
            drawn = replace(fitted.error, places=tried).draws(wanted, count, random)
            found[fitted.law.phase.name] = drawn, back
        return found

    def seconds(
        self,
        table: Table,
        volume: Volume,
        thetas: Mapping[str, Floats],
        kinds: Kinds,
        seed: int,
        luck: Floats | None = None,
    ) -> dict[str, tuple[Floats, Places]]:
        """Seconds of each phase, for `thetas` of shape (draws, values), and who has which.

        Shapes (distinct, draws) and (configurations,): many configurations share what a phase
        takes. `luck`, of shape (draws,), is how the parts of a load are lucky, in spreads.
        """
        count = len(next(iter(thetas.values())))
        errors = self.errors(table, volume, count, seed, kinds)
        found = {}
        for fitted in self.phases:
            name = fitted.law.phase.name
            few, back = table.distinct(fitted.law.phase.levers)
            columns = self.columns(few, volume)
            off = errors[name][0]
            if luck is not None and name == "load":
                off = off + columns.loaded.spread * luck
            found[name] = np.exp(off) * fitted.law.seconds(columns, thetas[name]), back
        return found
