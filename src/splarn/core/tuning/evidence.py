"""What earlier work tells of a load: weighed by how alike it is, never mixed blindly."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from splarn.core.tuning.trial import Trial

# How many times as far a trial may be off as one of the sweep that is learned from: a whole run
# says most, another day less, another machine or version of the engine little.
RUN, ANOTHER_DAY, ANOTHER_PLACE = 0.5, 1.6, 4.0

# What must be the same for figures of one to be those of the other.
ALIKE = ("machine", "engine", "readers", "cold")


@dataclass
class Evidence:
    """Trials and how loosely each is to be taken; `others` counts further sweeps among them."""

    trials: list[Trial] = field(default_factory=list)
    loose: list[float] = field(default_factory=list)
    others: int = 0

    @property
    def runs(self) -> int:
        """How many of them are whole loads."""
        return sum(trial.role == "run" for trial in self.trials)

    def add(self, trials: Sequence[Trial], loose: float) -> None:
        """Takes further trials, those that have the same phases as the ones before."""
        phases = set(self.trials[0].phases) if self.trials else None
        for trial in trials:
            if trial.tells and phases is not None and set(trial.phases) != phases:
                continue
            self.trials.append(trial)
            self.loose.append(loose)

    def without_runs(self) -> Evidence:
        """The same before any run."""
        kept = [one for one in zip(self.trials, self.loose, strict=True) if one[0].role != "run"]
        return Evidence([trial for trial, _ in kept], [by for _, by in kept], self.others)


def looseness(own: Mapping[str, Any], other: Mapping[str, Any], run: bool = False) -> float:
    """How loosely trials of another sweep or run are to be taken, by where both were measured."""
    # Those who read beside it, and a cold start, make another load of it.
    if any((own.get(what) or 0) != (other.get(what) or 0) for what in ALIKE):
        return ANOTHER_PLACE
    return RUN if run else ANOTHER_DAY
