"""What laws are told of configurations at volumes: as columns, from the levers and the real files.

What is known without a trial is no unknown of a law: the parts' sizes and how they fill the lanes,
how small each packing makes the data, and how fast this machine packs and unpacks it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from functools import reduce
from typing import Any

import numpy as np
from numpy.typing import NDArray

from splarn.core.target.levers import LOAD_LEVERS, shown_way
from splarn.core.tuning.configuration import LEVERS, Configuration, Space
from splarn.core.tuning.pieces import NO_LUCK, Fortune, Lanes, Luck, cut, lanes
from splarn.core.units import tier_units

MB = 1e6
# An array of floats; what its axes are stands where it is used.
Floats = NDArray[np.float64]
Places = NDArray[np.int_]


def added(values: Iterable[Floats]) -> Floats:
    """The sum of arrays, of their own precision."""
    found: Floats = reduce(np.add, values)
    return found


@dataclass(frozen=True)
class Volume:
    """How much there is to load. `bytes` unpacked, in `files` of so many each where that is known.

    `pieces` are the sizes of its parts where it has been cut already, whatever the part size says.
    `error` is the share by which all may be off either way, with 90 % confidence.
    """

    bytes: float
    rows: float
    error: float = 0.0
    files: tuple[float, ...] = ()
    pieces: tuple[float, ...] = ()

    def parts(self, part_size: int, known: int | None = None) -> tuple[tuple[float, int], ...]:
        """The parts that it is cut into, see `cut`; even ones where others are `known` to be."""
        if self.pieces:
            return tuple((size, 1) for size in self.pieces)
        found = cut(self.files or (self.bytes,), part_size)
        if known is not None and sum(count for _, count in found) != known:
            return ((self.bytes / known, known),)
        return found


@dataclass(frozen=True)
class Packed:
    """What a packing makes of this data: packed over unpacked bytes, and what this machine takes.

    Seconds a MB of unpacked bytes, of one worker; 0 where that was not measured.
    """

    share: float
    pack: float = 0.0
    unpack: float = 0.0


# What parameters may have a value of their own for: by which levers, and what it is called.
KINDS: dict[str, tuple[tuple[str, ...], Callable[..., str]]] = {
    "packing": (("format", "packing"), lambda form, packing: f"{form} {packing}"),
    "codec": (("packing",), lambda packing: str(packing.codec)),
    "format": (("format",), str),
    "way": (tuple(LOAD_LEVERS), shown_way),
    "machines": (("machines",), str),
}
# The values of each kind that a model knows.
Known = dict[str, tuple[str, ...]]


def kind_of(kind: str, configuration: Configuration) -> str:
    """What a configuration has of a kind."""
    levers, name = KINDS[kind]
    return name(*(getattr(configuration, lever) for lever in levers))


def known_of(configurations: Sequence[Configuration]) -> Known:
    """The values of each kind among configurations, sorted."""
    return {kind: tuple(sorted({kind_of(kind, one) for one in configurations})) for kind in KINDS}


@dataclass(frozen=True)
class Filled:
    """Lanes of one phase, an entry each, shape (n, 1): parts, MB, rows and batches of the one that
    ends last, how many are at work, and the spread of how long that takes."""

    parts: Floats
    mb: Floats
    rows: Floats
    batches: Floats
    busy: Floats
    spread: Floats


@dataclass(frozen=True)
class Columns:
    """Configurations at volumes as columns, one entry each; shapes (n, 1) so draws broadcast.

    `kinds` gives each entry's place among the model's values of a kind, -1 for one that the model
    does not know; shapes (n,).
    """

    parts: Floats
    packed: Floats  # Packed bytes over unpacked ones.
    unpacked: Floats  # Whether there is anything to unpack.
    shaped: Filled
    shipped: Filled
    loaded: Filled
    machines: Floats
    resized: Floats  # Whether the compute has another size than at rest.
    total_mb: Floats
    total_rows: Floats
    kinds: dict[str, Places]

    def take(self, which: slice) -> Columns:
        """Some of the entries."""
        told: dict[str, Any] = {}
        for one in fields(self):
            value = getattr(self, one.name)
            if isinstance(value, Filled):
                told[one.name] = Filled(
                    *(getattr(value, lane.name)[which] for lane in fields(value))
                )
            elif isinstance(value, dict):
                told[one.name] = {kind: places[which] for kind, places in value.items()}
            else:
                told[one.name] = value[which]
        return Columns(**told)


# Codes below this are counted rather than sorted.
COUNTED = 1 << 22


def _unique(code: Places) -> tuple[Places, Places]:
    """The values that occur, sorted, and which of them each has."""
    most = int(code.max()) + 1 if len(code) else 0
    if most > COUNTED:
        found, back = np.unique(code, return_inverse=True)
        return found, back.reshape(-1)
    seen = np.zeros(most, dtype=bool)
    seen[code] = True
    found = np.flatnonzero(seen)
    place = np.zeros(most, dtype=int)
    place[found] = np.arange(len(found))
    return found, place[code]


class Table:
    """Configurations as columns: of each lever the values that occur, and which of them each has.

    Spaces are far larger than the values in them, so whatever follows from levers is worked out
    once for each of their combinations.
    """

    def __init__(self, values: Mapping[str, Sequence[Any]], places: Mapping[str, Places]) -> None:
        self.values, self.places = values, places
        self.count = len(next(iter(places.values())))

    @classmethod
    def of(cls, configurations: Sequence[Configuration]) -> Table:
        """Those of configurations one by one."""
        values: dict[str, list[Any]] = {}
        places = {}
        for lever in LEVERS:
            index: dict[Any, int] = {}
            found = [index.setdefault(getattr(one, lever), len(index)) for one in configurations]
            values[lever], places[lever] = list(index), np.array(found, dtype=int)
        return cls(values, places)

    @classmethod
    def of_space(cls, space: Space) -> Table:
        """Those of a space in the order of its grid, but for those that a rule refuses."""
        values = {lever: list(dict.fromkeys(space.values[lever])) for lever in space.values}
        sizes = [len(one) for one in values.values()]
        places = np.unravel_index(np.arange(int(np.prod(sizes))), sizes)
        found = cls(values, dict(zip(values, places, strict=True)))
        kept = np.ones(found.count, dtype=bool)
        for rule in space.rules:
            few, which = found.distinct(rule.levers or tuple(values))
            refused = [rule.refuses(few.at(place)) for place in range(few.count)]
            kept &= ~np.array(refused, dtype=bool)[which]
        return found if kept.all() else found.take(np.flatnonzero(kept))

    def distinct(self, levers: Sequence[str]) -> tuple[Table, Places]:
        """Configurations that differ in these levers, each once, and which of them each is."""
        code = np.zeros(self.count, dtype=int)
        for lever in levers:
            code = code * len(self.values[lever]) + self.places[lever]
        found, back = _unique(code)
        first = np.zeros(len(found), dtype=int)
        # Of several the first remains, since it is written last.
        first[back[::-1]] = np.arange(self.count)[::-1]
        return self.take(first), back

    def take(self, which: Places | slice) -> Table:
        """Some of the configurations."""
        return Table(self.values, {lever: places[which] for lever, places in self.places.items()})

    def at(self, place: int) -> Configuration:
        """One configuration."""
        return Configuration(
            **{lever: self.values[lever][int(self.places[lever][place])] for lever in LEVERS}
        )

    def number(self, lever: str) -> Floats:
        """A lever that is a number; shape (n, 1)."""
        found: Floats = np.array(self.values[lever], dtype=float)[self.places[lever]][:, None]
        return found

    def each(
        self, levers: Sequence[str], make: Callable[..., Any], more: Places | None = None
    ) -> tuple[list[Any], Places]:
        """What `make` says of the values of these levers, and which of that each entry has.

        `more` are places of a further thing, which `make` is told first.
        """
        code = np.zeros(self.count, dtype=int) if more is None else more
        for lever in levers:
            code = code * len(self.values[lever]) + self.places[lever]
        found, back = _unique(code)
        made = []
        for one in found.tolist():
            told = []
            for lever in reversed(levers):
                one, place = divmod(one, len(self.values[lever]))
                told.append(self.values[lever][place])
            made.append(make(*([] if more is None else [one]), *reversed(told)))
        return made, back


@dataclass(frozen=True)
class Facts:
    """What a model knows beside its laws.

    `slots` are those that each unit of a tier has: streams beyond them wait. None where the compute
    has no sizes. `resting_tier` is the tier for which nothing is resized. `packed` is what packings
    do; others are taken for their mean. `luck` is how parts of a load differ.
    """

    known: Known
    slots: int | None = None
    resting_tier: str | None = None
    packed: Mapping[str, Packed] = field(default_factory=dict)
    luck: Luck = NO_LUCK


def columns_of(
    table: Table,
    volumes: Sequence[Volume],
    facts: Facts,
    which: Places | None = None,
    parts: Sequence[int] | None = None,
    fortunes: Sequence[Fortune] | None = None,
) -> Columns:
    """Columns for the laws. `which` tells the volume of each entry, all the first one where None.

    `parts` gives counts of parts that are known, one an entry of `volumes`, and `fortunes` what
    chance did to them in loading; else they are cut, and have the usual luck.
    """
    which = np.zeros(table.count, dtype=int) if which is None else which

    known: dict[tuple[int, int], tuple[tuple[float, int], ...]] = {}

    def pieces(place: int, part_size: int) -> tuple[tuple[float, int], ...]:
        if (place, part_size) not in known:
            count = None if parts is None else parts[place]
            known[place, part_size] = volumes[place].parts(part_size, count)
        return known[place, part_size]

    def filled(
        levers: Sequence[str], slots_of: Callable[..., int], loading: bool = False
    ) -> Filled:
        def one(place: int, part_size: int, *values: Any) -> Lanes:
            slots = slots_of(*values)
            if not loading:
                return lanes(pieces(place, part_size), slots)
            fortune = None if fortunes is None else fortunes[place]
            volume, batch = volumes[place], values[-1]
            row = volume.bytes / max(volume.rows, 1)
            return lanes(pieces(place, part_size), slots, facts.luck, fortune, batch * row)

        made, back = table.each(("part_size", *levers), one, which)
        told = np.array(
            [(one.parts, one.bytes, one.batches, one.busy, one.spread) for one in made], dtype=float
        )[back]
        count, volume, batches, busy, spread = (told[:, place : place + 1] for place in range(5))
        return Filled(count, volume / MB, volume * per_byte, batches, np.maximum(busy, 1), spread)

    def slots(streams: int, tier: str, batch_rows: int) -> int:
        return (
            streams if facts.slots is None else min(streams, max(tier_units(tier), 1) * facts.slots)
        )

    def places(kind: str) -> Places:
        levers, name = KINDS[kind]
        index = {value: place for place, value in enumerate(facts.known[kind])}
        made, back = table.each(levers, name)
        return np.array([index.get(one, -1) for one in made], dtype=int)[back]

    def number(made: Sequence[Any], back: Places) -> Floats:
        found: Floats = np.array(made, dtype=float)[back][:, None]
        return found

    size = number([volume.bytes for volume in volumes], which)
    rows = number([volume.rows for volume in volumes], which)
    per_byte = rows / np.maximum(size, 1)
    shares = {name: one.share for name, one in facts.packed.items()}
    usual = sum(shares.values()) / len(shares) if shares else 1.0
    packing, named = KINDS["packing"]
    counts = table.each(
        ("part_size",), lambda place, part: sum(n for _, n in pieces(place, part)), which
    )
    return Columns(
        parts=number(*counts),
        packed=number(*table.each(packing, lambda *one: shares.get(named(*one), usual))),
        unpacked=number(*table.each(("packing",), lambda packing: packing.codec != "none")),
        shaped=filled(("workers",), lambda workers: int(workers)),
        # Where no depot is named, a target that takes files is sent them by its own streams.
        shipped=filled(("transfer_streams", "load_streams"), lambda own, load: int(own or load)),
        loaded=filled(("load_streams", "tier", "batch_rows"), slots, loading=True),
        machines=table.number("machines"),
        resized=number(*table.each(("tier",), lambda tier: facts.resting_tier not in (None, tier))),
        total_mb=size / MB,
        total_rows=rows,
        kinds={kind: places(kind) for kind in KINDS},
    )
