"""The laws: how long each phase takes, from a configuration, a volume and parameters.

Part cost is a fixed overhead plus work. Work slows with the parts at work at once as the Universal
Scalability Law says (Gunther 1993): throughput X(n) = n / (1 + s(n-1) + k n(n-1)), so each part
takes 1 + s(n-1) + k n(n-1) times as long, or as long as what all of them share allows. The phase
lasts as long as the list schedule of its parts (Graham 1969). Parameters are natural logarithms of
positive quantities.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from splarn.core.target.levers import way_of_writing
from splarn.core.tuning.configuration import Configuration
from splarn.core.units import tier_units
from splarn.core.work.schedule import even_schedule

MB = 1e6
# Seconds of a phase in which nothing happens, since logarithms know no zero.
LEAST = 1e-6
# How sharply one limit takes over from another, and how many spreads above its centre one holds.
SHARPNESS = 24
BINDS = 1.5
# How many streams the target's processors serve before they wait for one another.
CORES = "streams at full speed"
# An array of floats; what its axes are stands where it is used.
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Volume:
    """How much there is to load. `bytes` unpacked.

    `error` is the share by which both may be off either way, with 90 % confidence.
    """

    bytes: float
    rows: float
    error: float = 0.0


@dataclass(frozen=True)
class Columns:
    """Configurations at volumes as columns, one entry each; shapes (n, 1) so draws broadcast.

    `kinds` gives each entry's place among the model's codecs and ways of writing, -1 for one that
    the model does not know; shapes (n,).
    """

    parts: Floats
    full_mb: Floats
    last_mb: Floats
    packed: Floats  # Packed bytes over unpacked ones.
    full_rows: Floats
    last_rows: Floats
    workers: Floats
    streams: Floats  # No more than the tier has slots for.
    senders: Floats
    batch_rows: Floats
    resized: Floats  # Whether the compute has another size than at rest.
    total_mb: Floats
    total_rows: Floats
    kinds: dict[str, NDArray[np.int_]]


# What parameters may have a value of their own for, and what a configuration has of it.
KINDS: dict[str, Callable[[Configuration], str]] = {
    "codec": lambda configuration: f"{configuration.format} {configuration.packing}",
    "way": way_of_writing,
}
# The values of each kind that a model knows.
Known = dict[str, tuple[str, ...]]


def known_of(configurations: Sequence[Configuration]) -> Known:
    """The values of each kind among configurations, sorted."""
    return {kind: tuple(sorted(set(map(value, configurations)))) for kind, value in KINDS.items()}


def columns_of(
    configurations: Sequence[Configuration],
    volumes: Sequence[Volume],
    known: Known,
    parts: Sequence[int] | None = None,
    slots: int | None = None,
    resting_tier: str | None = None,
    packed: Mapping[str, float] | None = None,
) -> Columns:
    """Columns for the laws. `parts` gives known part counts; else size over part size.

    `slots` are those that each unit of a tier has: streams beyond them wait. None where the compute
    has no sizes. `resting_tier` is the tier for which nothing is resized. `packed` are shares of
    their size to which codecs pack; those of others are their mean.
    """

    def places(kind: str) -> NDArray[np.int_]:
        index = {name: position for position, name in enumerate(known[kind])}
        return np.array([index.get(KINDS[kind](one), -1) for one in configurations], dtype=int)

    def column(values: Sequence[float]) -> Floats:
        return np.array(values, dtype=float)[:, None]

    size = column([volume.bytes for volume in volumes])
    rows = column([volume.rows for volume in volumes])
    part_size = column([c.part_size for c in configurations])
    count = column(parts) if parts is not None else np.maximum(np.ceil(size / part_size), 1)
    streams = column([c.load_streams for c in configurations])
    if slots is not None:
        units = column([max(tier_units(c.tier), 1) for c in configurations])
        streams = np.minimum(streams, units * slots)
    full = np.minimum(part_size, size)
    last = np.clip(size - full * (count - 1), 0, full)
    # Where the parts are known to be more than the size asks for, they are smaller.
    uneven = full * (count - 1) > size
    full = np.where(uneven, size / count, full)
    last = np.where(uneven, full, last)
    per_byte = rows / np.maximum(size, 1)
    shares = packed or {}
    usual = sum(shares.values()) / len(shares) if shares else 1.0
    return Columns(
        parts=count,
        full_mb=full / MB,
        last_mb=last / MB,
        packed=column([shares.get(KINDS["codec"](one), usual) for one in configurations]),
        full_rows=full * per_byte,
        last_rows=last * per_byte,
        workers=column([c.workers for c in configurations]),
        streams=streams,
        # Where no depot is named, a target that takes files is sent them by its own streams.
        senders=column([c.transfer_streams or c.load_streams for c in configurations]),
        batch_rows=column([c.batch_rows for c in configurations]),
        resized=column(
            [resting_tier is not None and c.tier != resting_tier for c in configurations]
        ),
        total_mb=size / MB,
        total_rows=rows,
        kinds={kind: places(kind) for kind in KINDS},
    )


@dataclass(frozen=True)
class Parameter:
    """A parameter of a law: its name with the unit, and the weak log-normal prior.

    `centre` is what a small machine does; a `spread` (of the log) of 1.5 and more says that a
    factor of ten either way would be no surprise. With a `per`, each codec or way of writing has a
    value of its own; `where_several` leaves it at 1 where there is only one.
    """

    name: str
    centre: float
    spread: float
    per: str = ""
    where_several: bool = False

    def members(self, known: Known) -> tuple[str, ...]:
        """The names of its values."""
        if not self.per:
            return (self.name,)
        values = known[self.per]
        if self.where_several and len(values) < 2:
            return ()
        return tuple(f"{self.name}, {value}" for value in values)


class Values:
    """Draws of a law's parameters, by name; shapes broadcast with those of Columns.

    `theta` has shape (draws, values), in logs.
    """

    def __init__(self, law: Law, theta: Floats, columns: Columns) -> None:
        self._law, self._theta, self._columns = law, theta, columns
        self._values: Floats = np.exp(theta.T)

    def __getitem__(self, name: str) -> Floats:
        """A parameter; of one with a value for each kind, that of each configuration's kind."""
        first, count, per = self._law.slots[name]
        if not count:
            return np.ones((1, 1))
        if not per:
            return self._values[first : first + 1]
        places = self._columns.kinds[per]
        values = self._values[first + np.maximum(places, 0)]
        if (places < 0).any():
            # One that was never tried takes the mean of those that were.
            usual = np.exp(self._theta[:, first : first + count].mean(axis=1))
            values = np.where((places < 0)[:, None], usual[None, :], values)
        return values


