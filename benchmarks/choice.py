"""Benchmarks of the decision: what strategies pick on simulated targets whose truth is known.

Each target has physics of its own, written apart from the model's laws. A strategy sees trials with
noise, outliers and drift; its pick is held against the best of the space by the physics alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import repeat
from multiprocessing import get_context
from pathlib import Path

import numpy as np

from benchmarks.measure import Row
from splarn.core.prices import Prices, Tier, reckon
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration, Space
from splarn.core.tuning.design import share_of
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.overlap import STAGES
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.posterior import PENALTY, Aim, look_ahead
from splarn.core.tuning.statistics import summarise
from splarn.core.tuning.strategy import Adaptive, Strategy, grid, star
from splarn.core.tuning.trial import Trial
from splarn.core.units import tier_units
from splarn.core.work.schedule import list_schedule

MIB = 1 << 20
SAMPLE, WHOLE = Volume(64e6, 640_000), Volume(4e9, 40_000_000)
SPACE = Space.of(
    {
        "part_size": [size * MIB for size in (2, 4, 8, 16, 32)],
        "packing": ["none", "zstd:1", "gzip:1"],
        "workers": [1, 2],
        "load_streams": [1, 2, 3, 4, 6, 8],
        "batch_rows": [5_000, 50_000, 0],
    }
)
# The same question of rented compute, whose sizes cost: the cheapest that keeps to a deadline.
TIERED = Space.of(
    {
        "part_size": [size * MIB for size in (4, 8, 16, 32)],
        "packing": ["none", "zstd:1"],
        "workers": [2],
        "load_streams": [1, 2, 4, 8, 16],
        "batch_rows": [5_000, 50_000, 0],
        "tier": ["u1", "u2", "u4", "u8"],
    }
)
SLOTS = 2
PRICES = Prices(
    machine_per_hour=1.0,
    tiers={f"u{units}": Tier(per_hour=4.0 * units) for units in (1, 2, 4, 8)},
)
# How much longer than the fastest a load may take where it is to be cheap.
PATIENCE = 1.6
RATIO = {"none": 1.0, "zstd:1": 0.27, "gzip:1": 0.31}
PACK = {"none": 900e6, "zstd:1": 160e6, "gzip:1": 110e6}
UNPACK = {"none": 4e9, "zstd:1": 700e6, "gzip:1": 350e6}


@dataclass(frozen=True)
class Physics:
    """How a simulated target behaves. Rates in bytes a second, times in seconds.

    `cap` is what all streams together can store, `line` what they can send; `locks` is how much
    each further stream slows all; `memory` slows batches of more rows than it.
    """

    row: float = 6e-6
    part: float = 0.03
    commit: float = 0.02
    queue: float = 0.002
    cap: float = math.inf
    line: float = math.inf
    locks: float = 0.02
    tangle: float = 0.0
    memory: float = math.inf
    finish: float = 4e-7
    cores: int = 8
    noise: float = 0.03
    outliers: float = 0.03
    drift: float = 0.0

    def phases(self, c: Configuration, volume: Volume, tiers: bool) -> dict[str, float]:
        """What each phase takes, without noise; with `tiers`, streams need slots of the compute."""
        parts = max(math.ceil(volume.bytes / c.part_size), 1)
        sizes = [float(c.part_size)] * (parts - 1)
        sizes.append(volume.bytes - c.part_size * (parts - 1))
        codec, per_byte = str(c.packing), volume.rows / volume.bytes
        slots = min(c.load_streams, tier_units(c.tier) * SLOTS) if tiers else c.load_streams
        streams, workers = min(slots, parts), min(c.workers, parts)
        shaping = [0.004 + s / PACK[codec] * (1 + 0.05 * (workers - 1)) for s in sizes]
        slow = 1 + self.locks * (streams - 1) + self.tangle * streams * (streams - 1)
        slow *= max(streams / self.cores, 1)
        loading = []
        for size in sizes:
            rows = size * per_byte
            batch = min(c.batch_rows or rows, rows)
            crowd = 1 + max(batch / self.memory - 1, 0) * 0.3
            work = (rows * self.row * crowd + size / UNPACK[codec]) * slow
            # What all share is divided among them.
            floor = max(size / self.cap, size * RATIO[codec] / self.line) * streams
            loading.append(
                self.part + max(work, floor) + math.ceil(rows / batch) * self.commit * slow
            )
        return {
            "shape": 0.02 + list_schedule(shaping, c.workers),
            "queue": 0.03 + self.queue * parts,
            "load": list_schedule(loading, slots),
            "finish": 0.02 + volume.rows * self.finish,
        }


TARGETS = {
    "scales well": Physics(locks=0.01),
    "contended": Physics(locks=0.35, tangle=0.01),
    "capped": Physics(row=4e-6, cap=55e6),
    "thin line": Physics(row=2e-6, line=18e6, commit=0.005),
    "dear commits": Physics(commit=0.25, locks=0.1),
    "many small costs": Physics(part=0.25, queue=0.03, row=3e-6),
    "little memory": Physics(memory=60_000, locks=0.15, commit=0.03),
    "two cores, noisy": Physics(cores=2, noise=0.08, drift=0.1),
}


# How much of what the other stages take is not hidden behind the slowest.
SHARED = 0.1


@dataclass(frozen=True)
class Question:
    """What is to be decided: how to load the whole fast, or cheaply by a deadline."""

    physics: Physics
    cheap: bool

    @property
    def space(self) -> Space:
        """What may be chosen."""
        return TIERED if self.cheap else SPACE

    def seconds(self, one: Configuration, volume: Volume) -> float:
        """What a trial takes in truth, its stages one after the other."""
        return sum(self.physics.phases(one, volume, self.cheap).values())

    def run_seconds(self, one: Configuration) -> float:
        """What a run of the whole takes in truth, its stages at work at the same time."""
        phases = self.physics.phases(one, WHOLE, self.cheap)
        stages = [phases[name] for name in STAGES if name in phases]
        hidden = (1 - SHARED) * (sum(stages) - max(stages))
        return sum(phases.values()) - hidden

    def cost(self, one: Configuration) -> float:
        """What the whole costs in truth."""
        phases = self.physics.phases(one, WHOLE, True)
        trial = Trial(one, 1, "trial", sum(phases.values()), phases, 0, 0, 0, 0, "")
        return reckon(PRICES, trial.usage).total

    def aim(self) -> Aim:
        """The same for a strategy."""
        if not self.cheap:
            return Aim(WHOLE, Limits(), Prices())
        fastest = min(self.run_seconds(one) for one in self.space.grid())
        return Aim(WHOLE, Limits(deadline=PATIENCE * fastest), PRICES)

    def losses(self) -> dict[Configuration, float]:
        """What each configuration is worth in truth: time, or cost and what lateness weighs."""
        every = list(self.space.grid())
        if not self.cheap:
            return {one: self.run_seconds(one) for one in every}
        deadline = self.aim().limits.deadline or math.inf
        late = {one: max(self.run_seconds(one) / deadline - 1, 0) for one in every}
        return {one: self.cost(one) * (1 + PENALTY * late[one]) for one in every}


class Bench:
    """Trials on a simulated target, as a sweep would have them."""

    def __init__(self, question: Question, seed: int) -> None:
        self.question = question
        self.random = np.random.default_rng(seed)

    def sweep(self, strategy: Strategy) -> list[Trial]:
        """All trials that the strategy wants."""
        trials: list[Trial] = []
        physics = self.question.physics
        while (plan := strategy.following(trials)) is not None:
            share = share_of(plan.role)
            volume = Volume(SAMPLE.bytes * share, SAMPLE.rows * share)
            moved = 1 + physics.drift * min(len(trials) / 100, 1)
            shared = self.random.normal(0, physics.noise)
            if self.random.random() < physics.outliers:
                shared += 0.5
            truth = physics.phases(plan.configuration, volume, self.question.cheap)
            phases = {
                phase: seconds * moved * math.exp(shared + self.random.normal(0, 0.02))
                for phase, seconds in truth.items()
            }
            parts = max(math.ceil(volume.bytes / plan.configuration.part_size), 1)
            packed = int(volume.bytes * RATIO[str(plan.configuration.packing)])
            trials.append(
                Trial(
                    plan.configuration, plan.repeat, plan.role, sum(phases.values()), phases,
                    int(volume.rows), int(volume.bytes), packed, parts,
                    "2031-01-01T00:00:00",
                )
            )  # fmt: skip
        return trials


def strategy_of(name: str, question: Question, seed: int) -> Strategy:
    """A strategy anew."""
    if name == "adaptive":
        return Adaptive(question.space, question.aim(), SAMPLE, seed)
    return star(question.space, 2, seed) if name == "star" else grid(question.space, 1, seed)


def judged(name: str, question: Question, seed: int) -> tuple[float, float, int]:
    """How far a strategy's pick is from the best, its trials' share of the grid's time, trials."""
    losses = question.losses()
    every = list(losses)
    whole_grid = sum(question.seconds(one, SAMPLE) for one in every)
    trials = Bench(question, seed).sweep(strategy_of(name, question, seed))
    outlook = look_ahead(fit_model(trials), every, question.aim(), 600, seed)
    spent = sum(trial.seconds for trial in trials)
    return losses[outlook.choice] / min(losses.values()) - 1, spent / whole_grid, len(trials)


