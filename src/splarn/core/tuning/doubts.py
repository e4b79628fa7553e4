"""Whether a model can be relied on: trials left out and foretold, and what its laws do not fit.

Each trial is foretold by the others through importance weights (leave-one-out by Pareto-smoothed
importance sampling; Vehtari, Gelman and Gabry 2017), without fitting anew.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.columns import Floats
from splarn.core.tuning.fit import LEAST_NOISE, Model
from splarn.core.tuning.laws import LEAST
from splarn.core.tuning.pieces import MIXED
from splarn.core.tuning.trial import Trial
from splarn.core.units import plural

DRAWS, SEED = 400, 23
# From here on weights say more of a few draws than of the trial (the paper's limit).
UNRELIABLE = 0.7
# Laws that leave out more than this, a spread of logs, are said to be wrong.
WRONG = 0.06
# Spreads from which on a trial counts as disturbed.
FAR = 3.0
# Half of a normal 90 % interval, in standard deviations.
Z90 = 1.645


@dataclass(frozen=True)
class LeftOut:
    """How well trials are foretold by the others.

    `held` of `trials` lay in their 90 % interval; `width` is by what intervals are to be widened so
    that 90 % would; `odd` are those that no other trial prepares for.
    """

    trials: int
    held: int
    width: float
    odd: int


def left_out(model: Model, trials: list[Trial]) -> LeftOut:
    """Foretells every trial by the others; `trials` are those that the model was fitted to."""
    random = np.random.default_rng(SEED)
    logs = np.zeros((len(trials), DRAWS))
    noisy = np.zeros((len(trials), DRAWS))
    for fitted in model.phases:
        seconds = fitted.law.seconds(model.fitted, fitted.draws(DRAWS, random))
        taken = [trial.phases[fitted.law.phase.name] for trial in trials]
        seen = np.log(np.maximum(taken, LEAST))[:, None]
        # What the laws leave out is here as good as noise.
        noise = float(np.hypot(fitted.noise, fitted.error.size))
        off = (seen - np.log(np.maximum(seconds, LEAST))) / noise
        # A few that were disturbed must not decide.
        logs -= np.where(np.abs(off) < FAR, off**2 / 2, FAR * np.abs(off) - FAR**2 / 2)
        noisy += seconds * np.exp(noise * random.standard_normal(seconds.shape))
    distances: list[float] = []
    odd = 0
    for place, trial in enumerate(trials):
        weights, shape = smoothed(-logs[place])
        odd += shape > UNRELIABLE
        foretold = np.log(noisy[place])
        middle = float(weights @ foretold)
        spread = float(np.sqrt(weights @ (foretold - middle) ** 2))
        distances.append(abs(np.log(trial.seconds) - middle) / max(spread, LEAST_NOISE))
    held = int((np.array(distances) <= Z90).sum())
    needed = float(np.quantile(distances, 0.9)) / Z90
    return LeftOut(len(trials), held, max(needed, 1.0), odd)


def smoothed(logs: Floats) -> tuple[Floats, float]:
    """Weights from their logs, the largest made those of a generalised Pareto distribution.

    They sum to 1. The second figure is the distribution's shape k: above 0.7 they are not to be
    relied on (Vehtari and others, "Pareto Smoothed Importance Sampling", 2015).
    """
    logs = logs - logs.max()
    weights = np.exp(logs)
    count = len(weights)
    tail = int(min(np.ceil(0.2 * count), np.ceil(3 * count**0.5)))
    order = np.argsort(weights)
    largest = order[-tail:]
    threshold = float(weights[order[-tail - 1]])
    over = weights[largest] - threshold
    if over[-1] <= 0 or over[0] == over[-1]:
        return weights / weights.sum(), 0.0
    shape, scale = _pareto(np.maximum(over, 1e-300))
    share = (np.arange(tail) + 0.5) / tail
    if abs(shape) > 1e-6:
        made = threshold + scale * np.expm1(-shape * np.log1p(-share)) / shape
    else:
        made = threshold - scale * np.log1p(-share)
    weights[largest] = np.minimum(made, weights.max())
    return weights / weights.sum(), float(shape)


def _pareto(over: Floats) -> tuple[float, float]:
    """Shape and scale of a generalised Pareto distribution (Zhang and Stephens 2009)."""
    count = len(over)
    tries = 30 + int(count**0.5)
    quarter = over[int(count / 4 + 0.5) - 1]
    number = np.arange(1, tries + 1)
    theta = 1 / over[-1] + (1 - np.sqrt(tries / (number - 0.5))) / (3 * max(quarter, 1e-300))
    shapes = np.log1p(-theta[:, None] * over).mean(axis=1)
    likely = count * (np.log(-theta / shapes) - shapes - 1)
    weights = 1 / np.exp(likely - likely[:, None]).sum(axis=1)
    best = float((theta * weights).sum() / weights.sum())
    shape = float(np.log1p(-best * over).mean())
    scale = -shape / best
    # A weak prior, as the paper has it, since tails of few weights say little.
    return (count * shape + 5) / (count + 10), scale


def doubts(model: Model, told: LeftOut | None = None) -> list[str]:
    """Sentences about what does not fit; empty where nothing speaks against the laws."""
    found = []
    for fitted in model.phases:
        name, size = fitted.law.phase.name, fitted.error.size
        if size > WRONG:
            found.append(
                f"The {name} phase does something that no law here says: trials leave "
                f"{np.expm1(size):.0%} either way, which intervals include."
            )
    luck = model.facts.luck
    if luck.stragglers >= MIXED:
        found.append(
            f"Parts of one size are of two kinds: {luck.stragglers:.0%} of them take "
            f"{luck.factor:.1f} times as long as the others, for a reason that no lever shows."
        )
    if told is not None and told.held < 0.75 * told.trials:
        found.append(
            f"Of {plural(told.trials, 'trial')}, each foretold by the others, only {told.held} lay "
            f"within their 90 % interval: intervals are {told.width:.1f} times as wide for that."
        )
    return found
