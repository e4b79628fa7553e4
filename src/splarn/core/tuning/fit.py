"""Fits each phase's law to its own measurements, with the uncertainty of every parameter."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from splarn.core.errors import RequestError
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.discrepancy import Discrepancy, Kinds, kinds_of, learn, places_of
from splarn.core.tuning.laws import (
    KINDS,
    LEAST,
    PHASES,
    Columns,
    Floats,
    Known,
    Law,
    Phase,
    Volume,
    columns_of,
    known_of,
)
from splarn.core.tuning.least_squares import least_squares
from splarn.core.tuning.sampling import Likely, draws_of
from splarn.core.tuning.trial import Trial

LEAST_TRIALS = 3
LEAST_NOISE = 0.02
FIRST_NOISE = 0.15
ROUNDS = 3
LEAST_FREEDOM = 0.1
# A trial whose phases are off by so many spreads was disturbed.
DISTURBED = 4.0
# Slots a unit that a compute with tiers may have.
SLOTS = (1, 2, 3, 4, 6, 8, 16)


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
class Model:
    """The fitted laws of all phases, from trials of `trials` loads.

    `slots` are those of each unit of a tier, None where one tier was tried and none shows.
    `resting_tier` is the compute's tier when nothing is loaded, None where none was tried.
    """

    phases: tuple[PhaseFit, ...]
    known: Known
    measured: Measured
    trials: int
    slots: int | None = None
    resting_tier: str | None = None
    tried: tuple[Configuration, ...] = ()
    volumes: tuple[Volume, ...] = ()
    packed: Mapping[str, float] = field(default_factory=dict)

    def columns(self, configurations: Sequence[Configuration], volume: Volume) -> Columns:
        """Configurations at a volume as this model's laws want them."""
        return columns_of(
            configurations,
            [volume] * len(configurations),
            self.known,
            slots=self.slots,
            resting_tier=self.resting_tier,
            packed=self.packed,
        )

    def errors(
        self,
        configurations: Sequence[Configuration],
        volume: Volume,
        count: int,
        seed: int,
        kinds: Kinds | None = None,
    ) -> dict[str, Floats]:
        """Draws of what each phase's law leaves out, in logs; shape (configurations, count).

        The same seed and `kinds`, where given those of all that is ever asked for, draw the same
        errors whatever the configurations and the volume are.
        """
        known = kinds or kinds_of([*self.tried, *configurations])
        tried = places_of(self.tried, self.volumes, known)
        wanted = places_of(configurations, [volume] * len(configurations), known)
        random = np.random.default_rng(seed)
        return {
            fitted.law.phase.name: replace(fitted.error, places=tried).draws(wanted, count, random)
            for fitted in self.phases
        }


def fit_model(trials: Sequence[Trial]) -> Model:
    """Fits the model to trials; warm-ups are left out.

    Raises RequestError with fewer than three trials.
    """
    used = [trial for trial in trials if trial.tells]
    if len(used) < LEAST_TRIALS:
        raise RequestError(
            f"A model needs at least {LEAST_TRIALS} trials and there are {len(used)}: "
            "run `splarn sweep` first."
        )
    configurations = [trial.configuration for trial in used]
    known = known_of(configurations)
    tiers = {trial.configuration.tier for trial in used}
    resting_tier = next((t.configuration.tier for t in used if t.phases.get("size") == 0), None)
    packed = _packed(used)

    def columns_with(slots: int | None) -> Columns:
        return columns_of(
            configurations,
            [Volume(trial.bytes, trial.rows) for trial in used],
            known,
            [trial.parts for trial in used],
            slots,
            resting_tier,
            packed,
        )

    def fitted_to(phase: Phase, columns: Columns, rough: bool = False) -> PhaseFit:
        seconds = [trial.phases[phase.name] for trial in used]
        return _fit_phase(Law(phase, known), columns, seconds, rough)

    slots = None
    if len(tiers) > 1:
        # Whole numbers have no slope to follow, so each is tried; only loading knows of slots.
        loading = next(phase for phase in PHASES if phase.name == "load")
        off = {one: fitted_to(loading, columns_with(one), True).residuals for one in SLOTS}
        slots = min(SLOTS, key=lambda one: float(np.abs(off[one]).mean()))
    columns = columns_with(slots)
    phases = {
        phase.name: fitted_to(phase, columns) for phase in PHASES if phase.name in used[0].phases
    }
    volumes = tuple(Volume(trial.bytes, trial.rows) for trial in used)
    places = places_of(configurations, volumes, kinds_of(configurations))
    loose = disturbed([fitted.residuals for fitted in phases.values()])
    corrected = []
    for fitted in phases.values():
        error = learn(places, fitted.residuals, fitted.residuals / fitted.freedom, loose)
        left = fitted.residuals - error.at(places)
        corrected.append(replace(fitted, error=error, residuals=left))
    return Model(
        tuple(corrected), known, _measured(used), len(used), slots, resting_tier,
        tuple(configurations), volumes, packed,
    )  # fmt: skip


