"""Parts over slots: into what parts a source is cut, and how long the slowest lane of them is.

Parts are no two alike: files leave remainders, and each takes its own time by chance. So lanes are
worked through part by part, several times with other luck; what comes out are the parts and bytes
of the lane that ends last, which a law multiplies with what a part and a byte cost.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

# Luck is drawn so many times.
CHANCES = 12
# From so many parts a lane on, what each takes averages out and lanes end within half a part.
MANY = 64
# What a part takes beside its bytes, as a share of the usual one's, where lanes are filled.
FIXED = 0.1
# Parts that take so many spreads longer than usual are stragglers.
FAR = 4.0
# Where more than this share is late, parts are of two kinds.
MIXED = 0.12
# Spreads, shares and factors are told apart no further than this, so that lanes can be kept.
SPREADS = (0.0, 0.02, 0.04, 0.06, 0.09, 0.13, 0.2, 0.3, 0.45, 0.7)
SHARES = (0.0, 0.01, 0.02, 0.04, 0.07, 0.12, 0.2, 0.35)
FACTORS = (1.3, 1.6, 2.0, 2.5, 3.2, 4.5, 7.0)


@dataclass(frozen=True)
class Luck:
    """How parts of one size differ: a spread of logs, and how many take how many times as long."""

    spread: float = 0.0
    stragglers: float = 0.0
    factor: float = 1.0

    def factors(self, weights: Floats) -> Floats:
        """Multipliers of parts of these weights, shape (chances, parts), of a mean of 1 in all."""
        random = np.random.default_rng(1)
        shape = (CHANCES, len(weights))
        found = np.exp(self.spread * random.standard_normal(shape))
        late = random.uniform(size=shape) < self.stragglers
        found = np.where(late, found * self.factor, found)
        even: Floats = found / ((found @ weights).mean() / weights.sum())
        return even


NO_LUCK = Luck()


# Parts of no less than this share of the largest are held against one another.
ALIKE = 0.8
# How many times as long as usual each part of a load took; None where that was not measured.
Fortune = tuple[float, ...] | None


def luck_of(
    trials: Sequence[tuple[tuple[tuple[float, int], ...], Sequence[float]]],
) -> tuple[Luck, list[Fortune]]:
    """How parts differ by chance, and what chance did in each load, from its parts and seconds.

    Only parts of about one size are held against one another, since what a part takes beside its
    bytes is not known here.
    """
    told: list[Floats | None] = []
    for parts, seconds in trials:
        sizes = np.array([size for size, number in parts for _ in range(number)])
        took = np.asarray(seconds, dtype=float)
        if len(took) != len(sizes) or len(took) < 2 or took.min() <= 0:
            told.append(None)
            continue
        full = sizes >= ALIKE * sizes.max()
        per_byte = took / (FIXED * sizes.mean() + sizes)
        told.append(np.where(full, per_byte / np.median(per_byte[full]), np.nan))
    pooled = [one[~np.isnan(one)] for one in told if one is not None]
    pooled = [one for one in pooled if len(one) >= 3]
    every = np.log(np.concatenate(pooled)) if pooled else np.zeros(0)
    if not len(every):
        return NO_LUCK, [None] * len(trials)
    spread = 1.4826 * float(np.median(np.abs(every)))
    # A trial's own median lies nearer to its parts than the truth does.
    spread *= float(np.sqrt(len(every) / max(len(every) - len(pooled), 1)))
    late = every > FAR * spread + 0.1
    share = float(late.mean())
    factor = float(np.exp(every[late]).mean()) if late.any() else 1.0
    luck = Luck(_nearest(SPREADS, spread))
    if share:
        luck = Luck(luck.spread, _nearest(SHARES, share), _nearest(FACTORS, factor))
    usual = float(np.exp(every).mean())

    def fortune(one: Floats) -> Fortune:
        # Where many are late, it is chance what the middle one of a few is.
        even = np.nanmean(one) if share > MIXED else usual
        return tuple(np.where(np.isnan(one), 1.0, one / even).tolist())

    return luck, [None if one is None else fortune(one) for one in told]


@dataclass(frozen=True)
class Lanes:
    """The lane that ends last. `parts` and `bytes` are those on it, the longer of them for more.

    So are the `batches` that they are made durable in. `busy` is how many lanes are at work on the
    average, `spread` that of the logs of how long it takes by the luck of the parts.
    """

    parts: float
    bytes: float
    batches: float
    busy: float
    spread: float


def cut(files: Sequence[float], part_size: int) -> tuple[tuple[float, int], ...]:
    """Parts of files in their order, as sizes and how many of that size follow one another.

    As `shape` cuts: each file into parts of the size, and remainders and small files that fit into
    one part share it.
    """
    found: list[list[float]] = []
    room = 0.0
    for file in files:
        whole, rest = divmod(float(file), part_size)
        if whole:
            found.append([float(part_size), whole])
            room = 0.0
        if rest < 1:
            continue
        if found and rest <= room:
            found[-1][0] += rest
            room -= rest
        else:
            found.append([rest, 1])
            room = part_size - rest
    return tuple((size, int(count)) for size, count in found)


@lru_cache(maxsize=4096)
def lanes(
    parts: tuple[tuple[float, int], ...],
    slots: int,
    luck: Luck = NO_LUCK,
    fortune: Fortune = None,
    batch: float = 0.0,
) -> Lanes:
    """How parts fill so many slots, each going to the one that is free first (Graham 1969).

    `fortune` is what chance did to each part, where that is known; else it is drawn from `luck`. A
    `batch` is of so many bytes, 0 for a whole part.
    """
    count = sum(number for _, number in parts)
    total = sum(size * number for size, number in parts)
    if not count or not total:
        return Lanes(0.0, 0.0, 0.0, 1.0, 0.0)
    slots = min(max(slots, 1), count)
    if count > MANY * slots and fortune is None:
        rounds = count / slots + 0.5 * (slots - 1) / slots
        spread = np.sqrt(np.expm1(luck.spread**2) + luck.stragglers * (luck.factor - 1) ** 2)
        batches = sum(_batches(size, batch) * number for size, number in parts) / count
        return Lanes(
            rounds, rounds * total / count, rounds * batches, count / rounds,
            float(spread / count**0.5),
        )  # fmt: skip
    sizes = np.repeat([size for size, _ in parts], [number for _, number in parts])
    fixed = FIXED * total / count
    chances = CHANCES if fortune is None else 1
    factors = luck.factors(fixed + sizes) if fortune is None else np.array([fortune])
    takes = (fixed + sizes) * factors
    ends = np.zeros((chances, slots))
    number, volume, made = (np.zeros((chances, slots)) for _ in range(3))
    every = np.arange(chances)
    for place in range(count):
        free = ends.argmin(axis=1)
        ends[every, free] += takes[:, place]
        number[every, free] += factors[:, place]
        volume[every, free] += sizes[place] * factors[:, place]
        made[every, free] += _batches(sizes[place], batch) * factors[:, place]
    last = ends.argmax(axis=1)
    longest = ends[every, last]
    return Lanes(
        float(number[every, last].mean()),
        float(volume[every, last].mean()),
        float(made[every, last].mean()),
        float((ends.sum(axis=1) / longest).mean()),
        float(np.log(longest).std()),
    )


def _batches(size: float, batch: float) -> float:
    return float(np.ceil(size / batch - 1e-9)) if batch else 1.0


def _nearest(values: Sequence[float], wanted: float) -> float:
    return min(values, key=lambda one: abs(one - wanted))
