"""Whether a model can be relied on: trials left out and foretold, and what its laws do not fit.

Each trial is foretold by the others through importance weights (leave-one-out by Pareto-smoothed
importance sampling; Vehtari, Gelman and Gabry 2017), without fitting anew.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from splarn.core.tuning.columns import Floats
from splarn.core.tuning.laws import LEAST as NOTHING
from splarn.core.tuning.model import LEAST_NOISE, LeftOut, Model
from splarn.core.tuning.pieces import MIXED
from splarn.core.tuning.trial import Trial
from splarn.core.units import plural

DRAWS, SEED = 400, 23
# From here on weights say more of a few draws than of the trial (the paper's limit).
UNRELIABLE = 0.7
# Laws that leave out more than this, a spread of logs, are said to be wrong.
WRONG = 0.06
# A phase with less than this share of trials' time says nothing of the whole.
MATTERS = 0.05
# Spreads from which on a trial counts as disturbed.
FAR = 3.0
# So many trials say as much of intervals as was thought before; fewer than this share is too few.
FEW, HELD = 10, 0.75
# From fewer that can be foretold nothing is concluded.
LEAST = 8
# Half of a normal 90 % interval, in standard deviations.
Z90 = 1.645


def calibrated(model: Model, trials: Sequence[Trial]) -> Model:
    """The model with intervals as wide as it takes for trials to be foretold by the others.

    `trials` may hold others than it was fitted to. Few trials correct little.
    """
    told = left_out(model, [trial for trial in trials if trial.tells])
    weight = told.foretold / (told.foretold + FEW)
    return replace(model, width=1 + (told.width - 1) * weight, left_out=told)


def left_out(model: Model, trials: Sequence[Trial]) -> LeftOut:
    """Foretells every trial by the others; `trials` are those that the model was fitted to."""
    random = np.random.default_rng(SEED)
    logs = np.zeros((len(trials), DRAWS))
    noisy = np.zeros((len(trials), DRAWS))
    for fitted in model.phases:
        seconds = fitted.law.seconds(model.fitted, fitted.draws(DRAWS, random))
        # What the laws leave out is here as good as noise.
        noise = float(np.hypot(fitted.noise, fitted.error.size))
        logs += likely(trials, fitted.law.phase.name, seconds, noise)
        noisy += seconds * np.exp(noise * random.standard_normal(seconds.shape))
    distances: list[float] = []
    for place, trial in enumerate(trials):
        weights, shape = smoothed(-logs[place])
        if shape > UNRELIABLE:
            continue
        foretold = np.log(noisy[place])
        middle = float(weights @ foretold)
        spread = float(np.sqrt(weights @ (foretold - middle) ** 2))
        distances.append(abs(np.log(trial.seconds) - middle) / max(spread, LEAST_NOISE))
    held = sum(bool(one <= Z90) for one in distances)
    if len(distances) < LEAST:
        return LeftOut(len(trials), len(distances), held, 1.0)
    needed = float(np.quantile(distances, 0.9)) / Z90
    return LeftOut(len(trials), len(distances), held, max(needed, 1.0))


def likely(trials: Sequence[Trial], phase: str, seconds: Floats, noise: float) -> Floats:
    """How likely each draw's seconds make what trials took, in logs; shape (trials, draws).

    A few trials that were disturbed must not decide.
    """
    taken = np.log(np.maximum([trial.phases[phase] for trial in trials], NOTHING))[:, None]
    off = np.abs(taken - np.log(np.maximum(seconds, NOTHING))) / noise
    found: Floats = -np.where(off < FAR, off**2 / 2, FAR * off - FAR**2 / 2) - np.log(noise)
    return found


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
    share = (np.arange(tail) + 0.5) / tail
    with np.errstate(all="ignore"):
        shape, scale = _pareto(np.maximum(over, 1e-300))
        if abs(shape) > 1e-6:
            made = threshold + scale * np.expm1(-shape * np.log1p(-share)) / shape
        else:
            made = threshold - scale * np.log1p(-share)
    if not (np.isfinite(shape) and scale > 0 and np.isfinite(made).all()):
        # Weights that hardly differ, or of which all but a few are nothing, have no tail to fit.
        return weights / weights.sum(), 0.0 if weights.mean() > 0.5 else np.inf
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


def doubts(model: Model) -> list[str]:
    """Sentences about what does not fit; empty where nothing speaks against the laws."""
    found = []
    typical = {
        one.law.phase.name: one.law.seconds(model.fitted, one.theta[None, :]).mean()
        for one in model.phases
    }
    for fitted in model.phases:
        name, size = fitted.law.phase.name, fitted.error.size
        # What takes no time may do as it likes.
        if size > WRONG and typical[name] > MATTERS * sum(typical.values()):
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
    told = model.left_out
    if told is not None and told.foretold >= LEAST and told.held < HELD * told.foretold:
        found.append(
            f"Of {plural(told.foretold, 'trial')} foretold by the others only {told.held} lay "
            "in their 90 % interval; intervals have been widened for that."
        )
    return found
