"""Fits each phase's law to its own measurements, with the uncertainty of every parameter."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from splarn.core.errors import RequestError
from splarn.core.tuning.bill import Traffic
from splarn.core.tuning.columns import (
    Columns,
    Facts,
    Floats,
    Packed,
    Table,
    Volume,
    columns_of,
    kind_of,
    known_of,
)
from splarn.core.tuning.configuration import LEVERS
from splarn.core.tuning.discrepancy import Discrepancy, learn
from splarn.core.tuning.evidence import ANOTHER_PLACE
from splarn.core.tuning.laws import LEAST, PHASES, Law, Phase
from splarn.core.tuning.least_squares import least_squares
from splarn.core.tuning.model import LEAST_NOISE, Measured, Model, PhaseFit, at_work
from splarn.core.tuning.overlap import sharing_of
from splarn.core.tuning.pieces import luck_of
from splarn.core.tuning.places import kinds_of, places_of
from splarn.core.tuning.trial import Trial

LEAST_TRIALS = 3
FIRST_NOISE = 0.15
ROUNDS = 3
# After so many steps a start has shown where it leads.
SOON = 12
LEAST_FREEDOM = 0.1
# What whole trials differ by before any shows it, and how many trials that counts as much as.
USUAL_SPREAD, USUAL_COUNT = 0.03, 4
# A trial whose phases are off by so many spreads was disturbed.
DISTURBED = 4.0
# Slots a unit that a compute with tiers may have.
SLOTS = (1, 2, 3, 4, 6, 8, 16)
# Spreads of how a packing's speed lies to the measured one: in shaping, and in another machine.
PACKS_AS, UNPACKS_AS = 0.2, 0.4


def fit_model(
    trials: Sequence[Trial],
    packed: Mapping[str, Packed] | None = None,
    loose: Sequence[float] | None = None,
) -> Model:
    """Fits the model to trials; warm-ups are left out.

    `packed` is what packings do by measurement here, also those that no trial had. `loose` says of
    each trial how many times as far it may be off as a usual one. Raises RequestError with fewer
    than three trials.
    """
    told = [one for one in zip(trials, loose or [1.0] * len(trials), strict=True) if one[0].tells]
    used, weighed = [one for one, _ in told], np.array([by for _, by in told])
    if len(used) < LEAST_TRIALS:
        raise RequestError(
            f"A model needs at least {LEAST_TRIALS} trials and there are {len(used)}: "
            "run `splarn sweep` first."
        )
    configurations = [trial.configuration for trial in used]
    volumes = tuple(
        Volume(trial.bytes, trial.rows, pieces=tuple(map(float, trial.part_bytes)))
        if len(trial.part_bytes) == trial.parts and min(trial.part_bytes) > 0
        else Volume(trial.bytes, trial.rows)
        for trial in used
    )
    packed = {**(packed or {}), **_packed(used, packed or {})}
    known = known_of(configurations)
    known["packing"] = tuple(sorted({*known["packing"], *packed}))
    known["codec"] = tuple(sorted({*known["codec"], *map(_codec, packed)}))
    tiers = {trial.configuration.tier for trial in used}
    luck, fortunes = luck_of([
        (volume.parts(trial.configuration.part_size, trial.parts), trial.part_seconds)
        for trial, volume in zip(used, volumes, strict=True)
    ])  # fmt: skip
    facts = Facts(
        known,
        None,
        _resting_tier(used),
        packed,
        luck,
    )
    table, every = Table.of(configurations), np.arange(len(used))
    parts = [trial.parts for trial in used]

    def columns_with(slots: int | None) -> Columns:
        return columns_of(table, volumes, replace(facts, slots=slots), every, parts, fortunes)

    def fitted_to(phase: Phase, columns: Columns, rough: bool = False) -> PhaseFit:
        seconds = [trial.phases[phase.name] for trial in used]
        law = Law(phase, known, _hints(phase, packed))
        return fit_phase(law, columns, seconds, weighed, rough)

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
    kinds = kinds_of(table)
    taken = weighed * disturbed([fitted.residuals for fitted in phases.values()])
    reach = at_work(columns)
    corrected = []
    for fitted in phases.values():
        places = places_of(table, volumes, kinds, fitted.law.phase.levers, every)
        error = learn(places, fitted.residuals, fitted.residuals / fitted.freedom, taken)
        left = fitted.residuals - error.at(places)
        corrected.append(replace(fitted, error=error, residuals=left))
    return Model(
        tuple(corrected), replace(facts, slots=slots), _measured(used), len(used),
        Traffic.of(used), _spread(used, columns, corrected),
        (reach.min(axis=0), reach.max(axis=0)), table, volumes, columns,
        sharing=sharing_of([one for one in trials if not one.failure]),
        elsewhere=bool(weighed.min() >= ANOTHER_PLACE),
    )  # fmt: skip


def _resting_tier(trials: Sequence[Trial]) -> str | None:
    """The tier that the target goes back to after loads; None where it has no sizes."""
    sized = [trial for trial in trials if "size" in trial.phases]
    at_rest = (one.configuration.tier for one in sized if one.phases["size"] == 0)
    return next(at_rest, next((one.compute[-1].tier for one in sized if one.compute), None))


def _codec(packing: str) -> str:
    return packing.partition(" ")[2].partition(":")[0]


def _hints(phase: Phase, packed: Mapping[str, Packed]) -> dict[str, tuple[float, float]]:
    """What was measured here of packings, as priors: of packing it, and of the target's unpacking,
    which is another machine's."""
    hints = {}
    for name, one in packed.items():
        if phase.name == "shape" and one.pack:
            hints[f"packing s a MB, {name}"] = (one.pack, PACKS_AS)
        if phase.name == "load" and one.unpack:
            hints[f"unpacking s a MB, {_codec(name)}"] = (one.unpack, UNPACKS_AS)
    return hints


