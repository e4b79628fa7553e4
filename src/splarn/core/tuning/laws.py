"""The laws: how long each phase takes, from a configuration, a volume and parameters.

A phase lasts as long as its fullest lane (see `pieces`): what each part on it costs beside its
bytes, and what its bytes and rows cost. Work slows with the parts at work at once as the Universal
Scalability Law says (Gunther 1993): throughput X(n) = n / (1 + s(n-1) + k n(n-1)), so each part
takes 1 + s(n-1) + k n(n-1) times as long, or all of them as long as what they share allows.
Parameters are natural logarithms of positive quantities.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from splarn.core.target.levers import LOAD_LEVERS
from splarn.core.tuning.columns import Columns, Floats, Known

# Seconds of a phase in which nothing happens, since logarithms know no zero.
LEAST = 1e-6
# How sharply one limit takes over from another, and how many spreads above its centre one holds.
SHARPNESS = 24
TINY = 1e-30
BINDS = 1.5
# How many streams the target's processors serve before they wait for one another.
CORES = "streams at full speed"
# What each machine of a cluster can do: bytes over its line, and streams that it feeds. Where all
# trials ran on one machine these are no limits of their own.
LINE, FED = "line of a machine s a MB", "streams a machine feeds"
# Rows of which a table is small, for what grows with it.
SMALL = 1e6


@dataclass(frozen=True)
class Parameter:
    """A parameter of a law: its name with the unit, and the weak log-normal prior.

    `centre` is what a small machine does; a `spread` (of the log) of 1.5 and more says that a
    factor of ten either way would be no surprise. With a `per`, each value of that kind has one
    of its own; `where_several` leaves it at 1 where there is only one. One that is `far` matters
    only where trials ran on several machines, and is `neutral` otherwise.
    """

    name: str
    centre: float
    spread: float
    per: str = ""
    where_several: bool = False
    far: bool = False
    neutral: float = 1.0

    def members(self, known: Known) -> tuple[str, ...]:
        """The names of its values."""
        if self.far and set(known.get("machines", ())) <= {"1"}:
            return ()
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
            return np.full((1, 1), self._law.neutral[name])
        values: Floats = self._values[first : first + 1]
        if not per:
            return values
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

    Only these `levers` matter to it. `binding` are parameters one of which may hold and then hides
    what the others are: each is also tried as one that does.
    """

    name: str
    levers: tuple[str, ...]
    parameters: tuple[Parameter, ...]
    formula: Formula
    rents: bool
    binding: tuple[str, ...] = ()


@dataclass(frozen=True)
class Law:
    """The law of a phase for the kinds that a model knows.

    `hints` are centres and spreads of single values that something else than trials tells of.
    """

    phase: Phase
    known: Known
    hints: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of all values, in the order of theta."""
        return tuple(n for one in self.phase.parameters for n in one.members(self.known))

    @cached_property
    def centre(self) -> Floats:
        """The prior's centres, in logs; shape (values,)."""
        found: Floats = np.log([self._prior(one, name)[0] for one, name in self._members])
        return found

    @cached_property
    def spread(self) -> Floats:
        """The prior's spreads, of the logs; shape (values,)."""
        return np.array([self._prior(one, name)[1] for one, name in self._members])

    @property
    def _members(self) -> list[tuple[Parameter, str]]:
        return [(one, name) for one in self.phase.parameters for name in one.members(self.known)]

    def _prior(self, one: Parameter, member: str) -> tuple[float, float]:
        return self.hints.get(member, (one.centre, one.spread))

    @cached_property
    def slots(self) -> dict[str, tuple[int, int, str]]:
        """Of each parameter where in theta its values begin, how many there are, and per what."""
        found, first = {}, 0
        for one in self.phase.parameters:
            count = len(one.members(self.known))
            found[one.name] = (first, count, one.per)
            first += count
        return found

    @cached_property
    def neutral(self) -> dict[str, float]:
        """What each parameter is where it has no value."""
        return {one.name: one.neutral for one in self.phase.parameters}

    def starts(self) -> list[Floats]:
        """Where fitting may begin: the prior's centre, and each limit where it holds."""
        starts = [self.centre]
        for name in self.phase.binding:
            if not self.slots[name][1]:
                continue
            far = self.centre.copy()
            # Where a limit is what slows, streams slow one another but little.
            lower = -BINDS if name in (CORES, FED) else BINDS
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
    most = np.maximum(np.maximum(one, other), TINY)
    least = np.minimum(one, other)
    return most * (1 + (least / most) ** SHARPNESS) ** (1 / SHARPNESS)


def _shape(columns: Columns, of: Values) -> Floats:
    lane = columns.shaped
    # Those on one machine slow one another.
    near = np.maximum(lane.busy / columns.machines, 1)
    slow = slowdown(near, of["contention"], of["coherency"])
    work = of["cutting s a MB"] + of["packing s a MB"] * of["packing here"]
    alone = lane.mb * work * slow
    lines = columns.total_mb * larger(of[LINE] / columns.machines, of["store's line s a MB"])
    return of["start s"] + lane.parts * of["overhead s a part"] + larger(alone, lines)


