"""Configurations, one choice of every lever, and the space they are chosen from."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import MISSING, dataclass, fields, replace
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
    from splarn.core.source.codecs import COLUMNAR, Packing, codecs

    if isinstance(text, Packing):
        return text
    name = str(text).strip().lower().partition(":")[0]
    return Packing.parse(str(text), name in COLUMNAR and name not in codecs())


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
    format: str = lever(
        "format",
        "Formats of parts: csv, jsonl, parquet (default: the source's own).",
        default="csv",
        metavar="NAMES",
        known=("csv", "jsonl", "parquet"),
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
    transfer_streams: int = lever(
        "transfer streams",
        "How many parts are shipped at once to the job's depot.",
        default=0,
        metavar="COUNTS",
        read=parse_count,
        show=lambda streams: str(streams) if streams else "none",
        defaults=(0,),
        least=0,
        unsaid=0,
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
    machines: int = lever(
        "machines",
        "How many machines of a cluster share the work, as 1,2,4.",
        default=1,
        metavar="COUNTS",
        read=parse_count,
        defaults=(1,),
        least=1,
        unsaid=1,
    )

    def as_json(self) -> dict[str, Any]:
        """All levers under their stable keys."""
        document = {one.key: getattr(self, name) for name, one in LEVERS.items()}
        document |= {"codec": self.packing.codec, "level": self.packing.level}
        return document

    @classmethod
    def defaults(cls) -> dict[str, Any]:
        """The usual values of levers that have one, by their keys."""
        usual = {one.name: one.default for one in fields(cls) if one.default is not MISSING}
        return {LEVERS[name].key: value for name, value in usual.items() if name in LEVERS}

    @classmethod
    def from_json(cls, document: Mapping[str, Any]) -> Configuration:
        """The reverse of `as_json`. Raises KeyError or TypeError for other documents."""
        from splarn.core.source.codecs import Packing

        given: dict[str, Any] = {}
        usual = cls.defaults()
        for name, one in LEVERS.items():
            # A lever that an earlier Splarn did not have had the usual value.
            old = one.key in usual and one.key not in document
            value = usual[one.key] if old else document[one.key]
            given[name] = RENAMED.get(value, value) if one.known else value
        given["packing"] = Packing(document["codec"], int(document["level"]))
        return cls(**given)

    def show(self, name: str) -> str:
        """A lever's value as a person writes it."""
        return LEVERS[name].show(getattr(self, name))

    def __str__(self) -> str:
        batch = f"{plural(self.batch_rows, 'row')} a batch" if self.batch_rows else "a batch a part"
        form = "" if self.format == "csv" else f"{self.format} "
        sent = [plural(self.transfer_streams, "transfer stream")] if self.transfer_streams else []
        usual = (
            f"{self.show('part_size')} parts", f"{form}{self.packing}",
            plural(self.workers, "worker"), *sent, plural(self.load_streams, "stream"), batch,
            self.tier, *([plural(self.machines, "machine")] if self.machines > 1 else []),
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
class Rule:
    """Why some configurations are left out: words for a person, and which they are.

    `levers` are those that it looks at, all where there are none.
    """

    reason: str
    refuses: Callable[[Configuration], bool]
    levers: tuple[str, ...] = ()


TOGETHER = Rule(DISAGREE.rstrip("."), lambda one: not one.agree, tuple(LOAD_LEVERS))


@dataclass(frozen=True)
class Space:
    """The values that each lever may take, by the lever's name, and rules for what cannot be.

    Raises RequestError when a lever has no value or one that makes no sense, or nothing is left.
    """

    values: Mapping[str, tuple[Any, ...]]
    rules: tuple[Rule, ...] = ()

    @classmethod
    def of(cls, given: Mapping[str, Sequence[Any]], format: str = "csv") -> Space:
        """A space out of what people write of some levers; the others have their defaults.

        `format` is that of parts where nothing is said of it.
        """
        usual = {name: one.defaults for name, one in LEVERS.items()} | {"format": (format,)}
        values = {
            name: tuple(
                dict.fromkeys(
                    value
                    for written in given.get(name, usual[name])
                    for value in one.values(written)
                )
            )
            for name, one in LEVERS.items()
        }
        return cls(values, (TOGETHER,))

    def without(self, rules: Sequence[Rule]) -> Space:
        """The same with further rules. Raises RequestError when they leave nothing."""
        return replace(self, rules=(*self.rules, *rules))

    def __post_init__(self) -> None:
        for name, values in self.values.items():
            if not values:
                raise RequestError(
                    f"{LEVERS[name].option}: the space has no {LEVERS[name].words}; give at least "
                    "one value."
                )
        if next(self.grid(), None) is None:
            reasons = "; ".join(reason for reason, _ in self.left_out())
            raise RequestError(f"Nothing of the space can be tried: {reasons}.")

    def grid(self) -> Iterator[Configuration]:
        """Every configuration of the space, but for those that a rule refuses."""
        return (one for one in self._all() if self.allows(one))

    def allows(self, one: Configuration) -> bool:
        """Whether no rule refuses a configuration."""
        return not any(rule.refuses(one) for rule in self.rules)

    def _all(self) -> Iterator[Configuration]:
        choices = product(*(dict.fromkeys(values) for values in self.values.values()))
        return (Configuration(**dict(zip(self.values, choice, strict=True))) for choice in choices)

    def left_out(self) -> list[tuple[str, int]]:
        """Why configurations are left out, and how many for each reason, the first that holds."""
        counts: dict[str, int] = {}
        for one in self._all():
            refusing = next((rule.reason for rule in self.rules if rule.refuses(one)), None)
            if refusing is not None:
                counts[refusing] = counts.get(refusing, 0) + 1
        return list(counts.items())

    @property
    def size(self) -> int:
        """How many configurations there are."""
        return sum(1 for _ in self.grid())

    def as_json(self) -> dict[str, Any]:
        """The values by the levers' keys."""
        return {
            LEVERS[name].key: [value if isinstance(value, int) else str(value) for value in values]
            for name, values in self.values.items()
        }