Formula = Callable[[Columns, Values], Floats]


@dataclass(frozen=True)
class Phase:
    """A phase of a load: what its seconds follow from, and whether rented compute is in use.

    `binding` are parameters of limits, one of which may hold and then hides what the others are:
    each is also tried as one that does.
    """

    name: str
    parameters: tuple[Parameter, ...]
    formula: Formula
    rents: bool
    binding: tuple[str, ...] = ()


@dataclass(frozen=True)
class Law:
    """The law of a phase for the codecs and ways of writing that a model knows."""

    phase: Phase
    known: Known

    @property
    def names(self) -> tuple[str, ...]:
        """The names of all values, in the order of theta."""
        return tuple(n for one in self.phase.parameters for n in one.members(self.known))

    @cached_property
    def centre(self) -> Floats:
        """The prior's centres, in logs; shape (values,)."""
        return np.log([p.centre for p in self.phase.parameters for _ in p.members(self.known)])

    @cached_property
    def spread(self) -> Floats:
        """The prior's spreads, of the logs; shape (values,)."""
        return np.array([p.spread for p in self.phase.parameters for _ in p.members(self.known)])

    @cached_property
    def slots(self) -> dict[str, tuple[int, int, str]]:
        """Of each parameter where in theta its values begin, how many there are, and per what."""
        found, first = {}, 0
        for one in self.phase.parameters:
            count = len(one.members(self.known))
            found[one.name] = (first, count, one.per)
            first += count
        return found

    def starts(self) -> list[Floats]:
        """Where fitting may begin: the prior's centre, and each limit where it holds."""
        starts = [self.centre]
        for name in self.phase.binding:
            far = self.centre.copy()
            # Where a limit is what slows, streams slow one another but little.
            lower = -BINDS if name == CORES else BINDS
            for moved, by in ((name, lower), *((one.name, -BINDS) for one in _USL)):
                first, count, _ = self.slots[moved]
                far[first : first + count] += by * self.spread[first : first + count]
            starts.append(far)
        return starts

    def seconds(self, columns: Columns, theta: Floats) -> Floats:
        """Seconds, shape (configurations, draws), for `theta` of shape (draws, values)."""
        return self.phase.formula(columns, Values(self, theta, columns))


def slowdown(n: Floats, contention: Floats, coherency: Floats) -> Floats:
    """How many times as long work takes with n at once, by the Universal Scalability Law."""
    return 1 + contention * (n - 1) + coherency * n * (n - 1)


def larger(one: Floats, other: Floats) -> Floats:
    """The larger of two, smoothly, so that both have a slope: their norm of a high order."""
    most = np.maximum(one, other)
    least = np.minimum(one, other)
    return most * (1 + (least / most) ** SHARPNESS) ** (1 / SHARPNESS)


