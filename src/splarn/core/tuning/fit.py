"""Fits each phase's law to its own measurements, with the uncertainty of every parameter."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from splarn.core.errors import RequestError
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.discrepancy import Discrepancy, learn, places_of
from splarn.core.tuning.laws import (
    LEAST,
    PHASES,
    Columns,
    Floats,
    Known,
    Law,
    Volume,
    columns_of,
    known_of,
)
from splarn.core.tuning.trial import Trial

LEAST_TRIALS = 3
LEAST_NOISE = 0.02
FIRST_NOISE = 0.15
ROUNDS = 3
# Slots a unit that a compute with tiers may have.
SLOTS = (1, 2, 3, 4, 6, 8, 16)


@dataclass(frozen=True)
class PhaseFit:
    """A law with the best parameters (logs) and their covariance.

    `error` is what the law leaves out. `residuals` are log observed over what both predict, one a
    trial, in the same order in every phase.
    """

    law: Law
    theta: Floats
    covariance: Floats
    residuals: Floats
    error: Discrepancy

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

    def errors(
        self, configurations: Sequence[Configuration], rows_a_byte: float, count: int, seed: int
    ) -> dict[str, Floats]:
        """Draws of what each phase's law leaves out, in logs; shape (configurations, count)."""
        # Kinds have columns of their own, so that all places are found together.
        places = places_of([*self.tried, *configurations], rows_a_byte)
        tried, wanted = places[: len(self.tried)], places[len(self.tried) :]
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
    fits: list[tuple[dict[str, PhaseFit], int | None]] = []
    for slots in SLOTS if len(tiers) > 1 else (None,):
        columns = columns_of(
            configurations,
            [Volume(trial.bytes, trial.rows) for trial in used],
            known,
            [trial.parts for trial in used],
            slots,
            resting_tier,
        )
        phases = {
            phase.name: _fit_phase(
                Law(phase, known), columns, [trial.phases[phase.name] for trial in used]
            )
            for phase in PHASES
            if phase.name in used[0].phases and (not fits or phase.name == "load")
        }
        fits.append((phases, slots))
    # Whole numbers have no slope to follow, so each is tried; only loading knows of slots.
    best, slots = min(fits, key=lambda fit: float(np.abs(fit[0]["load"].residuals).mean()))
    phases = {**fits[0][0], "load": best["load"]}
    rows_a_byte = sum(trial.rows for trial in used) / max(sum(trial.bytes for trial in used), 1)
    places = places_of(configurations, rows_a_byte)
    corrected = []
    for fitted in phases.values():
        error = learn(places, fitted.residuals)
        left = fitted.residuals - error.at(places)
        corrected.append(replace(fitted, error=error, residuals=left))
    return Model(
        tuple(corrected), known, _measured(used), len(used), slots, resting_tier,
        tuple(configurations),
    )  # fmt: skip


def _fit_phase(law: Law, columns: Columns, seconds: Sequence[float]) -> PhaseFit:
    """Log-residual robust least squares with the priors as further residuals.

    The noise is re-estimated between rounds from the residuals' median absolute deviation; the
    covariance is Laplace's, from the last Jacobian.
    """
    from scipy.optimize import least_squares

    observed = np.log(np.maximum(np.asarray(seconds, dtype=float), LEAST))
    centre, spread = law.centre, law.spread
    noise = FIRST_NOISE
    theta = centre.copy()

    def residuals(candidate: Floats) -> Floats:
        predicted = law.seconds(columns, candidate[None, :])[:, 0]
        misfit = (observed - np.log(predicted)) / noise
        # Huber's weights on the data alone: the priors must keep their pull.
        size = np.abs(misfit)
        bent = np.where(
            size <= 1.5, misfit, np.sign(misfit) * np.sqrt(np.maximum(3 * size - 2.25, 0))
        )
        return np.concatenate((bent, (candidate - centre) / spread))

    bounds = (centre - 6 * spread, centre + 6 * spread)
    for _ in range(ROUNDS):
        solution = least_squares(residuals, theta, bounds=bounds)
        theta = solution.x
        predicted = law.seconds(columns, theta[None, :])[:, 0]
        misfit = observed - np.log(predicted)
        deviation = 1.4826 * float(np.median(np.abs(misfit)))
        # Few trials flatter their own fit, so the noise is raised towards its first guess.
        count = len(observed)
        pooled = (count * deviation**2 + 3 * FIRST_NOISE**2) / (count + 3)
        noise = max(float(np.sqrt(pooled)), LEAST_NOISE)
    covariance = np.linalg.inv(solution.jac.T @ solution.jac)
    nothing = np.zeros((0, 0))
    return PhaseFit(
        law, theta, covariance, misfit, Discrepancy(nothing, nothing, nothing, 0, noise)
    )


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
