"""Which trial comes next: a grid, one lever at a time, or always the one that promises most."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from statistics import median
from typing import Protocol

import numpy as np

from splarn.core.tuning.columns import KINDS, Packed, Table, Volume, kind_of
from splarn.core.tuning.configuration import LEVERS, REGRET, Configuration, Space
from splarn.core.tuning.design import SHARES, PlannedTrial, design, share_of
from splarn.core.tuning.fit import LEAST_TRIALS, fit_model
from splarn.core.tuning.places import alike, kinds_of, places_of
from splarn.core.tuning.posterior import Aim, Outlook, look_ahead, promises
from splarn.core.tuning.trial import Trial

# Draws of the parameters, worlds in which a trial is imagined, candidates that are looked at.
DRAWS, WORLDS, CANDIDATES = 256, 40, 40
# A space of more configurations than this is looked at roughly first.
LARGE, ROUGH_DRAWS = 600, 60
# From so many times the sample on a larger one is worth having.
WORTH_LARGER = 1.5
# What making and emptying tables takes beside a trial, in shares of it.
OVERHEAD = 0.05
# A trial that promises to take away less than this share of the wanted regret is not worth it.
WORTHLESS = 0.1
# So many batches in a part show what a batch costs.
SHOWN = 2
# After so many trials no more are tried, whatever they may still promise.
ENOUGH = 64
# Parts that each stream is to have before a trial shows what many of them do.
WELL_FED = 2
# The chance that no other is better by more than the wanted regret, from which on one is chosen.
SURE = 0.9
# After so many trials the expected regret alone decides: on a noisy machine no more is to be had.
PATIENCE = 40
# So many of those within this of the best are tried before it is chosen.
PROBES, GOOD = 6, 1.25
# Configurations that have this much in common do the same.
THE_SAME = 0.999
# So many that may be the best are held against one another, each so often.
RIVALS, ROUNDS = 3, 3
# So many trials of one configuration are enough, whatever they show.
FEW = 3
# A trial that is off by more than this (in logs) is looked at again.
SURPRISE = 0.15
# Trials of the reference that show drift come after so many others.
REFERENCE_EVERY = 8


class Strategy(Protocol):
    """Chooses trials by what came of those before, and by a seed alone: so a sweep can go on."""

    ended: str
    most_streams: int

    def following(self, trials: Sequence[Trial]) -> PlannedTrial | None:
        """The next one; None where no more is wanted, and then `ended` says why."""

    def most(self) -> int:
        """How many trials there will be at most."""

    def beforehand(self) -> list[PlannedTrial]:
        """Those that do not depend on what others show."""

    def thought(self, trials: Sequence[Trial]) -> Outlook | None:
        """What these trials say of the decision, where that is looked at."""


def strategy_by(
    name: str,
    space: Space,
    aim: Aim,
    sample: Volume,
    repeats: int,
    seed: int,
    regret: float,
    packed: Mapping[str, Packed] | None = None,
) -> Strategy:
    """A strategy by its name; `packed` is what packings were measured to do."""
    if name == "grid":
        return grid(space, repeats, seed)
    if name == "star":
        return star(space, repeats, seed)
    return Adaptive(space, aim, sample, seed, regret, packed)


class Listed:
    """Trials that are known beforehand: the grid, or the star."""

    def __init__(self, planned: Sequence[PlannedTrial], ended: str) -> None:
        self.planned, self.ended = list(planned), ended
        self.most_streams = max(one.configuration.load_streams for one in self.planned)

    def following(self, trials: Sequence[Trial]) -> PlannedTrial | None:
        """See Strategy."""
        return self.planned[len(trials)] if len(trials) < len(self.planned) else None

    def most(self) -> int:
        """See Strategy."""
        return len(self.planned)

    def beforehand(self) -> list[PlannedTrial]:
        """See Strategy."""
        return self.planned

    def thought(self, trials: Sequence[Trial]) -> Outlook | None:
        """See Strategy."""
        return None


def grid(space: Space, repeats: int, seed: int) -> Listed:
    """Every configuration of the space, in shuffled blocks, and a few of less than the sample."""
    planned = design(space, repeats, seed)
    tried = list(dict.fromkeys(one.configuration for one in planned))
    if len(tried) >= LEAST_TRIALS:
        # Of one volume alone it could not be told what is fixed and what grows with it.
        planned += [PlannedTrial(one, 1, "small") for one in (tried[0], tried[-1])]
    return Listed(planned, "grid finished")


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


def largest(sample: Volume, whole: Volume) -> Volume:
    """The most that a trial of an adaptive sweep loads: several times the sample, or all."""
    share = min(SHARES["large"], max(whole.bytes / max(sample.bytes, 1), 1.0))
    return Volume(sample.bytes * share, sample.rows * share)


class Adaptive:
    """A start from which every law can be learned, then the trial that promises most a second.

    It ends when the regret that is expected of deciding now is below `regret`, or no trial promises
    to take away enough of it. `sample` is what a trial loads; four times as much where that tells
    more for what it takes.
    """

    def __init__(
        self,
        space: Space,
        aim: Aim,
        sample: Volume,
        seed: int,
        regret: float = REGRET,
        packed: Mapping[str, Packed] | None = None,
    ) -> None:
        self.packed = packed
        self.every = list(space.grid())
        self.aim, self.sample, self.seed, self.wanted = aim, sample, seed, regret
        self.start = starting_trials(space, sample)
        self.volumes = {"trial": sample}
        most = largest(sample, aim.volume)
        if most.bytes >= WORTH_LARGER * sample.bytes:
            self.volumes["large"] = most
        self.ended = ""
        self.most_streams = max(one.load_streams for one in self.every)
        # The last look, and the trials it was of.
        self._last: tuple[tuple[int, Trial], Outlook] | None = None

    def beforehand(self) -> list[PlannedTrial]:
        """See Strategy."""
        return self.start

    def thought(self, trials: Sequence[Trial]) -> Outlook | None:
        """See Strategy."""
        if sum(trial.tells for trial in trials) < LEAST_TRIALS:
            return None
        if self._last is not None and self._last[0] == (len(trials), trials[-1]):
            return self._last[1]
        model = fit_model(trials, self.packed)
        seed = self.seed + len(trials)
        every: Sequence[Configuration] = self.every
        if len(every) > LARGE:
            # Few draws show which of very many may be the best at all.
            rough = look_ahead(model, every, self.aim, ROUGH_DRAWS, seed).losses
            likely = np.argsort(rough.mean(axis=1))[:LARGE]
            every = [self.every[place] for place in np.union1d(likely, rough.argmin(axis=0))]
        outlook = look_ahead(model, every, self.aim, DRAWS, seed)
        self._last = (len(trials), trials[-1]), outlook
        return outlook

    def most(self) -> int:
        """See Strategy."""
        return max(len(self.start) + LEAST_TRIALS, min(3 * len(self.every), ENOUGH))

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
        doubt = self._confirmation(thought, trials)
        sure = thought.chance(self.wanted) >= SURE or len(trials) >= PATIENCE
        if thought.regret <= self.wanted and sure:
            self.ended = "" if doubt else f"expected regret below {self.wanted * 100:.3g} %"
            return doubt
        since = next(
            (n for n, trial in enumerate(reversed(trials)) if trial.role == "reference"), 0
        )
        if since >= REFERENCE_EVERY:
            return PlannedTrial(reference, self._repeat(reference, used), "reference")
        chosen, role, promised = self._most_promising(thought, used, self.seed + len(trials))
        if promised < WORTHLESS * self.wanted:
            following = doubt or self._duel(thought, trials)
            self.ended = "" if following else "no trial promises to tell more"
            return following
        return self._planned(chosen, role, trials)

    def _planned(
        self, configuration: Configuration, role: str, trials: Sequence[Trial]
    ) -> PlannedTrial:
        as_large = [one for one in trials if one.tells and one.share == share_of(role)]
        return PlannedTrial(configuration, self._repeat(configuration, as_large), role)

    def _confirmation(self, outlook: Outlook, trials: Sequence[Trial]) -> PlannedTrial | None:
        """A trial to be had before the best is chosen; None once nothing is in doubt.

        The laws may be wrong where it matters: so several of those that are thought to be good are
        tried, as unlike one another as can be, and the best itself, again where it is other than
        thought, since a single trial may have been disturbed.
        """
        tried = self._well_tried(trials)
        means = outlook.losses.mean(axis=1)
        good = np.flatnonzero(means <= GOOD * means.min()).tolist()
        best = outlook.choice
        if best not in tried:
            return self._planned(best, self._role_for(best), trials)
        new = [place for place in good if outlook.configurations[place] not in tried]
        if len(good) - len(new) < PROBES and new:
            chosen = self._unlike(outlook, new, trials)
            if chosen is not None:
                return self._planned(chosen, self._role_for(chosen), trials)
        role = self._role_for(best)
        own = tried.get(best, [])
        thought = float(outlook.shows([outlook.best], self.volumes[role]).seconds[0])
        sure = own and (abs(np.log(median(own) / thought)) <= SURPRISE or len(own) >= FEW)
        return None if sure else self._planned(best, role, trials)

    def _duel(self, outlook: Outlook, trials: Sequence[Trial]) -> PlannedTrial | None:
        """A trial of the few that may be the best, of that which was tried least; None once all
        were tried enough.

        A single trial may tell too little to change a decision which several would change: so the
        likeliest ones are held against one another (top-two sampling; Russo 2016).
        """
        times_best = np.bincount(outlook.losses.argmin(axis=0), minlength=len(outlook.losses))
        rivals = [outlook.best, *np.argsort(-times_best)[:RIVALS].tolist()]
        tried = self._well_tried(trials)
        among = [outlook.configurations[place] for place in rivals]
        chosen = min(among, key=lambda one: len(tried.get(one, ())))
        if len(tried.get(chosen, ())) >= ROUNDS:
            return None
        return self._planned(chosen, self._role_for(chosen), trials)

    def _well_tried(self, trials: Sequence[Trial]) -> dict[Configuration, list[float]]:
        """Seconds of the trials that show what their configurations do, by these."""
        tried: dict[Configuration, list[float]] = {}
        for trial in trials:
            if trial.tells and trial.share >= share_of(self._role_for(trial.configuration)):
                tried.setdefault(trial.configuration, []).append(trial.seconds)
        return tried

    def _role_for(self, configuration: Configuration) -> str:
        """Of what volume a trial shows what a configuration does: with work for all its streams."""
        crew = max(configuration.load_streams, configuration.workers)
        few = self.sample.bytes < WELL_FED * crew * configuration.part_size
        return "large" if few and "large" in self.volumes else "trial"

    def _unlike(
        self, outlook: Outlook, places: Sequence[int], trials: Sequence[Trial]
    ) -> Configuration | None:
        """The configuration at one of the places that is farthest from all that was tried.

        None where all of them do the same as one that was tried.
        """
        told = [trial for trial in trials if trial.tells]
        among = [outlook.configurations[place] for place in places]
        tried, few = Table.of([trial.configuration for trial in told]), Table.of(among)
        kinds = kinds_of(tried, few)
        volumes = [Volume(trial.bytes, trial.rows) for trial in told]
        there = places_of(tried, volumes, kinds, which=np.arange(len(told)))
        whole = [self.volumes[self._role_for(one)] for one in among]
        here = places_of(few, whole, kinds, which=np.arange(len(among)))
        near = alike(here, there).max(axis=1)
        return among[int(near.argmin())] if near.min() < THE_SAME else None

    def _repeat(self, configuration: Configuration, used: Sequence[Trial]) -> int:
        return 1 + sum(trial.configuration == configuration for trial in used)

    def _most_promising(
        self, outlook: Outlook, used: Sequence[Trial], seed: int
    ) -> tuple[Configuration, str, float]:
        """The configuration, and the role, of the trial that tells the most for what it takes.

        That is how much expected regret it takes away; the last figure is how much at most any
        does, as a share of the least loss. What a trial takes is its seconds, and where it has a
        cost that as well, each in shares of what trials usually take.
        """
        # Those that may be the best, and others that may tell of them.
        means = outlook.losses.mean(axis=1)
        likely = np.argsort(means)[: CANDIDATES // 2]
        draw = np.random.default_rng(seed)
        others = draw.permutation(len(means))[: CANDIDATES // 2]
        candidates = np.unique(np.concatenate((likely, others))).tolist()
        usual = median(trial.seconds for trial in used)
        dear = 0.0
        found: list[tuple[float, Configuration, str]] = []
        most = 0.0
        for role, volume in self.volumes.items():
            shown = outlook.shows(candidates, volume)
            worth = promises(outlook, shown, WORLDS, seed)
            takes = shown.seconds / usual + OVERHEAD
            dear = dear or float(np.median(shown.cost))
            if dear:
                takes = takes + shown.cost / dear
            rates = np.maximum(worth, 0) / takes
            place = int(rates.argmax())
            found.append((float(rates[place]), outlook.configurations[candidates[place]], role))
            most = max(most, float(worth.max()))
        least = float(outlook.losses.min(axis=0).mean())
        _, chosen, role = max(found, key=lambda one: one[0])
        return chosen, role, most / max(least, 1e-12)


def starting_trials(space: Space, sample: Volume) -> list[PlannedTrial]:
    """A warm-up, the reference, and as few trials as show every lever's ends and every kind.

    Of a lever counts what a trial of the sample can show: a batch as large as a part shows nothing.

    Greedy: each next one shows the most that no earlier one did.
    """
    every = list(space.grid())
    middle = centre_of(space)
    shown: set[tuple[str, object]] = set()
    wanted = {fact for one in every for fact in _facts(one, space, sample)}
    chosen = [middle]
    shown |= _facts(middle, space, sample)
    while wanted - shown:
        # Of those that show as much, one unlike those before tells levers apart.
        following = max(
            every,
            key=lambda one: (
                len(_facts(one, space, sample) - shown),
                min(len(_changed(one, other)) for other in chosen),
            ),
        )
        chosen.append(following)
        shown |= _facts(following, space, sample)
    while len(chosen) < min(LEAST_TRIALS + 1, len(every)):
        chosen.append(
            max(every, key=lambda one: min(len(_changed(one, other)) for other in chosen))
        )
    planned = [PlannedTrial(middle, 0, "warm-up"), PlannedTrial(middle, 1, "reference")]
    planned += [PlannedTrial(one, 1, "trial") for one in chosen[1:]]
    # Of one volume alone it could not be told what is fixed and what grows with it.
    return planned + [PlannedTrial(one, 1, "small") for one in (middle, chosen[-1])]


def _facts(one: Configuration, space: Space, sample: Volume) -> set[tuple[str, object]]:
    """What a trial of a configuration shows that laws must know: ends of numbers, and kinds."""
    facts: set[tuple[str, object]] = {(kind, kind_of(kind, one)) for kind in KINDS}
    facts.add(("tier", one.tier))
    for name, values in space.values.items():
        if LEVERS[name].is_number and len(set(values)) > 1:
            ends = (min(values), max(values))
            rows = one.part_size * sample.rows / max(sample.bytes, 1)
            hidden = name == "batch_rows" and one.batch_rows * SHOWN > rows
            if getattr(one, name) in ends and not hidden:
                facts.add((name, getattr(one, name)))
    return facts
