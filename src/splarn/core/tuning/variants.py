"""Laws with less in them, held against the whole ones by how well they foretell trials.

By expected log predictive density, each trial foretold by the others (Vehtari, Gelman and Gabry
2017). The whole law is kept whatever comes out: its priors already lean to none of each.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from splarn.core.tuning.columns import Floats
from splarn.core.tuning.doubts import DRAWS, SEED, likely, smoothed
from splarn.core.tuning.fit import fit_phase
from splarn.core.tuning.laws import CORES
from splarn.core.tuning.model import Model, PhaseFit
from splarn.core.tuning.trial import Trial

# What is left out of a phase's law at a time: words, and the parameters that are then nothing.
WITHOUT: dict[str, tuple[tuple[str, tuple[str, ...]], ...]] = {
    "load": (
        ("streams slowing one another", ("contention", "coherency", CORES, "crowding")),
        ("what all streams share", ("shared s a MB", "line s a packed MB")),
        ("making batches durable", ("s a commit",)),
        ("the table growing", ("growth",)),
    ),
    "ship": (("the line that all senders share", ("line s a packed MB",)),),
    "shape": (("workers slowing one another", ("contention", "coherency")),),
}
# As good as nothing, and as good as no limit.
NONE, ENDLESS, FIXED = 1e-9, 1e6, 1e-3
# Differences of fewer standard errors than this may be chance.
SURE = 2.0
# And smaller ones than this mean nothing.
WORTH = 1.0


@dataclass(frozen=True)
class Variant:
    """What a phase's law gains without something: log predictive density, and its standard error.

    `needed` is whether trials are foretold surely worse without it.
    """

    phase: str
    words: str
    gain: float
    error: float

    @property
    def needed(self) -> bool:
        """Whether trials are foretold worse without it, by more than chance and by much."""
        return self.gain < -max(SURE * self.error, WORTH)


def variants(model: Model, trials: Sequence[Trial]) -> list[Variant]:
    """Every law without each thing in turn; `trials` are those that the model was fitted to."""
    found = []
    for fitted in model.phases:
        phase = fitted.law.phase.name
        seconds = [trial.phases[phase] for trial in trials]
        even = np.ones(len(trials))
        # Both are fitted alike, without what corrects a law where it errs.
        whole = _foretold(model, fit_phase(fitted.law, model.fitted, seconds, even), trials)
        for words, names in WITHOUT.get(phase, ()):
            hints = dict(fitted.law.hints)
            hints |= {name: (ENDLESS if name == CORES else NONE, FIXED) for name in names}
            law = replace(fitted.law, hints=hints)
            less = fit_phase(law, model.fitted, seconds, even)
            apart = _foretold(model, less, trials) - whole
            error = float(apart.std(ddof=1) * len(apart) ** 0.5) if len(apart) > 1 else 0.0
            found.append(Variant(phase, words, float(apart.sum()), error))
    return found


def _foretold(model: Model, fitted: PhaseFit, trials: Sequence[Trial]) -> Floats:
    """The log of how likely each trial is by the others; shape (trials,)."""
    random = np.random.default_rng(SEED)
    seconds = fitted.law.seconds(model.fitted, fitted.draws(DRAWS, random))
    logs = likely(trials, fitted.law.phase.name, seconds, fitted.noise)
    weights = np.stack([smoothed(-one)[0] for one in logs])
    most = logs.max(axis=1, keepdims=True)
    found: Floats = np.log((weights * np.exp(logs - most)).sum(axis=1)) + most[:, 0]
    return found
