"""The physics of Millrace: what its clock says that work takes, on a compute of a size."""

from __future__ import annotations

import random
from dataclasses import dataclass, field, fields
from typing import Any

from splarn.core.errors import RequestError

SIZES = (1, 2, 3, 5, 8, 12, 20, 32)
FORMATS = ("csv", "jsonl", "parquet")
CODECS = ("none", "gzip", "zstd", "lz4")


def _parse() -> dict[str, float]:
    return {"csv": 12.0, "jsonl": 7.0, "parquet": 40.0}


def _unpack() -> dict[str, float]:
    return {"none": 0.0, "gzip": 90.0, "zstd": 300.0, "lz4": 500.0}


@dataclass(frozen=True)
class EnginePhysics:
    """Times in seconds of its own clock, speeds in MB/s of one slot, 0 for no limit.

    A unit has `slots_per_unit` slots, each of which works on one part at a time. The first work
    after `idle_after` seconds without any waits for `start_up`; a new tier is ready after `resize`.
    A load is let in after about `admission`. A part takes its `overhead`, its packed bytes over
    `pull`, its unpacked ones over `unpack` of its codec and `parse` of its format, and `commit` for
    each batch. With n parts at work all but the overhead takes 1 + contention (n - 1) + coherency
    n (n - 1) times as long (Gunther 1993). People who read meanwhile take `readers` (a share) of
    the speed in the first `readers_busy` (a share) of every `readers_period`. Each part's work
    varies by a log-normal factor of spread `noise`; a `straggler_share` of the parts takes
    `straggler_factor` times as long. `scan` is million rows a second and unit that are read to
    prove a table. `failure_share` is the chance that a part fails for no reason that a repeat would
    meet again. The same `seed` gives the same luck.
    """

    tiers: tuple[str, ...] = tuple(f"u{size}" for size in SIZES)
    tier: str = "u1"
    slots_per_unit: int = 2
    start_up: float = 4.0
    idle_after: float = 120.0
    resize: float = 2.0
    admission: float = 0.4
    overhead: float = 0.6
    pull: float = 60.0
    unpack: dict[str, float] = field(default_factory=_unpack)
    parse: dict[str, float] = field(default_factory=_parse)
    commit: float = 0.05
    contention: float = 0.012
    coherency: float = 0.00015
    readers: float = 0.0
    readers_period: float = 60.0
    readers_busy: float = 0.5
    noise: float = 0.04
    straggler_share: float = 0.0
    straggler_factor: float = 3.0
    scan: float = 8.0
    failure_share: float = 0.0
    seed: int = 1

    def __post_init__(self) -> None:
        object.__setattr__(self, "tiers", tuple(self.tiers))
        for name, known, default in (("unpack", CODECS, _unpack()), ("parse", FORMATS, _parse())):
            given = getattr(self, name)
            unknown = sorted(set(given) - set(known))
            if unknown:
                raise RequestError(f"{name}.{unknown[0]} is not known: use {', '.join(known)}.")
            object.__setattr__(self, name, {**default, **given})
        for one in fields(self):
            self._check(one.name, getattr(self, one.name))
        if self.tier not in self.tiers:
            raise RequestError(f"The tier {self.tier!r} is none of {', '.join(self.tiers)}.")
        if self.readers >= 1:
            raise RequestError("readers must stay below 1, or no part would ever end.")

    def _check(self, name: str, value: Any) -> None:
        if isinstance(value, dict):
            for key, one in value.items():
                self._check(f"{name}.{key}", one)
        elif name == "tiers":
            for tier in value:
                units_of(tier)
        elif not isinstance(value, str):
            least = 1 if name in ("slots_per_unit", "straggler_factor") else 0
            most = 1 if name.endswith(("_share", "_busy")) else None
            if value < least or (most is not None and value > most):
                raise RequestError(
                    f"{name} cannot be {value}: give {least} or more"
                    f"{f', at most {most}' if most else ''}."
                )

    def slots(self, tier: str) -> int:
        """Parts that a tier works on at once."""
        return units_of(tier) * self.slots_per_unit

    def work(self, packed: int, unpacked: int, codec: str, layout_format: str) -> float:
        """Seconds of one part's work when it is alone, without overhead and commits."""
        return (
            _over(packed, self.pull)
            + _over(unpacked, self.unpack[codec])
            + _over(unpacked, self.parse[layout_format])
        )

    def luck(self, load: int, part: int) -> random.Random:
        """The luck of one part of one load, whatever else happens."""
        return random.Random(f"{self.seed}/{load}/{part}")

    def factor(self, luck: random.Random) -> float:
        """How many times as long a part's work takes by chance."""
        varied = luck.lognormvariate(0, self.noise)
        return varied * (self.straggler_factor if luck.random() < self.straggler_share else 1)


def units_of(tier: str) -> int:
    """The units in a tier's name. Raises RequestError when it has none."""
    digits = tier.removeprefix("u")
    if tier[:1] != "u" or not digits.isdigit() or not int(digits):
        raise RequestError(
            f"The tier {tier!r} is not known: tiers are named u1, u2, u3, u5 and so on."
        )
    return int(digits)


def _over(size: int, speed: float) -> float:
    return size / 1e6 / speed if speed else 0.0
