"""Configurations, one choice of every lever, and the space they are chosen from."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.target.levers import (
    DISAGREE,
    LOAD_LEVERS,
    RENAMED,
    Lever,
    LoadLevers,
    lever,
    levers_in,
)
from splarn.core.units import exact_size, parse_count, parse_size, plural, show_count

if TYPE_CHECKING:
    from splarn.core.source.codecs import Packing


def _packing(text: str | Packing) -> Packing:
    # Only what asks for codecs pays for their libraries.
    from splarn.core.source.codecs import Packing

    return text if isinstance(text, Packing) else Packing.parse(str(text))


@dataclass(frozen=True, order=True, kw_only=True)
class Configuration(LoadLevers):
    """One choice of every lever; each field that is one says so."""

    part_size: int = lever(
        "part size",
        "Unpacked part sizes, as 4MiB,16MiB or 1MiB..64MiB.",
        metavar="SIZES",
        read=parse_size,
        show=exact_size,
        defaults=("8MiB", "32MiB"),
        least=1024,
    )
    packing: Packing = lever(  # noqa: RUF009
        "codec",
        "Codecs with their levels, as none,zstd:3.",
        metavar="NAMES",
        read=_packing,
        defaults=("none", "zstd:1"),
    )
    workers: int = lever(
        "workers",
        "How many make parts at once, as 1,2 or 1..8.",
        metavar="COUNTS",
        read=parse_count,
        defaults=(2,),
        least=1,
    )
    load_streams: int = lever(
        "load streams",
        "How many connections load at once, as 1,2,4 or 1..16.",
        metavar="COUNTS",
        also=("--streams",),
        read=parse_count,
        defaults=(1, 2, 4),
        least=1,
    )
    batch_rows: int = lever(
        "batch rows",
        "Rows a batch, as 10k,100k; 0 is a whole part.",
        metavar="COUNTS",
        read=parse_count,
        show=lambda rows: show_count(rows) if rows else "whole",
        defaults=("20_000", "100_000"),
        least=0,
    )
    tier: str = lever(
        "tier", "Compute sizes, as u1,u5,u20.", metavar="NAMES", default="u1", defaults=("u1",)
    )
    # Of the parts; not a lever yet.
    format: str = "csv"

    def as_json(self) -> dict[str, Any]:
        """All levers under their stable keys."""
        document = {one.key: getattr(self, name) for name, one in LEVERS.items()}
        document |= {"codec": self.packing.codec, "level": self.packing.level}
        return document | {"format": self.format}

    @classmethod
    def from_json(cls, document: Mapping[str, Any]) -> Configuration:
        """The reverse of `as_json`. Raises KeyError or TypeError for other documents."""
        from splarn.core.source.codecs import Packing

        given: dict[str, Any] = {"format": str(document.get("format", "csv"))}
        for name, one in LEVERS.items():
            # A lever that an earlier Splarn did not have had the usual value.
            value = document.get(one.key, one.known[0]) if one.known else document[one.key]
            given[name] = RENAMED.get(value, value) if one.known else value
        given["packing"] = Packing(document["codec"], int(document["level"]))
        return cls(**given)

    def show(self, name: str) -> str:
        """A lever's value as a person writes it."""
        return LEVERS[name].show(getattr(self, name))

    def __str__(self) -> str:
        batch = f"{plural(self.batch_rows, 'row')} a batch" if self.batch_rows else "a batch a part"
        usual = (
            f"{self.show('part_size')} parts", str(self.packing), plural(self.workers, "worker"),
            plural(self.load_streams, "stream"), batch, self.tier,
        )  # fmt: skip
        return ", ".join((*usual, *self.unusual()))


# How the trials of a sweep are chosen, and the expected regret, as a share of time or cost, below
# which more of them are not worth their time.
STRATEGIES = ("adaptive", "star", "grid")
REGRET = 0.02

# In the order in which people go through them: what is prepared, how it is loaded, how it writes.
LEVERS: dict[str, Lever] = dict(
    sorted(levers_in(Configuration).items(), key=lambda item: item[0] in LOAD_LEVERS)
)


@dataclass(frozen=True)
class Space:
    """The values that each lever may take, by the lever's name.

    Raises RequestError when a lever has no value or one that makes no sense.
    """

    values: Mapping[str, tuple[Any, ...]]
    format: str = "csv"

    @classmethod
    def of(cls, given: Mapping[str, Sequence[Any]], format: str = "csv") -> Space:
        """A space out of what people write of some levers; the others have their defaults."""
        values = {
            name: tuple(
                dict.fromkeys(
                    value
                    for written in given.get(name, one.defaults)
                    for value in one.values(written)
                )
            )
            for name, one in LEVERS.items()
        }
        return cls(values, format)

    def __post_init__(self) -> None:
        for name, values in self.values.items():
            if not values:
                raise RequestError(
                    f"{LEVERS[name].option}: the space has no {LEVERS[name].words}; give at least "
                    "one value."
                )
        if not self.size:
            raise RequestError(DISAGREE)

    def grid(self) -> Iterator[Configuration]:
        """Every configuration of the space, but for those whose levers do not agree."""
        choices = product(*(dict.fromkeys(values) for values in self.values.values()))
        every = (
            Configuration(**dict(zip(self.values, choice, strict=True)), format=self.format)
            for choice in choices
        )
        return (one for one in every if one.agree)

    @property
    def size(self) -> int:
        """How many configurations there are."""
        return sum(1 for _ in self.grid())

    def as_json(self) -> dict[str, Any]:
        """The values by the levers' keys."""
        document: dict[str, Any] = {
            LEVERS[name].key: [value if isinstance(value, int) else str(value) for value in values]
            for name, values in self.values.items()
        }
        return {**document, "format": self.format}
