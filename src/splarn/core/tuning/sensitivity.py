"""Which unknown could overturn a choice, and the trial that would settle it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.explain import SAYINGS
from splarn.core.tuning.model import Model
from splarn.core.tuning.posterior import Aim, look_ahead, promises

DRAWS, WORLDS, SEED = 400, 64, 22
# A rival must be better by this share before it counts.
BETTER = 0.02


@dataclass(frozen=True)
class Sensitivity:
    """How sure a choice is: the `chance` that nothing is better by more than a fiftieth.

    `rival` is what most often would be, `unknown` what would have to be so for that, in words, and
    `trial` what would tell most about it. None where nothing speaks against the choice.
    """

    chance: float
    rival: Configuration | None
    unknown: str
    trial: Configuration | None


def sensitivity(
    model: Model, chosen: Configuration, others: Sequence[Configuration], aim: Aim
) -> Sensitivity:
    """Looks at a choice against others in all that is still possible."""
    every = list(dict.fromkeys((chosen, *others)))
    outlook = look_ahead(model, every, aim, DRAWS, SEED)
    least = outlook.losses.min(axis=0)
    lost = outlook.losses[0] > (1 + BETTER) * least
    chance = float(1 - lost.mean())
    if not lost.any():
        return Sensitivity(chance, None, "", None)
    times = np.bincount(outlook.losses[:, lost].argmin(axis=0), minlength=len(every))
    rival = every[int(times.argmax())]
    gap, words = 0.0, ""
    for fitted in model.phases:
        phase = fitted.law.phase.name
        draws = outlook.thetas[phase]
        for name, saying in SAYINGS[phase].items():
            first, count, _ = fitted.law.slots[name]
            for place in range(first, first + count):
                values = draws[:, place]
                apart = float(values[lost].mean() - values[~lost].mean()) if not lost.all() else 0.0
                apart /= max(float(values.std()), 1e-9)
                if abs(apart) > abs(gap):
                    gap = apart
                    words = f"{saying.format('more' if apart > 0 else 'less')} than thought"
    volume = model.volumes[int(np.argmax([one.bytes for one in model.volumes]))]
    shown = outlook.shows(range(len(every)), volume)
    trial = every[int(promises(outlook, shown, WORLDS, SEED).argmax())]
    return Sensitivity(chance, rival, words, trial)