def _shape(columns: Columns, of: Values) -> Floats:
    busy = np.minimum(columns.workers, columns.parts)
    slow = slowdown(busy, of["contention"], of["coherency"])
    full, last = (
        of["overhead s a part"] + mb * of["work s a MB"] * slow
        for mb in (columns.full_mb, columns.last_mb)
    )
    return of["start s"] + even_schedule(full, last, columns.parts, columns.workers)


def _ship(columns: Columns, of: Values) -> Floats:
    busy = np.minimum(columns.senders, columns.parts)
    slow = slowdown(busy, of["contention"], of["coherency"])

    def part(mb: Floats) -> Floats:
        # A line that all share is divided among those that send.
        alone = mb * of["sending s a MB"] * slow
        return of["s a part"] + larger(alone, mb * columns.packed * of["line s a packed MB"] * busy)

    sending = even_schedule(
        part(columns.full_mb), part(columns.last_mb), columns.parts, columns.senders
    )
    return of["start s"] + sending


def _size(columns: Columns, of: Values) -> Floats:
    return np.where(columns.resized > 0, of["there and back s"], LEAST)


def _queue(columns: Columns, of: Values) -> Floats:
    return of["start s"] + columns.parts * of["s a part"]


def _load(columns: Columns, of: Values) -> Floats:
    busy = np.minimum(columns.streams, columns.parts)
    # The more there are at what all share, the worse it is used.
    turns = busy * (1 + of["crowding"] * (busy - 1))
    free = slowdown(busy, of["contention"], of["coherency"])
    slow = larger(free, turns / of[CORES])
    per_row = of["s a row"] * of["factor"]
    overhead, unpack, commit = of["overhead s a part"], of["unpacking s a MB"], of["s a commit"]

    shared, line = of["shared s a MB"], of["line s a packed MB"]

    def part(rows: Floats, mb: Floats) -> Floats:
        batch = np.where(columns.batch_rows > 0, columns.batch_rows, np.inf)
        commits = np.maximum(np.ceil(rows / batch), 1)
        alone = (rows * per_row + mb * unpack + commits * commit) * slow
        # What all streams share is divided among those at work.
        limit = mb * (shared + line * columns.packed) * turns
        return overhead + larger(alone, limit)

    full = part(columns.full_rows, columns.full_mb)
    last = part(columns.last_rows, columns.last_mb)
    return even_schedule(full, last, columns.parts, columns.streams)


def _finish(columns: Columns, of: Values) -> Floats:
    return of["start s"] + columns.total_rows * of["s a row"] * of["factor"]


_USL = (Parameter("contention", 0.2, 1.5), Parameter("coherency", 0.003, 1.5))
_WAY = Parameter("factor", 1.0, 0.7, per="way", where_several=True)

# In the order in which they follow one another. Trials of a target that is given rows have no
# phases ship and size.
PHASES = (
    Phase(
        "shape",
        (
            Parameter("start s", 0.01, 1.5),
            Parameter("overhead s a part", 0.003, 1.5),
            *_USL,
            Parameter("work s a MB", 0.01, 2.0, per="codec"),
        ),
        _shape,
        rents=False,
    ),
    Phase(
        "ship",
        (
            Parameter("start s", 0.02, 1.5),
            Parameter("s a part", 0.01, 1.5),
            *_USL,
            Parameter("line s a packed MB", 0.001, 2.0),
            Parameter("sending s a MB", 0.01, 2.0, per="codec"),
        ),
        _ship,
        rents=False,
        binding=("line s a packed MB",),
    ),
    Phase("size", (Parameter("there and back s", 2.0, 1.5),), _size, rents=True),
    Phase(
        "queue",
        (Parameter("start s", 0.03, 1.5), Parameter("s a part", 0.001, 1.5)),
        _queue,
        rents=True,
    ),
    Phase(
        "load",
        (
            Parameter("overhead s a part", 0.01, 1.5),
            Parameter("s a row", 5e-6, 2.0),
            Parameter("s a commit", 0.005, 1.5),
            *_USL,
            Parameter(CORES, 8.0, 1.0),
            Parameter("shared s a MB", 0.001, 2.0),
            Parameter("line s a packed MB", 0.001, 2.0),
            Parameter("crowding", 0.01, 1.5),
            Parameter("unpacking s a MB", 0.002, 1.5, per="codec"),
            _WAY,
        ),
        _load,
        rents=True,
        binding=(CORES, "shared s a MB", "line s a packed MB"),
    ),
    Phase(
        "finish",
        (Parameter("start s", 0.02, 1.5), Parameter("s a row", 1e-6, 2.0), _WAY),
        _finish,
        rents=True,
    ),
)
PHASE_NAMES = tuple(phase.name for phase in PHASES)
