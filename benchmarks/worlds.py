"""Simulated worlds whose truth is known: a machine, a line and an engine with physics of its own.

The engine is Millrace's clock, which works part by part and knows nothing of the model's laws; each
world has another one, and some have what no law of the model says.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from splarn.core.prices import Prices, Stretch, Tier
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Space
from splarn.core.tuning.design import PlannedTrial, share_of
from splarn.core.tuning.trial import Trial
from splarn.core.units import tier_units
from splarn.core.work.schedule import list_schedule
from splarn.standin.millrace.clock import SimulatedCompute, Work
from splarn.standin.millrace.physics import EnginePhysics

MIB = 1 << 20
ROW = 110.0
# What the codecs make of the data, and how fast one worker packs it, bytes a second.
SHARE = {"none": 1.0, "zstd:1": 0.24, "gzip:1": 0.29, "zstd:9": 0.19}
PACK = {"none": 700e6, "zstd:1": 170e6, "gzip:1": 95e6, "zstd:9": 28e6}
UNPACK = {"none": 0.0, "zstd:1": 600e6, "gzip:1": 330e6, "zstd:9": 620e6}
SPACE = Space.of(
    {
        "part_size": [size * MIB for size in (4, 8, 16, 32, 64)],
        "packing": list(SHARE),
        "workers": [1, 2],
        "load_streams": [1, 2, 4, 8, 16],
        "batch_rows": [0, 50_000],
        "tier": ["u1", "u2", "u3", "u5"],
    }
)
# What a grid tries of it: no other codecs than two, and nothing between the ends.
SMALL = Space.of(
    {
        "part_size": [4 * MIB, 16 * MIB],
        "packing": ["none", "zstd:1"],
        "workers": [2],
        "load_streams": [2, 8],
        "batch_rows": [0, 50_000],
        "tier": ["u1", "u3"],
    }
)
# Twelve months of unlike size.
MONTHS = tuple(int(95e6 * (1 + 0.35 * math.sin(month * 1.7))) for month in range(12))
WHOLE = Volume(sum(MONTHS), sum(MONTHS) / ROW, files=MONTHS)
SAMPLE = Volume(WHOLE.bytes / 20, WHOLE.rows / 20)
PRICES = Prices(
    machine_per_hour=0.6,
    thousand_requests=0.01,
    gb_moved=0.02,
    tb_scanned=1.5,
    tiers={
        f"u{units}": Tier(per_hour=3.0 * units, billing_step=1, minimum=20, minimum_on="size")
        for units in (1, 2, 3, 5)
    },
)


@dataclass(frozen=True)
class World:
    """A machine that shapes, a line, and an engine. Speeds in MB/s, times in seconds.

    `sending` is the line of one stream and `line` that of all; `day` is by how much whole runs
    differ from one another for no reason, a spread of logs. `odd` changes a part's work in a way
    that no law has, from its number, its unpacked bytes and the parts at work.
    """

    engine: EnginePhysics = field(default_factory=EnginePhysics)
    sending: float = 60.0
    line: float = 200.0
    round_trip: float = 0.01
    cutting: float = 0.004
    mixing: float = 0.06
    day: float = 0.01
    odd: Callable[[int, float, int], float] | None = None


def _cliff(number: int, size: float, at_once: int) -> float:
    return 2.2 if at_once > 6 else 1.0


def _humps(number: int, size: float, at_once: int) -> float:
    return 1.0 if number * 7 % 10 < 6 else 2.1


def _swells(number: int, size: float, at_once: int) -> float:
    return (size / 8e6) ** 0.35


WORLDS = {
    "as it comes": World(),
    "slow line into the engine": World(EnginePhysics(pull=6.0, contention=0.002, noise=0.03)),
    "contended": World(EnginePhysics(contention=0.06, coherency=0.002, noise=0.05)),
    "dear parts": World(EnginePhysics(overhead=2.5, admission=1.5, parse={"csv": 30.0})),
    "dear commits": World(EnginePhysics(commit=0.6, slots_per_unit=4)),
    "slow to unpack": World(EnginePhysics(unpack={"zstd": 25.0, "gzip": 18.0}, pull=0.0)),
    "stragglers": World(EnginePhysics(straggler_share=0.04, straggler_factor=2.5, noise=0.05)),
    "readers beside it": World(EnginePhysics(readers=0.35, readers_period=7.0)),
    "thin line of ours": World(sending=9.0, line=16.0, round_trip=0.15),
}
# What no law of the model knows.
BROKEN = {
    "a cliff": World(EnginePhysics(contention=0.004), odd=_cliff),
    "two humps": World(odd=_humps),
    "parts that swell": World(odd=_swells),
}


class Worldly:
    """Loads in one world, by chance of a seed; the target's clock goes on from one to the next."""

    def __init__(self, world: World, seed: int) -> None:
        self.world, self.seed = world, seed
        self.random = np.random.default_rng(seed)
        self.loads = 0

    def sweep(self, following: Callable[[Sequence[Trial]], PlannedTrial | None]) -> list[Trial]:
        """All trials that are wanted."""
        trials: list[Trial] = []
        while (plan := following(trials)) is not None:
            share = share_of(plan.role)
            volume = Volume(SAMPLE.bytes * share, SAMPLE.rows * share)
            trials.append(self.load(plan, volume, [volume.bytes]))
        return trials

    def load(self, plan: PlannedTrial, volume: Volume, files: Sequence[float]) -> Trial:
        """One load, as it would be measured."""
        one = plan.configuration
        world, physics, codec = self.world, self.world.engine, str(one.packing)
        sizes = _parts(files, one.part_size)
        day = math.exp(self.random.normal(0, world.day))

        def chance(spread: float = 0.02) -> float:
            return day * math.exp(self.random.normal(0, spread))

        at_work = min(one.workers, len(sizes))
        mixed = 1 + world.mixing * (at_work - 1)
        shaping = [world.cutting + size / PACK[codec] * mixed for size in sizes]
        packed = [size * SHARE[codec] for size in sizes]
        senders = min(one.load_streams, len(sizes))
        slowest = max(1 / world.sending, senders / world.line)
        shipping = [world.round_trip + size / 1e6 * slowest for size in packed]
        compute = SimulatedCompute(physics)
        compute.running = True
        compute.advance(float(self.random.uniform(0, physics.readers_period)))
        slots = physics.slots(one.tier)
        resting = one.tier == physics.tier
        if not resting:
            compute.resize(one.tier)
        streams = min(one.load_streams, slots, len(sizes))
        work = []
        for number, (size, small) in enumerate(zip(sizes, packed, strict=True)):
            rows = size / ROW
            seconds = size / 1e6 / physics.parse["csv"]
            seconds += small / 1e6 / physics.pull if physics.pull else 0.0
            seconds += size / UNPACK[codec] * _slower(physics, codec) if UNPACK[codec] else 0.0
            seconds *= math.exp(self.random.normal(0, physics.noise)) * day
            if self.random.random() < physics.straggler_share:
                seconds *= physics.straggler_factor
            if world.odd is not None:
                seconds *= world.odd(number, size, streams)
            batches = math.ceil(rows / one.batch_rows) if one.batch_rows else 1
            work.append(Work(physics.overhead, seconds + batches * physics.commit * day))
        admission = physics.admission * chance()
        times = compute.schedule(work, one.load_streams, admission)
        begun, ended = min(t.begun for t in times), max(t.ended for t in times)
        # What proves the load is read by the compute as it is at rest.
        finishing = volume.rows / (physics.scan * 1e6 * tier_units(physics.tier))
        phases = {
            "shape": (0.02 + list_schedule(shaping, one.workers)) * chance(),
            "ship": list_schedule(shipping, senders) * chance(),
            "size": 0.0 if resting else 2 * physics.resize * chance(),
            "queue": begun - times[0].waiting + 0.05 * chance(0.1),
            "load": ended - begun,
            "finish": (0.15 + finishing) * chance(0.05),
        }
        busy = sum(phases[name] for name in ("ship", "size", "queue", "load"))
        last = Stretch(physics.tier, phases["finish"], starts=False)
        stretches = [Stretch(one.tier, busy, starts=not resting), last]
        self.loads += 1
        return Trial(
            one, plan.repeat, plan.role, sum(phases.values()), phases, int(volume.rows),
            int(volume.bytes), int(sum(packed)), len(sizes), "2031-07-01T00:00:00",
            compute=tuple(stretches), moved=int(sum(packed)),
            scanned=int(volume.bytes), part_seconds=tuple(t.ended - t.begun for t in times),
            part_bytes=tuple(map(int, sizes)),
        )  # fmt: skip


def _slower(physics: EnginePhysics, codec: str) -> float:
    """How many times as slowly the engine unpacks as this machine."""
    speed = physics.unpack[codec.partition(":")[0]]
    return UNPACK[codec] / 1e6 / speed if speed else 0.0


def _parts(files: Sequence[float], size: int) -> list[float]:
    """Unpacked sizes of parts: each file in pieces, what is left of each a part of its own."""
    parts: list[float] = []
    for file in files:
        whole, rest = divmod(file, size)
        parts += [float(size)] * int(whole) + ([float(rest)] if rest >= 1 else [])
    return parts
