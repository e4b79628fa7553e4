"""The laws: how long each phase takes, from a configuration, a volume and parameters.

Part cost is a fixed overhead plus work. Work slows with the parts at work at once as the Universal
Scalability Law says (Gunther 1993): throughput X(n) = n / (1 + s(n-1) + k n(n-1)), so each part
takes 1 + s(n-1) + k n(n-1) times as long. The phase lasts as long as the list schedule of its parts
(Graham 1969). Parameters are natural logarithms of positive quantities.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from splarn.core.configuration import Configuration
from splarn.core.model.schedule import even_schedule
from splarn.core.units import tier_units

MB = 1e6
# Seconds of a phase in which nothing happens, since logarithms know no zero.
LEAST = 1e-6


@dataclass(frozen=True)
class Volume:
    """How much there is to load. `bytes` unpacked.

    `error` is the share by which both may be off either way, with 90 % confidence.
    """

    bytes: float
    rows: float
    error: float = 0.0


@dataclass(frozen=True)
class Levers:
    """Configurations at volumes as columns, one entry each; shapes (n, 1) so draws broadcast."""

    parts: Any
    full_mb: Any
    last_mb: Any
    full_rows: Any
    last_rows: Any
    workers: Any
    streams: Any  # No more than the tier has slots for.
    batch_rows: Any
    codec: Any  # Index into the model's codecs; -1 for one it does not know.
    way: Any  # The same of its ways of writing.
    resized: Any  # Whether the compute has another size than at rest.
    total_mb: Any
    total_rows: Any


def levers_of(
    configurations: Sequence[Configuration],
    volumes: Sequence[Volume],
    codecs: Sequence[str],
    ways: Sequence[str],
    parts: Sequence[int] | None = None,
    slots: int | None = None,
    rest: str | None = None,
) -> Levers:
    """Columns for the laws. `parts` gives known part counts; else size over part size.

    `slots` are those that each unit of a tier has: streams beyond them wait. None where the compute
    has no sizes. `rest` is the tier for which nothing is resized.
    """

    def positions(values: Sequence[str], known: Sequence[str]) -> Any:
        index = {name: position for position, name in enumerate(known)}
        return np.array([index.get(value, -1) for value in values], dtype=int)

    def column(values: Any) -> Any:
        return np.array(list(values), dtype=float)[:, None]

    size = column(volume.bytes for volume in volumes)
    rows = column(volume.rows for volume in volumes)
    part_size = column(c.part_size for c in configurations)
    count = column(parts) if parts is not None else np.maximum(np.ceil(size / part_size), 1)
    streams = column(c.load_streams for c in configurations)
    if slots is not None:
        units = column(max(tier_units(c.tier), 1) for c in configurations)
        streams = np.minimum(streams, units * slots)
    full = np.minimum(part_size, size)
    last = np.clip(size - full * (count - 1), 0, full)
    # Where the parts are known to be more than the size asks for, they are smaller.
    uneven = full * (count - 1) > size
    full = np.where(uneven, size / count, full)
    last = np.where(uneven, full, last)
    per_byte = rows / np.maximum(size, 1)
    return Levers(
        count,
        full / MB,
        last / MB,
        full * per_byte,
        last * per_byte,
        column(c.workers for c in configurations),
        streams,
        column(c.batch_rows for c in configurations),
        positions([str(c.packing) for c in configurations], codecs),
        positions([str(c.load_levers) for c in configurations], ways),
        column(rest is not None and c.tier != rest for c in configurations),
        size / MB,
        rows,
    )


def slowdown(n: Any, contention: Any, coherency: Any) -> Any:
    """How many times as long work takes with n at once, by the Universal Scalability Law."""
    return 1 + contention * (n - 1) + coherency * n * (n - 1)


def _of_each(theta: Any, first: int, count: int, position: Any) -> Any:
    """exp of each row's parameter among `count` of a kind; one never tried takes their mean."""
    block = theta[:, first : first + count]
    chosen = np.where(position >= 0, position, 0)
    values = block[:, chosen].T
    if (position < 0).any():
        values = np.where((position < 0)[:, None], block.mean(axis=1)[None, :], values)
    return np.exp(values)


def _way(levers: Levers, theta: Any, first: int) -> Any:
    """How many times as long writing a row takes in each row's way; 1 where only one was tried."""
    count = theta.shape[1] - first
    return _of_each(theta, first, count, levers.way) if count else 1.0


@dataclass(frozen=True)
class Law:
    """One phase's law: its parameters by name, with prior centre and spread (both of the log)."""

    phase: str
    names: tuple[str, ...]
    centre: tuple[float, ...]
    spread: tuple[float, ...]

    def seconds(self, levers: Levers, theta: Any, codecs: int) -> Any:
        """Seconds, shape (configurations, draws), for `theta` of shape (draws, parameters)."""
        return _FORMULAS[self.phase](levers, theta, codecs)


