"""A plan for ten terabytes over sixteen machines, in simulated worlds whose truth is known.

Parts go through workers one by one, each as fast as its own pace allows and its machine's line,
the store or the target, which those at work share evenly; between two parts a worker waits as on a
real cluster. Trials are of a few gigabytes on up to four machines.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from benchmarks.measure import Row
from splarn.core.prices import Prices
from splarn.core.source.codecs import Packing
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.explain import held_up
from splarn.core.tuning.fit import fit_model
from splarn.core.tuning.forecast import forecast
from splarn.core.tuning.model import Model
from splarn.core.tuning.trial import Trial

MB, GB, TB = 1e6, 1e9, 1e12
ROW = 110.0
SAMPLE, WHOLE = 3 * GB, 10 * TB
TRIED, ASKED = (1, 2, 4), (1, 2, 4, 8, 16)
PRICES = Prices(machine_per_hour=0.4)
# Threads of each machine.
THREADS = 2
PACE = "the workers' own pace"


@dataclass(frozen=True)
class Far:
    """A cluster, a store and a target. Speeds in MB/s; `cutting` and `feeding` are seconds a MB of
    one worker, `waits` seconds of a worker between two parts. `breaks` is what holds up sixteen
    machines.
    """

    cutting: float = 0.008
    feeding: float = 0.02
    line: float = 1e9
    store: float = 1e9
    target: float = 1e9
    waits: float = 0.02
    breaks: str = ""


WORLDS = {
    "nothing shared": Far(breaks=PACE),
    "thin lines of machines": Far(line=60.0, breaks="each machine's own line"),
    "a target for six streams": Far(target=300.0, breaks="what all streams share"),
    "a store for three machines": Far(
        cutting=0.004, store=700.0, breaks="the line that the store has for all"
    ),
}


def flowing(
    sizes: Sequence[float], workers: int, machines: int, cost: float, line: float, shared: float,
    waits: float,
) -> tuple[float, list[float]]:  # fmt: skip
    """Seconds until all parts are through, and what each took; sizes in MB."""
    at = np.arange(workers) % machines
    left = np.zeros(workers)
    rests = np.zeros(workers)
    begun = np.zeros(workers)
    took: list[float] = []
    queue = list(sizes)[::-1]
    now = 0.0
    for worker in range(min(workers, len(queue))):
        left[worker] = queue.pop()
    while True:
        busy = left > 0
        if not busy.any() and not (rests > 0).any():
            return now, took
        near = np.bincount(at[busy], minlength=machines)
        with np.errstate(divide="ignore"):
            rate = np.minimum(1 / cost, line / near[at])
            rate = np.where(busy, np.minimum(rate, shared / max(busy.sum(), 1)), 0.0)
        step = min(
            (left[busy] / rate[busy]).min() if busy.any() else math.inf,
            rests[rests > 0].min() if (rests > 0).any() else math.inf,
        )
        now += step
        left = np.where(busy, left - rate * step, left)
        resting = rests > 0
        rests = np.where(resting, rests - step, rests)
        for worker in np.flatnonzero(busy & (left <= 1e-9)):
            left[worker] = 0.0
            took.append(now - begun[worker])
            rests[worker] = waits if queue else 0.0
        for worker in np.flatnonzero(resting & (rests <= 1e-12)):
            rests[worker] = 0.0
            if queue:
                left[worker], begun[worker] = queue.pop(), now


def load(world: Far, one: Configuration, size: float, random: np.random.Generator) -> Trial:
    """One load, as it would be measured."""
    whole, rest = divmod(size, one.part_size)
    sizes = [one.part_size / MB] * int(whole) + ([rest / MB] if rest >= 1 else [])

    def chance() -> float:
        return math.exp(random.normal(0, 0.02))

    shape, _ = flowing(sizes, one.workers, one.machines, world.cutting, world.line, world.store,
                       world.waits)  # fmt: skip
    through, each = flowing(sizes, one.load_streams, one.machines, world.feeding, world.line,
                            world.target, world.waits)  # fmt: skip
    rows = size / ROW
    phases = {
        "shape": (0.05 + shape) * chance(),
        "queue": (0.05 + 0.0005 * len(sizes)) * chance(),
        "load": through * chance(),
        "finish": (0.1 + rows * 2e-8) * chance(),
    }
    return Trial(
        one, 1, "trial", sum(phases.values()), phases, int(rows), int(size), int(size),
        len(sizes), "2031-07-01T00:00:00", part_seconds=tuple(each),
        part_bytes=tuple(int(one * MB) for one in sizes),
    )  # fmt: skip


def configured(machines: int, part: int = 64, threads: int = THREADS) -> Configuration:
    """All threads of so many machines, with parts of so many MB."""
    count = machines * threads
    return Configuration(
        part_size=int(part * MB), packing=Packing(), workers=count, load_streams=count,
        batch_rows=0, machines=machines,
    )  # fmt: skip


def learnt(world: Far, seed: int) -> Model:
    """What trials on up to four machines tell."""
    random = np.random.default_rng(seed)
    trials = [
        load(world, configured(machines, part, threads), SAMPLE, random)
        for _ in range(2)
        for machines in TRIED
        for part in (32, 128)
        for threads in (1, THREADS)
    ]
    return fit_model(trials)


def far(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Prints what is forecast for ten terabytes on more and more machines, and what it takes."""
    volume = Volume(WHOLE * scale, WHOLE * scale / ROW)
    inside = asked = 0
    for name, world in WORLDS.items():
        model = learnt(world, 1)
        told = forecast(model, [configured(one) for one in ASKED], volume, PRICES)
        print(f"{name}:", file=sys.stderr)
        for one in told:
            machines = one.configuration.machines
            truth = load(world, one.configuration, volume.bytes, np.random.default_rng(7)).seconds
            span, asked = one.in_turn, asked + 1
            inside += span.low <= truth <= span.high
            print(
                f"  {machines:>2} machines: {span.median / 3600:.2f} h ({span.low / 3600:.2f} to "
                f"{span.high / 3600:.2f}), truth {truth / 3600:.2f} h, {one.cost.median:,.0f} EUR; "
                f"held up by {held_up(model, one.configuration, volume) or PACE}",
                file=sys.stderr,
            )
        print(f"  in truth, sixteen are held up by: {world.breaks}", file=sys.stderr)
    print(f"{inside} of {asked} within the 90 % interval.", file=sys.stderr)
    return []