def _ship(columns: Columns, of: Values) -> Floats:
    lane = columns.shipped
    near = np.maximum(lane.busy / columns.machines, 1)
    slow = slowdown(near, of["contention"], of["coherency"])
    alone = lane.mb * columns.packed * of["sending s a packed MB"] * slow
    line = larger(of["line s a packed MB"], of[LINE] / columns.machines)
    whole = columns.total_mb * columns.packed * line
    return of["start s"] + lane.parts * of["s a part"] + larger(alone, whole)


def _size(columns: Columns, of: Values) -> Floats:
    return np.where(columns.resized > 0, of["there and back s"], LEAST)


def _queue(columns: Columns, of: Values) -> Floats:
    return of["start s"] + columns.parts * of["s a part"]


def _load(columns: Columns, of: Values) -> Floats:
    lane = columns.loaded
    free = slowdown(lane.busy, of["contention"], of["coherency"])
    # The more there are at what all share, the worse it is used.
    crowded = 1 + of["crowding"] * (lane.busy - 1)
    slow = larger(free, lane.busy * crowded / of[CORES])
    slow = larger(slow, lane.busy / columns.machines / of[FED])
    work = lane.rows * of["s a row"] * of["factor"] * of["format"]
    work = work + lane.mb * columns.unpacked * of["unpacking s a MB"] * of["unpacking there"]
    work = work + lane.mb * columns.packed * of["pulling s a packed MB"]
    grown = np.maximum(columns.total_rows / SMALL, 1) ** np.minimum(of["growth"], 1)
    alone = (work * grown + lane.batches * of["s a commit"]) * slow
    # What all streams share works through all there is.
    shared = of["shared s a MB"] + of["line s a packed MB"] * columns.packed
    limit = columns.total_mb * shared * crowded
    limit = larger(limit, columns.total_mb * columns.packed * of[LINE] / columns.machines)
    return lane.parts * of["overhead s a part"] + larger(alone, limit)


def _finish(columns: Columns, of: Values) -> Floats:
    return of["start s"] + columns.total_rows * of["s a row"] * of["factor"]


_USL = (Parameter("contention", 0.05, 2.0), Parameter("coherency", 0.001, 2.0))
_LINE = Parameter(LINE, 0.005, 2.0, far=True, neutral=0.0)
_WAY = Parameter("factor", 1.0, 0.7, per="way", where_several=True)

# In the order in which they follow one another. Trials of a target that is given rows have no
# phases ship and size.
PHASES = (
    Phase(
        "shape",
        ("part_size", "format", "packing", "workers", "machines"),
        (
            Parameter("start s", 0.01, 1.5),
            Parameter("overhead s a part", 0.003, 1.5),
            *_USL,
            Parameter("cutting s a MB", 0.003, 1.5),
            Parameter("packing here", 1.0, 0.7),
            Parameter("packing s a MB", 0.006, 1.5, per="packing"),
            _LINE,
            Parameter("store's line s a MB", 0.001, 2.0, far=True, neutral=0.0),
        ),
        _shape,
        rents=False,
        binding=(LINE, "store's line s a MB"),
    ),
    Phase(
        "ship",
        ("part_size", "format", "packing", "transfer_streams", "load_streams", "machines"),
        (
            Parameter("start s", 0.02, 1.5),
            Parameter("s a part", 0.01, 1.5),
            *_USL,
            Parameter("line s a packed MB", 0.001, 2.0),
            Parameter("sending s a packed MB", 0.01, 2.0),
            _LINE,
        ),
        _ship,
        rents=False,
        binding=("line s a packed MB", LINE),
    ),
    Phase("size", ("tier",), (Parameter("there and back s", 2.0, 1.5),), _size, rents=True),
    Phase(
        "queue",
        ("part_size",),
        (Parameter("start s", 0.03, 1.5), Parameter("s a part", 0.001, 1.5)),
        _queue,
        rents=True,
    ),
    Phase(
        "load",
        (
            "part_size",
            "format",
            "packing",
            "load_streams",
            "batch_rows",
            "tier",
            "machines",
            *LOAD_LEVERS,
        ),
        (
            Parameter("overhead s a part", 0.02, 2.0),
            Parameter("s a row", 5e-6, 2.0),
            Parameter("s a commit", 0.01, 2.0),
            *_USL,
            Parameter(CORES, 8.0, 1.0),
            Parameter("shared s a MB", 0.001, 2.0),
            Parameter("line s a packed MB", 0.001, 2.0),
            Parameter("crowding", 0.01, 1.5),
            Parameter("unpacking there", 1.0, 1.5),
            Parameter("unpacking s a MB", 0.002, 1.0, per="codec"),
            Parameter("pulling s a packed MB", 0.002, 2.0),
            Parameter("growth", 0.001, 1.5),
            Parameter("format", 1.0, 0.7, per="format", where_several=True),
            _LINE,
            Parameter(FED, 8.0, 1.0, far=True, neutral=1e12),
            _WAY,
        ),
        _load,
        rents=True,
        binding=(
            CORES,
            "shared s a MB",
            "line s a packed MB",
            "pulling s a packed MB",
            "overhead s a part",
            "s a commit",
            LINE,
            FED,
        ),
    ),
    Phase(
        "finish",
        tuple(LOAD_LEVERS),
        (Parameter("start s", 0.02, 1.5), Parameter("s a row", 1e-6, 2.0), _WAY),
        _finish,
        rents=True,
    ),
)
PHASE_NAMES = tuple(phase.name for phase in PHASES)