def fit_phase(
    law: Law, columns: Columns, seconds: Sequence[float], loose: Floats, rough: bool = False
) -> PhaseFit:
    """One law fitted to its own seconds: robust least squares of logs, priors as residuals.

    `loose` are multipliers of each one's noise.

    The noise is re-estimated between rounds from the residuals' median absolute deviation; the
    covariance is Laplace's, from the last Jacobian. A `rough` fit is one round from the priors.
    """
    observed = np.log(np.maximum(np.asarray(seconds, dtype=float), LEAST))
    centre, spread = law.centre, law.spread
    noise = FIRST_NOISE

    def residuals(candidates: Floats) -> Floats:
        predicted = law.seconds(columns, candidates)
        misfit = (observed[:, None] - np.log(predicted)) / (noise * loose[:, None])
        # Huber's weights on the data alone: the priors must keep their pull.
        size = np.abs(misfit)
        bent = np.where(
            size <= 1.5, misfit, np.sign(misfit) * np.sqrt(np.maximum(3 * size - 2.25, 0))
        )
        return np.concatenate((bent.T, (candidates - centre) / spread), axis=1)

    theta, low, high = centre, centre - 6 * spread, centre + 6 * spread

    def off(one: Floats) -> float:
        return float((residuals(one[None, :]) ** 2).sum())

    if not rough:
        # Where each start leads shows soon; only the best of them is followed to its end.
        led = [least_squares(residuals, one, low, high, SOON)[0] for one in law.starts()]
        theta = min(led, key=off)
    for _ in range(1 if rough else ROUNDS):
        theta, jacobian = least_squares(residuals, theta, low, high)
        predicted = law.seconds(columns, theta[None, :])[:, 0]
        misfit = observed - np.log(predicted)
        deviation = 1.4826 * float(np.median(np.abs(misfit / loose)))
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


def _spread(trials: Sequence[Trial], columns: Columns, phases: Sequence[PhaseFit]) -> float:
    """How far whole trials are off from what is true of them, a spread of logs."""
    took = np.array([trial.seconds for trial in trials])
    expected = np.zeros(len(took))
    for one in phases:
        seconds = one.law.seconds(columns, one.theta[None, :])[:, 0]
        expected += seconds * np.exp(one.error.at(one.error.places))
    off = np.log(took) - np.log(expected)
    found = 1.4826 * float(np.median(np.abs(off - np.median(off))))
    # What was fitted lies nearer, and few trials say little.
    free = float(np.mean([one.freedom.mean() for one in phases]))
    count = len(took)
    pooled = (count * (found / free) ** 2 + USUAL_COUNT * USUAL_SPREAD**2) / (count + USUAL_COUNT)
    return float(np.sqrt(pooled))


def disturbed(residuals: Sequence[Floats]) -> Floats:
    """How many times as loosely each trial is to be taken, from its residuals in every phase.

    A law that is wrong is so in its phase; a neighbour that takes the machine slows all of a trial.
    So where most phases are far off in one direction it is the trial that is doubted. Shape (n,).
    """
    spreads = [max(1.4826 * float(np.median(np.abs(one))), LEAST_NOISE) for one in residuals]
    off = np.median([one / spread for one, spread in zip(residuals, spreads, strict=True)], axis=0)
    found: Floats = np.where(np.abs(off) > DISTURBED, np.abs(off), 1.0)
    return found


def _packed(trials: Sequence[Trial], told: Mapping[str, Packed]) -> dict[str, Packed]:
    """To what share of their size packings packed in trials."""
    sizes: dict[str, list[int]] = {}
    for trial in trials:
        of = sizes.setdefault(kind_of("packing", trial.configuration), [0, 0])
        of[0] += trial.packed_bytes
        of[1] += trial.bytes
    return {
        name: replace(told.get(name, Packed(1.0)), share=packed / max(size, 1))
        for name, (packed, size) in sizes.items()
    }


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
