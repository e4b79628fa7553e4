"""Configurations, one choice of every lever, and the space they are chosen from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, fields, replace
from itertools import product
from typing import Any

from splarn.core.codecs import Packing
from splarn.core.errors import RequestError
from splarn.core.levers import LOAD_LEVERS, LoadLevers
from splarn.core.units import exact_size, plural, show_count

LEVERS = {
    "part_size": "part size",
    "packing": "codec",
    "workers": "workers",
    "load_streams": "load streams",
    "batch_rows": "batch rows",
    "tier": "tier",
    "durability": "durability",
    "indexes": "indexes",
    "route": "route",
}


@dataclass(frozen=True, order=True)
class Configuration:
    """One choice of every lever. `part_size` counts unpacked bytes.

    `batch_rows` 0 means one commit a part.
    """

    part_size: int
    packing: Packing
    workers: int
    load_streams: int
    batch_rows: int
    tier: str = "u1"
    durability: str = "full"
    indexes: str = "keep"
    route: str = "direct"
    # Of the parts; not a lever yet.
    format: str = "csv"

    @property
    def load_levers(self) -> LoadLevers:
        """How the load writes."""
        return LoadLevers(self.durability, self.indexes, self.route)

    def as_json(self) -> dict[str, Any]:
        """All levers under their stable keys."""
        return {
            "part_size": self.part_size,
            "format": self.format,
            "codec": self.packing.codec,
            "level": self.packing.level,
            "workers": self.workers,
            "load_streams": self.load_streams,
            "batch_rows": self.batch_rows,
            "tier": self.tier,
            "durability": self.durability,
            "indexes": self.indexes,
            "route": self.route,
        }

    @classmethod
    def from_json(cls, document: dict[str, Any]) -> Configuration:
        """The reverse of `as_json`. Raises KeyError or TypeError for other documents."""
        return cls(
            int(document["part_size"]),
            Packing(document["codec"], int(document["level"])),
            int(document["workers"]),
            int(document["load_streams"]),
            int(document["batch_rows"]),
            str(document["tier"]),
            format=str(document.get("format", "csv")),
            **{lever: str(document.get(lever, known[0])) for lever, known in LOAD_LEVERS.items()},
        )

    def show(self, lever: str) -> str:
        """A lever's value as a person writes it."""
        value = getattr(self, lever)
        if lever == "part_size":
            return exact_size(value)
        if lever == "batch_rows":
            return show_count(value) if value else "whole part"
        return str(value)

    def __str__(self) -> str:
        batch = f"{self.batch_rows:,} rows a batch" if self.batch_rows else "a batch a part"
        return (
            f"{self.show('part_size')} parts, {self.packing}, {plural(self.workers, 'worker')}, "
            f"{plural(self.load_streams, 'stream')}, {batch}, {self.tier}"
        ) + "".join(
            f", {lever} {value}"
            for lever, known in LOAD_LEVERS.items()
            if (value := getattr(self, lever)) != known[0]
        )


@dataclass(frozen=True)
class Space:
    """The values each lever may take.

    Raises RequestError when a lever has no value or one that makes no sense.
    """

    part_size: tuple[int, ...]
    packing: tuple[Packing, ...]
    workers: tuple[int, ...]
    load_streams: tuple[int, ...]
    batch_rows: tuple[int, ...]
    tier: tuple[str, ...] = ("u1",)
    durability: tuple[str, ...] = ("full",)
    indexes: tuple[str, ...] = ("keep",)
    route: tuple[str, ...] = ("direct",)
    format: str = "csv"

    def __post_init__(self) -> None:
        for lever in self._levers:
            values = getattr(self, lever.name)
            what = LEVERS[lever.name]
            if not values:
                raise RequestError(f"The space has no value for {what}: give at least one.")
            least = {"part_size": 1024, "workers": 1, "load_streams": 1, "batch_rows": 0}
            if lever.name in least and min(values) < least[lever.name]:
                raise RequestError(
                    f"The {what} {min(values)} is too small: it must be {least[lever.name]} or "
                    "more."
                )
            unknown = [v for v in values if v not in LOAD_LEVERS.get(lever.name, values)]
            if unknown:
                known = ", ".join(LOAD_LEVERS[lever.name])
                raise RequestError(f"The {what} {unknown[0]!r} is not known: use {known}.")
        if not self.size:
            raise RequestError(
                "Durability unlogged is for landing tables: give route landing with it."
            )

    def grid(self) -> Iterator[Configuration]:
        """Every configuration of the space; an unlogged load that goes direct is none."""
        levers = (getattr(self, lever.name) for lever in self._levers)
        choices = product(*map(_unique, levers))
        every = (replace(Configuration(*choice), format=self.format) for choice in choices)
        return (one for one in every if one.load_levers.agree)

    @property
    def size(self) -> int:
        """How many configurations there are."""
        return sum(1 for _ in self.grid())

    def as_json(self) -> dict[str, Any]:
        """The values by lever."""
        document = asdict(self)
        document["packing"] = [str(packing) for packing in self.packing]
        return {
            key: value if isinstance(value, str) else list(value) for key, value in document.items()
        }

    @property
    def _levers(self) -> list[Any]:
        return [lever for lever in fields(self) if lever.name in LEVERS]


def _unique(values: tuple[Any, ...]) -> list[Any]:
    return list(dict.fromkeys(values))
