"""Which trial comes next: a grid, one lever at a time, or always the one that promises most."""

from __future__ import annotations

import random
from collections.abc import Sequence
from statistics import median
from typing import Protocol

import numpy as np

from splarn.core.tuning.configuration import LEVERS, REGRET, Configuration, Space
from splarn.core.tuning.design import PlannedTrial, design
from splarn.core.tuning.fit import LEAST_TRIALS, fit_model
from splarn.core.tuning.laws import KINDS, Volume
from splarn.core.tuning.posterior import Aim, Outlook, look_ahead, promises
from splarn.core.tuning.trial import Trial

# Draws of the parameters, worlds in which a trial is imagined, candidates that are looked at.
DRAWS, WORLDS, CANDIDATES = 600, 48, 48
# A trial that promises to take away less than this share of the wanted regret is not worth it.
WORTHLESS = 0.1
# A trial that is off by more than this (in logs) is looked at again.
SURPRISE = 0.15
# Trials of the reference that show drift come after so many others.
REFERENCE_EVERY = 8


class Strategy(Protocol):
    """Chooses trials by what came of those before, and by a seed alone: so a sweep can go on."""

    ended: str

    def following(self, trials: Sequence[Trial]) -> PlannedTrial | None:
        """The next one; None where no more is wanted, and then `ended` says why."""

    def most(self) -> int:
        """How many trials there will be at most."""

    def beforehand(self) -> list[PlannedTrial]:
        """Those that do not depend on what others show."""

    def thought(self, trials: Sequence[Trial]) -> tuple[Configuration, Outlook] | None:
        """The best configuration by these trials and what they say, where that is looked at."""


def strategy_by(
    name: str, space: Space, aim: Aim, sample: Volume, repeats: int, seed: int, regret: float
) -> Strategy:
    """A strategy by its name."""
    if name == "grid":
        return grid(space, repeats, seed)
    if name == "star":
        return star(space, repeats, seed)
    return Adaptive(space, aim, sample, seed, regret)


class Listed:
    """Trials that are known beforehand: the grid, or the star."""

    def __init__(self, planned: Sequence[PlannedTrial], ended: str) -> None:
        self.planned, self.ended = list(planned), ended

    def following(self, trials: Sequence[Trial]) -> PlannedTrial | None:
        """See Strategy."""
        return self.planned[len(trials)] if len(trials) < len(self.planned) else None

    def most(self) -> int:
        """See Strategy."""
        return len(self.planned)

    def beforehand(self) -> list[PlannedTrial]:
        """See Strategy."""
        return self.planned

    def thought(self, trials: Sequence[Trial]) -> tuple[Configuration, Outlook] | None:
        """See Strategy."""
        return None


def grid(space: Space, repeats: int, seed: int) -> Listed:
    """Every configuration of the space, in shuffled blocks."""
    return Listed(design(space, repeats, seed), "grid finished")


def star(space: Space, repeats: int, seed: int) -> Listed:
    """A configuration in the middle, and from it each lever by itself, in shuffled blocks."""
    every = list(space.grid())
    middle = centre_of(space)
    arms = [one for one in every if len(_changed(middle, one)) <= 1]
    shuffle = random.Random(seed)
    planned = [PlannedTrial(middle, 0, "warm-up")]
    for repeat in range(1, repeats + 1):
        block = list(arms)
        shuffle.shuffle(block)
        planned.append(PlannedTrial(middle, repeat, "reference"))
        planned += [PlannedTrial(one, repeat, "trial") for one in block if one != middle]
    return Listed(planned, "star finished")


def centre_of(space: Space) -> Configuration:
    """The configuration whose levers have the middle ones of their values."""
    every = list(space.grid())

    def off(one: Configuration) -> float:
        return sum(
            abs(values.index(getattr(one, name)) - (len(values) - 1) / 2)
            for name, values in space.values.items()
        )

    return min(every, key=off)


def _changed(one: Configuration, other: Configuration) -> list[str]:
    return [name for name in LEVERS if getattr(one, name) != getattr(other, name)]


