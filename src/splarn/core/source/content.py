"""Content: which records a file holds, and whether two files hold some of the same."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

# Before the hash of all records of a content, and before that of its first ones.
WHOLE = "xxh3-128:"
BEGINS = "begins-128:"

Owner = TypeVar("Owner")


@dataclass(frozen=True)
class Identity:
    """What tells records from others, whatever the file's name and codec.

    `begins` is the hash of their first bytes, `whole` that of all; either is empty while unknown.
    """

    begins: str = ""
    whole: str = ""

    @property
    def name(self) -> str:
        """The most that is known, in one word."""
        return self.whole or self.begins

    def same(self, other: Identity) -> bool | None:
        """Whether the two are of the same records; None where that cannot be told yet."""
        if self.whole and other.whole:
            return self.whole == other.whole
        if self.begins and other.begins and self.begins != other.begins:
            return False
        return None


class Reading:
    """The hashes of a file's records while its blocks pass; `skip` bytes come before the first."""

    # The first bytes of the records, which tell most contents apart before all of them are read.
    first = 1 << 20

    def __init__(self, skip: int) -> None:
        import xxhash

        self._all: Any = xxhash.xxh3_128()
        self._first = ""
        self._skip = skip
        self.bytes = 0

    def unpacked(self, block: bytes) -> None:
        """Takes the next block."""
        if self._skip:
            passed = min(self._skip, len(block))
            self._skip -= passed
            block = block[passed:]
        if self.bytes < self.first <= self.bytes + len(block):
            until = self.first - self.bytes
            self._all.update(block[:until])
            self._first = self._all.hexdigest()
            self._all.update(block[until:])
        else:
            self._all.update(block)
        self.bytes += len(block)

    @property
    def begins(self) -> str:
        """The hash of the first records."""
        return BEGINS + (self._first or self._all.hexdigest())

    @property
    def content_id(self) -> str:
        """The hash of the records so far."""
        return WHOLE + str(self._all.hexdigest())

    @property
    def identity(self) -> Identity:
        """What is known when all have passed."""
        return Identity(self.begins, self.content_id)


# The content of files that hold a header at most.
NO_RECORDS = Reading(0).identity


@dataclass(frozen=True)
class Held:
    """A stretch of some content: unpacked bytes of the file that has it, or rows of a columnar one.

    `end` is None up to the content's own end.
    """

    content: Identity
    start: int = 0
    end: int | None = None

    def meets(self, other: Held) -> bool | None:
        """Whether the two have records in common; None where that cannot be told yet."""
        mine = self.end is None or other.start < self.end
        theirs = other.end is None or self.start < other.end
        return self.content.same(other.content) if mine and theirs else False


class Contents(Generic[Owner]):
    """Stretches of content by who brought them in, to be asked about quickly."""

    def __init__(self) -> None:
        self._by_whole: dict[str, list[tuple[Held, Owner]]] = {}
        # By how they begin: all of them, and those of which no more is known.
        self._by_begins: dict[str, list[tuple[Held, Owner]]] = {}
        self._only_begun: dict[str, list[tuple[Held, Owner]]] = {}

    def add(self, held: Iterable[Held], owner: Owner) -> None:
        """Notes what an owner holds."""
        for one in held:
            if one.content.whole:
                self._by_whole.setdefault(one.content.whole, []).append((one, owner))
            else:
                self._only_begun.setdefault(one.content.begins, []).append((one, owner))
            self._by_begins.setdefault(one.content.begins, []).append((one, owner))

    def owner(self, held: Iterable[Held]) -> tuple[Owner | None, bool]:
        """Who holds some of this already, None for nobody, and whether that is certain."""
        doubtful: Owner | None = None
        for one in held:
            for other, owner in self._near(one.content):
                meets = one.meets(other)
                if meets:
                    return owner, True
                if meets is None and doubtful is None:
                    doubtful = owner
        return doubtful, doubtful is None

    def _near(self, content: Identity) -> Iterator[tuple[Held, Owner]]:
        """All that might be the same."""
        if content.whole:
            yield from self._by_whole.get(content.whole, ())
        groups = self._only_begun if content.whole else self._by_begins
        for begins in {content.begins, ""} if content.begins else list(groups):
            yield from groups.get(begins, ())