def _shape_seconds(levers: Levers, theta: Any, codecs: int) -> Any:
    start, overhead, contention, coherency = np.exp(theta[:, :4].T)[:, None, :]
    work = _of_each(theta, 4, codecs, levers.codec)
    busy = np.minimum(levers.workers, levers.parts)
    slow = slowdown(busy, contention, coherency)
    full = overhead + levers.full_mb * work * slow
    last = overhead + levers.last_mb * work * slow
    return start + even_schedule(full, last, levers.parts, levers.workers)


def _load_seconds(levers: Levers, theta: Any, codecs: int) -> Any:
    overhead, per_row, commit, contention, coherency = np.exp(theta[:, :5].T)[:, None, :]
    unpack = _of_each(theta, 5, codecs, levers.codec)
    way = _way(levers, theta, 5 + codecs)
    busy = np.minimum(levers.streams, levers.parts)
    slow = slowdown(busy, contention, coherency)

    def part(rows: Any, mb: Any) -> Any:
        batch = np.where(levers.batch_rows > 0, levers.batch_rows, np.inf)
        commits = np.maximum(np.ceil(rows / batch), 1)
        return overhead + (rows * per_row * way + mb * unpack + commits * commit) * slow

    full = part(levers.full_rows, levers.full_mb)
    last = part(levers.last_rows, levers.last_mb)
    return even_schedule(full, last, levers.parts, levers.streams)


def _queue_seconds(levers: Levers, theta: Any, codecs: int) -> Any:
    start, per_part = np.exp(theta.T)[:, None, :]
    return start + levers.parts * per_part


def _finish_seconds(levers: Levers, theta: Any, codecs: int) -> Any:
    start, per_row = np.exp(theta[:, :2].T)[:, None, :]
    return start + levers.total_rows * per_row * _way(levers, theta, 2)


def _ship_seconds(levers: Levers, theta: Any, codecs: int) -> Any:
    start, per_part = np.exp(theta[:, :2].T)[:, None, :]
    work = levers.total_mb * _of_each(theta, 2, codecs, levers.codec)
    return start + levers.parts * per_part + work


def _size_seconds(levers: Levers, theta: Any, codecs: int) -> Any:
    return np.where(levers.resized > 0, np.exp(theta[:, 0])[None, :], LEAST)


_FORMULAS = {
    "shape": _shape_seconds,
    "ship": _ship_seconds,
    "size": _size_seconds,
    "queue": _queue_seconds,
    "load": _load_seconds,
    "finish": _finish_seconds,
}


def laws_for(codecs: Sequence[str], ways: Sequence[str]) -> tuple[Law, ...]:
    """The laws with their weak log-normal priors.

    `ways` are the load levers' values taken together; several have a factor each.

    Trials of a target that is given rows have no phases ship and size.

    Centres are what a small machine does; the spreads of 1.5 and more say that a factor of ten
    either way would be no surprise.
    """

    def law(phase: str, *parameters: tuple[str, float, float]) -> Law:
        names, centres, spreads = zip(*parameters, strict=True)
        return Law(phase, names, tuple(float(np.log(c)) for c in centres), spreads)

    factors = [(f"factor, {way}", 1.0, 0.7) for way in ways] if len(ways) > 1 else []
    return (
        law(
            "shape",
            ("start s", 0.01, 1.5),
            ("overhead s a part", 0.003, 1.5),
            ("contention", 0.1, 1.5),
            ("coherency", 0.003, 1.5),
            *((f"work s a MB, {codec}", 0.01, 2.0) for codec in codecs),
        ),
        law(
            "ship",
            ("start s", 0.02, 1.5),
            ("s a part", 0.003, 1.5),
            *((f"sending s a MB, {codec}", 0.01, 2.0) for codec in codecs),
        ),
        law("size", ("there and back s", 2.0, 1.5)),
        law("queue", ("start s", 0.03, 1.5), ("s a part", 0.001, 1.5)),
        law(
            "load",
            ("overhead s a part", 0.01, 1.5),
            ("s a row", 5e-6, 2.0),
            ("s a commit", 0.005, 1.5),
            ("contention", 0.3, 1.5),
            ("coherency", 0.003, 1.5),
            *((f"unpacking s a MB, {codec}", 0.002, 1.5) for codec in codecs),
            *factors,
        ),
        law("finish", ("start s", 0.02, 1.5), ("s a row", 1e-6, 2.0), *factors),
    )