class Adaptive:
    """A start from which every law can be learned, then the trial that promises most a second.

    It ends when the regret that is expected of deciding now is below `regret`, or no trial promises
    to take away enough of it. `sample` is what a trial loads.
    """

    def __init__(
        self, space: Space, aim: Aim, sample: Volume, seed: int, regret: float = REGRET
    ) -> None:
        self.every = list(space.grid())
        self.aim, self.sample, self.seed, self.wanted = aim, sample, seed, regret
        self.start = starting_trials(space, sample)
        self.ended = ""

    def beforehand(self) -> list[PlannedTrial]:
        """See Strategy."""
        return self.start

    def thought(self, trials: Sequence[Trial]) -> tuple[Configuration, Outlook] | None:
        """See Strategy."""
        if sum(trial.tells for trial in trials) < LEAST_TRIALS:
            return None
        model = fit_model(trials)
        seed = self.seed + len(trials)
        outlook = look_ahead(model, self.every, self.aim, self.sample, DRAWS, seed)
        return self.every[outlook.best], outlook

    def most(self) -> int:
        """See Strategy."""
        return max(len(self.start) + LEAST_TRIALS, min(3 * len(self.every), 400))

    def following(self, trials: Sequence[Trial]) -> PlannedTrial | None:
        """See Strategy."""
        if len(trials) < len(self.start):
            return self.start[len(trials)]
        used = [trial for trial in trials if trial.counts]
        thought = self.thought(trials)
        reference = self.start[0].configuration
        if thought is None and len(trials) < len(self.start) + LEAST_TRIALS:
            # There are few configurations, or some of the first trials failed.
            return PlannedTrial(reference, self._repeat(reference, used), "trial")
        if thought is None or len(trials) >= self.most():
            self.ended = "too few trials succeeded" if thought is None else "enough tried"
            return None
        best, outlook = thought
        seed = self.seed + len(trials)
        if outlook.regret <= self.wanted:
            if self._is_doubtful(outlook, [t for t in used if t.configuration == best]):
                return PlannedTrial(best, self._repeat(best, used), "trial")
            self.ended = f"expected regret below {self.wanted * 100:.3g} %"
            return None
        since = next(
            (n for n, trial in enumerate(reversed(trials)) if trial.role == "reference"), 0
        )
        if since >= REFERENCE_EVERY:
            return PlannedTrial(reference, self._repeat(reference, used), "reference")
        place, promised = self._most_promising(outlook, used, seed)
        if promised < WORTHLESS * self.wanted:
            self.ended = "no trial promises to tell more"
            return None
        chosen = self.every[place]
        return PlannedTrial(chosen, self._repeat(chosen, used), "trial")

    def _is_doubtful(self, outlook: Outlook, own: Sequence[Trial]) -> bool:
        """Whether the best is to be tried before it is chosen: never seen, or other than thought.

        The laws may be wrong about it, or a single trial of it have been disturbed.
        """
        if not own:
            return True
        thought = float(sum(np.exp(shown[outlook.best]).mean() for shown in outlook.shown))
        seen = median(trial.seconds for trial in own)
        return abs(np.log(seen / thought)) > SURPRISE and len(own) < 3

    def _repeat(self, configuration: Configuration, used: Sequence[Trial]) -> int:
        return 1 + sum(trial.configuration == configuration for trial in used)

    def _most_promising(
        self, outlook: Outlook, used: Sequence[Trial], seed: int
    ) -> tuple[int, float]:
        """The configuration whose trial takes away the most expected regret a second.

        And how much at most any does, as a share of the least loss.
        """
        seconds = sum(np.exp(shown).mean(axis=1) for shown in outlook.shown)
        overhead = median(trial.seconds for trial in used) * 0.05
        # Those that may be the best, and others that may tell of them.
        means = outlook.losses.mean(axis=1)
        likely = np.argsort(means)[: CANDIDATES // 2]
        draw = np.random.default_rng(seed)
        others = draw.permutation(len(self.every))[: CANDIDATES // 2]
        candidates = np.unique(np.concatenate((likely, others))).tolist()
        worth = promises(outlook, candidates, WORLDS, seed)
        rates = np.maximum(worth, 0) / (np.asarray(seconds)[candidates] + overhead)
        least = float(outlook.losses.min(axis=0).mean())
        return int(candidates[int(rates.argmax())]), float(worth.max()) / max(least, 1e-12)


def starting_trials(space: Space, sample: Volume) -> list[PlannedTrial]:
    """A warm-up, the reference, and as few trials as show every lever's ends and every kind.

    Greedy: each next one shows the most that no earlier one did.
    """
    every = list(space.grid())
    middle = centre_of(space)
    shown: set[tuple[str, object]] = set()
    wanted = {fact for one in every for fact in _facts(one, space)}
    chosen = [middle]
    shown |= _facts(middle, space)
    while wanted - shown:
        # Of those that show as much, one unlike those before tells levers apart.
        following = max(
            every,
            key=lambda one: (
                len(_facts(one, space) - shown),
                min(len(_changed(one, other)) for other in chosen),
            ),
        )
        chosen.append(following)
        shown |= _facts(following, space)
    while len(chosen) < min(LEAST_TRIALS + 1, len(every)):
        chosen.append(
            max(every, key=lambda one: min(len(_changed(one, other)) for other in chosen))
        )
    planned = [PlannedTrial(middle, 0, "warm-up"), PlannedTrial(middle, 1, "reference")]
    planned += [PlannedTrial(one, 1, "trial") for one in chosen[1:]]
    # Of one volume alone it could not be told what is fixed and what grows with it.
    return planned + [PlannedTrial(one, 1, "small") for one in (middle, chosen[-1])]


def _facts(one: Configuration, space: Space) -> set[tuple[str, object]]:
    """What a trial of a configuration shows that laws must know: ends of numbers, and kinds."""
    facts: set[tuple[str, object]] = {(kind, value(one)) for kind, value in KINDS.items()}
    facts.add(("tier", one.tier))
    for name, values in space.values.items():
        if LEVERS[name].is_number and len(set(values)) > 1:
            ends = (min(values), max(values))
            if getattr(one, name) in ends:
                facts.add((name, getattr(one, name)))
    return facts
