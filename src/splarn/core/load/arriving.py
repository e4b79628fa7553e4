"""Parts that arrive while others are loaded: what a load is told of them, and tells about them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from splarn.core.load.request import Input
from splarn.core.load.task import PartResult
from splarn.core.source.content import Identity
from splarn.core.target.details import LoadDetails
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.work.activity import Activity
from splarn.core.work.feed import Feed


@dataclass
class Course:
    """With what a load goes on: whoever watches it may change that, and it follows.

    `most` is how many streams there are at most; `tier` is None where the compute stays as it is.
    `settled` are unpacked bytes of parts that go on as they were begun, whatever is changed, and
    `turns` how often a change was followed, where that takes time.
    """

    streams: int
    tier: str | None = None
    most: int = 0
    settled: int = 0
    turns: int | None = None

    def __post_init__(self) -> None:
        self.most = max(self.most, self.streams)


class Arrivals(Protocol):
    """Whoever makes and brings the parts of a load. All is told by the load's own thread.

    Inputs of the load's request are meanwhile the files that the parts are made of.
    """

    @property
    def feed(self) -> Feed[Input]:
        """Parts as they arrive, those that are already in left out."""

    @property
    def loads(self) -> Activity:
        """Told of each part that is being loaded."""

    @property
    def course(self) -> Course:
        """With how many streams, and on what tier, it is to go on."""

    def clocked(self, elapsed: float, busy: float) -> None:
        """By a clock of the target's own so many seconds have gone, so many of them in loading."""

    def begin(self, load_id: str, parts: Mapping[str, PartNote]) -> None:
        """The load is open, and these of its parts are noted: parts may come."""

    def await_enough(self) -> None:
        """Returns when enough has arrived to be worth a larger compute."""

    def loaded(self, entry: Input, result: PartResult) -> None:
        """A part is in."""

    def set_aside(self) -> int:
        """Rows that were bad already when parts were made, so far."""

    def already_in(self) -> list[tuple[Input, PartResult]]:
        """Parts that an earlier try had brought in, with what it found; once all have come."""

    def contents(self) -> Mapping[str, Identity]:
        """What each file of the delivery holds, by its path, once all has been read."""


def other_than(note: LoadNote, inputs: tuple[Input, ...], cut: str) -> str:
    """In what the files of a run, or the way that it cuts them, differ from a load's; '' if not.

    The same files cut in the same way give the same parts, so that one that is in is known again.
    """
    was = {name: (content, size) for name, content, size in note.details.sources}
    now = {str(one.path): one for one in inputs}
    for name in sorted({*was, *now}):
        if name not in was or name not in now:
            return f"{name} {'was not there then' if name in now else 'is gone since'}"
        content, size = was[name]
        if now[name].source.size != size or now[name].content.same(content) is False:
            return f"{name} was another file then"
    return "" if note.details.cut == cut else "its parts would be cut otherwise now"


def sealed(details: LoadDetails, parts: int, contents: Mapping[str, Identity]) -> LoadDetails:
    """What is noted of a load once all of its parts are known."""
    sources = tuple(
        (name, Identity(one.begins, contents[name].whole if name in contents else one.whole), size)
        for name, one, size in details.sources
    )
    return details.with_(part_count=parts, sources=sources)
