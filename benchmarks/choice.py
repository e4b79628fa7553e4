"""Benchmarks of the decision: what strategies pick on simulated targets whose truth is known.

Each target has physics of its own, written apart from the model's laws. A strategy sees trials with
noise, outliers and drift; its pick is held against the best of the space by the physics alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from benchmarks.measure import Row
from splarn.core.prices import Prices
from splarn.core.tuning.configuration import Configuration, Space
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.laws import Volume
from splarn.core.tuning.plan import Limits
from splarn.core.tuning.posterior import Aim
from splarn.core.tuning.strategy import Adaptive, Strategy, grid, star
from splarn.core.tuning.trial import Trial
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

    def phases(self, c: Configuration, volume: Volume) -> dict[str, float]:
        """What each phase takes, without noise."""
        parts = max(math.ceil(volume.bytes / c.part_size), 1)
        sizes = [float(c.part_size)] * (parts - 1)
        sizes.append(volume.bytes - c.part_size * (parts - 1))
        codec, per_byte = str(c.packing), volume.rows / volume.bytes
        streams, workers = min(c.load_streams, parts), min(c.workers, parts)
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
            "load": list_schedule(loading, c.load_streams),
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


class Bench:
    """Trials on a simulated target, as a sweep would have them."""

    def __init__(self, physics: Physics, seed: int) -> None:
        self.physics = physics
        self.random = np.random.default_rng(seed)

    def sweep(self, strategy: Strategy) -> list[Trial]:
        """All trials that the strategy wants."""
        trials: list[Trial] = []
        while (plan := strategy.following(trials)) is not None:
            small = plan.role == "small"
            volume = Volume(SAMPLE.bytes / 4, SAMPLE.rows / 4) if small else SAMPLE
            moved = 1 + self.physics.drift * min(len(trials) / 100, 1)
            shared = self.random.normal(0, self.physics.noise)
            if self.random.random() < self.physics.outliers:
                shared += 0.5
            phases = {
                phase: seconds * moved * math.exp(shared + self.random.normal(0, 0.02))
                for phase, seconds in self.physics.phases(plan.configuration, volume).items()
            }
            parts = max(math.ceil(volume.bytes / plan.configuration.part_size), 1)
            trials.append(
                Trial(
                    plan.configuration, plan.repeat, plan.role, sum(phases.values()), phases,
                    int(volume.rows), int(volume.bytes), int(volume.bytes), parts,
                    "2031-01-01T00:00:00",
                )
            )  # fmt: skip
        return trials


def _seconds(physics: Physics, configuration: Configuration, volume: Volume) -> float:
    return sum(physics.phases(configuration, volume).values())


def strategies(seed: int) -> dict[str, Strategy]:
    """Each strategy anew."""
    aim = Aim(WHOLE, Limits(), Prices())
    return {
        "adaptive": Adaptive(SPACE, aim, SAMPLE, seed),
        "star": star(SPACE, 2, seed),
        "grid": grid(SPACE, 1, seed),
    }


def judged(physics: Physics, name: str, seed: int) -> tuple[float, float, int]:
    """How far a strategy's pick is from the best, its trials' share of the grid's time, trials."""
    every = list(SPACE.grid())
    truth = [_seconds(physics, one, WHOLE) for one in every]
    whole_grid = sum(_seconds(physics, one, SAMPLE) for one in every)
    trials = Bench(physics, seed).sweep(strategies(seed)[name])
    found = forecast(fit_model(trials), every, WHOLE, Prices())
    pick = min(range(len(every)), key=lambda place: found[place].seconds.median)
    spent = sum(trial.seconds for trial in trials)
    return truth[pick] / min(truth) - 1, spent / whole_grid, len(trials)


def choice(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints a line a target and strategy; how often the pick is within 2 % of the best."""
    seeds = range(max(round(10 * scale), 1))
    print("| target | strategy | within 2 % | median loss | worst | trials | of the grid's time |")
    print("|---|---|---|---|---|---|---|")
    good: dict[str, list[bool]] = {}
    # Fitting the grid's five hundred trials takes longer than choosing all the others'.
    names = ("adaptive", "star", "grid") if scale >= 1 else ("adaptive", "star")
    for target, physics in TARGETS.items():
        for name in names:
            found = [judged(physics, name, seed) for seed in seeds]
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


CHOICE: dict[str, Callable[[Path, int, float], list[Row]]] = {"choice": choice}