def covered(question: Question, seed: int) -> float:
    """The share of configurations whose interval holds the truth, in a grid of three repeats."""
    small = Space({**SPACE.values, "part_size": SPACE.values["part_size"][1:3]})
    trials = Bench(question, seed).sweep(grid(small, 3, seed))
    found = summarise(trials)
    truth = {one: question.seconds(one, SAMPLE) for one in small.grid()}
    return float(np.mean([one.low <= truth[one.configuration] <= one.high for one in found]))


def choice(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints a line a target and strategy; how often the pick is within 2 % of the best."""
    return _choices(False, scale)


def deadline(folder: Path, repeats: int, scale: float) -> list[Row]:
    """The same of cost under a deadline, on compute of several sizes."""
    return _choices(True, scale)


def _choices(cheap: bool, scale: float) -> list[Row]:
    seeds = range(max(round(10 * scale), 1))
    print("| target | strategy | within 2 % | median loss | worst | trials | of the grid's time |")
    print("|---|---|---|---|---|---|---|")
    good: dict[str, list[bool]] = {}
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for target, physics in TARGETS.items():
            for name in ("adaptive", "star", "grid"):
                question = Question(physics, cheap)
                # A model of every configuration takes long to learn, and says the same each time.
                few = seeds[:2] if name == "grid" else seeds
                found = list(pool.map(judged, repeat(name), repeat(question), few))
                lost, share, count = (np.array(one) for one in zip(*found, strict=True))
                good.setdefault(name, []).extend((lost <= 0.02).tolist())
                print(
                    f"| {target} | {name} | {np.mean(lost <= 0.02):.0%} | {np.median(lost):.1%} | "
                    f"{lost.max():.0%} | {np.median(count):.0f} | {np.median(share):.0%} |",
                    flush=True,
                )
    for name, hits in good.items():
        print(f"| all | {name} | {np.mean(hits):.0%} | | | | |")
    return []


def intervals(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints how often 90 % intervals of medians hold the truth, over 200 simulated sweeps."""
    seeds = range(max(round(200 * scale) // len(TARGETS), 1))
    print("| target | sweeps | 90 % intervals that hold the truth |")
    print("|---|---|---|")
    every: list[float] = []
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for target, physics in TARGETS.items():
            shares = list(pool.map(covered, repeat(Question(physics, False)), seeds))
            every += shares
            print(f"| {target} | {len(shares)} | {np.mean(shares):.0%} |", flush=True)
    print(f"| all | {len(every)} | {np.mean(every):.0%} |")
    return []


CHOICE: dict[str, Callable[[Path, int, float], list[Row]]] = {
    "choice": choice,
    "deadline": deadline,
    "intervals": intervals,
}