def _fit_phase(
    law: Law, columns: Columns, seconds: Sequence[float], rough: bool = False
) -> PhaseFit:
    """Log-residual robust least squares with the priors as further residuals.

    The noise is re-estimated between rounds from the residuals' median absolute deviation; the
    covariance is Laplace's, from the last Jacobian. A `rough` fit is one round from the priors.
    """
    observed = np.log(np.maximum(np.asarray(seconds, dtype=float), LEAST))
    centre, spread = law.centre, law.spread
    noise = FIRST_NOISE

    def residuals(candidates: Floats) -> Floats:
        predicted = law.seconds(columns, candidates)
        misfit = (observed[:, None] - np.log(predicted)) / noise
        # Huber's weights on the data alone: the priors must keep their pull.
        size = np.abs(misfit)
        bent = np.where(
            size <= 1.5, misfit, np.sign(misfit) * np.sqrt(np.maximum(3 * size - 2.25, 0))
        )
        return np.concatenate((bent.T, (candidates - centre) / spread), axis=1)

    theta, low, high = centre, centre - 6 * spread, centre + 6 * spread
    for number in range(1 if rough else ROUNDS):
        starts = [theta] if number or rough else law.starts()
        tried = [least_squares(residuals, start, low, high) for start in starts]
        theta, jacobian = min(tried, key=lambda one: float((residuals(one[0][None, :]) ** 2).sum()))
        predicted = law.seconds(columns, theta[None, :])[:, 0]
        misfit = observed - np.log(predicted)
        deviation = 1.4826 * float(np.median(np.abs(misfit)))
        # Few trials flatter their own fit, so the noise is raised towards its first guess.
        count = len(observed)
        pooled = (count * deviation**2 + 3 * FIRST_NOISE**2) / (count + 3)
        noise = max(float(np.sqrt(pooled)), LEAST_NOISE)
    covariance: Floats = np.linalg.inv(jacobian.T @ jacobian).astype(float)
    # What parameters were fitted to lies nearer to the law than what they were not.
    of_data = jacobian[: len(observed)]
    leverage = np.einsum("ij,jk,ik->i", of_data, covariance, of_data)
    freedom = np.sqrt(np.clip(1 - leverage, LEAST_FREEDOM, 1))
    nothing = np.zeros((0, 0))

    def likely(candidates: Floats) -> Floats:
        found: Floats = -0.5 * (residuals(candidates) ** 2).sum(axis=1)
        return found

    no_error = Discrepancy(nothing, (), noise, np.zeros(0))
    return PhaseFit(law, theta, covariance, misfit, no_error, likely, freedom)


def disturbed(residuals: Sequence[Floats]) -> Floats:
    """How many times as loosely each trial is to be taken, from its residuals in every phase.

    A law that is wrong is so in its phase; a neighbour that takes the machine slows all of a trial.
    So where most phases are far off in one direction it is the trial that is doubted. Shape (n,).
    """
    spreads = [max(1.4826 * float(np.median(np.abs(one))), LEAST_NOISE) for one in residuals]
    off = np.median([one / spread for one, spread in zip(residuals, spreads, strict=True)], axis=0)
    found: Floats = np.where(np.abs(off) > DISTURBED, np.abs(off), 1.0)
    return found


def _packed(trials: Sequence[Trial]) -> dict[str, float]:
    """To what share of their size codecs packed."""
    sizes: dict[str, list[int]] = {}
    for trial in trials:
        of = sizes.setdefault(KINDS["codec"](trial.configuration), [0, 0])
        of[0] += trial.packed_bytes
        of[1] += trial.bytes
    return {codec: packed / max(size, 1) for codec, (packed, size) in sizes.items()}


def _measured(trials: Sequence[Trial]) -> Measured:
    tried = {name: [getattr(trial.configuration, name) for trial in trials] for name in LEVERS}
    return Measured(
        spans={n: (min(tried[n]), max(tried[n])) for n, one in LEVERS.items() if one.is_number},
        names={
            n: tuple(sorted(set(map(str, tried[n]))))
            for n, one in LEVERS.items()
            if not one.is_number
        },
        ways=known_of([trial.configuration for trial in trials])["way"],
        bytes=max(trial.bytes for trial in trials),
    )
