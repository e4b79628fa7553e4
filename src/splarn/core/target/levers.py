"""Levers: what may be chosen of a load, each said once in the field that holds its value.

Options, job keys, JSON, messages, spaces and plans all follow from what stands there.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from typing import Any

from splarn.core.errors import RequestError


@dataclass(frozen=True)
class Lever:
    """One lever. `words` name it in sentences, `key` in job files and `option` on command lines.

    `read` makes a value of what a person writes, `show` is the reverse. `defaults` are the values
    of a space that says nothing of it. `also` is an option's name of before, which is still taken.
    `known` are the only values, the first of which every target has; empty where there are too many
    to list. `least` is the smallest number it may be, `unsaid` a value that is not worth a word.
    """

    name: str
    words: str
    key: str
    option: str
    help: str
    metavar: str = "VALUES"
    read: Callable[[Any], Any] = str
    show: Callable[[Any], str] = str
    defaults: tuple[Any, ...] = ()
    known: tuple[str, ...] = ()
    least: int | None = None
    also: tuple[str, ...] = ()
    unsaid: Any = ...

    @property
    def usual(self) -> Any:
        """The value that is meant where nothing is said of a lever that names its values."""
        return self.known[0] if self.known else self.defaults[0]

    @property
    def is_number(self) -> bool:
        """Whether values have an order, so that there are some between and beyond those tried."""
        return self.least is not None

    def value(self, given: Any, where: str = "") -> Any:
        """What a person wrote, as a value.

        Raises RequestError where it can be none, naming the option unless it stood elsewhere.
        """
        where = where or self.option
        try:
            read = self.read(given)
        except RequestError as error:
            raise RequestError(f"{where}: {error}") from None
        if self.known and read not in self.known:
            raise RequestError(
                f"{where}: the {self.words} {read!r} is not known; use {', '.join(self.known)}."
            )
        if self.least is not None and read < self.least:
            raise RequestError(
                f"{where}: the {self.words} {read} is too small; it must be {self.least} or more."
            )
        return read

    def values(self, given: Any, where: str = "") -> tuple[Any, ...]:
        """The same of what may be a range, as 1..16: both ends, and between them doublings.

        Raises RequestError where it can be none.
        """
        if not self.is_number or not isinstance(given, str) or ".." not in given:
            return (self.value(given, where),)
        first, _, last = given.partition("..")
        low, high = self.value(first.strip(), where), self.value(last.strip(), where)
        if low < 1 or high < low:
            raise RequestError(
                f"{where or self.option}: the range {given!r} goes nowhere; write a smaller value "
                "above 0, two points and a larger one, as 1..16."
            )
        between = []
        while low < high:
            between.append(low)
            low *= 2
        return (*between, high)


def lever(words: str, help: str, *, default: Any = ..., **more: Any) -> Any:
    """A dataclass's field that holds the value of a lever.

    Its key and option follow from the words unless they are given.
    """
    made = {"words": words, "help": help, "key": words.replace(" ", "_"), **more}
    made.setdefault("option", f"--{made['key'].replace('_', '-')}")
    metadata = {"lever": made}
    return field(metadata=metadata) if default is ... else field(default=default, metadata=metadata)


def levers_in(kind: type) -> dict[str, Lever]:
    """The levers that a dataclass holds, by the names of its fields."""
    described = {one.name: one.metadata.get("lever") for one in fields(kind)}
    return {name: Lever(name=name, **made) for name, made in described.items() if made is not None}


def _file_layout(given: Any) -> str:
    from splarn.core.layout.file_layout import read_file_layout

    return read_file_layout(str(given)).text()


@dataclass(frozen=True, order=True, kw_only=True)
class LoadLevers:
    """How a load writes; engines have some of the values."""

    # Full makes each commit safe before the next batch. Relaxed lets a power cut take the last
    # commits back, rows and notes alike. None skips the log in a landing table, which the rows
    # leave with one safe commit.
    durability: str = lever(
        "durability",
        "How safe commits are: full, relaxed, or none over a landing table.",
        default="full",
        known=("full", "relaxed", "none"),
        defaults=("full",),
    )
    # Rebuild drops those that refuse nothing and makes them again at the end.
    indexes: str = lever(
        "indexes",
        "Of indexes that refuse nothing: keep, or rebuild at the end.",
        default="keep",
        known=("keep", "rebuild"),
        defaults=("keep",),
    )
    # Landing gathers the rows in a table of their own, which is verified and then moved over in
    # one set.
    route: str = lever(
        "route",
        "Rows go straight into the table, or over a landing table that is verified first.",
        default="straight",
        known=("straight", "landing"),
        defaults=("straight",),
    )

    # Any text that is a layout of files, of which there are too many to list.
    file_layout: str = lever(
        "file layout",
        "How files of a lake table are laid out, as month(taken) sort(gauge) zstd(6) 128MiB.",
        default="plain",
        read=_file_layout,
        metavar="LAYOUTS",
        defaults=("plain",),
        unsaid="plain",
    )

    @property
    def agree(self) -> bool:
        """Whether the values go together: only a landing table may skip the log."""
        return self.durability != "none" or self.route == "landing"

    @property
    def load_levers(self) -> LoadLevers:
        """These alone, where there are more."""
        return LoadLevers(**{name: getattr(self, name) for name in LOAD_LEVERS})

    def unusual(self) -> list[str]:
        """The values that are not the usual ones, with their levers."""
        return [
            f"{one.words} {getattr(self, name)}"
            for name, one in LOAD_LEVERS.items()
            if getattr(self, name) != one.usual
        ]


LOAD_LEVERS: dict[str, Lever] = levers_in(LoadLevers)
# Values as earlier notes, ledgers and plans have them.
RENAMED = {"direct": "straight", "unlogged": "none"}
DISAGREE = "Durability none is for landing tables: give --route landing with it, so that the "
DISAGREE += "table itself stays safe."


def way_of_writing(levers: LoadLevers) -> str:
    """The load levers' values taken together, as one name."""
    return shown_way(*(getattr(levers, name) for name in LOAD_LEVERS))


def shown_way(*values: str) -> str:
    """The same of the values alone, but for those that are not worth a word."""
    told = zip(LOAD_LEVERS.values(), values, strict=True)
    return ", ".join(f"{one.name} {value}" for one, value in told if value != one.unsaid)
