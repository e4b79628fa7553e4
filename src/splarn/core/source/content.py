"""Content: which records a file holds, and whether two files hold some of the same."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from splarn.core.source.leaves import LEAVES, Leaves, Stretch, joined

# Before the hash of the first records of a content, and before that of all as an earlier Splarn
# took it.
BEGINS = "begins-128:"
FLAT = "xxh3-128:"

Owner = TypeVar("Owner")


@dataclass(frozen=True)
class Identity:
    """What tells records from others, whatever the file's name and codec.

    `begins` is the hash of their first bytes, `whole` that of all; either is empty while unknown.
    `also` is what an earlier Splarn would call the whole, where that is known too.
    """

    begins: str = ""
    whole: str = ""
    also: str = field(default="", compare=False)

    @property
    def name(self) -> str:
        """The most that is known, in one word."""
        return self.whole or self.begins

    @property
    def names(self) -> tuple[str, ...]:
        """What the whole is called."""
        return tuple(one for one in (self.whole, self.also) if one)

    @property
    def only(self) -> str:
        """The one of two kinds of name that the whole has; empty where it has both or another."""
        kinds = [kind for kind in (FLAT, LEAVES) if any(map(_has(kind), self.names))]
        return kinds[0] if len(kinds) == 1 else ""

    def same(self, other: Identity) -> bool | None:
        """Whether the two are of the same records; None where that cannot be told yet."""
        if set(self.names) & set(other.names):
            return True
        if self.whole and other.whole and not {self.only, other.only} >= {FLAT, LEAVES}:
            return False
        if self.begins and other.begins and self.begins != other.begins:
            return False
        return None


def _has(kind: str) -> Callable[[str], bool]:
    return lambda name: name.startswith(kind)


class Reading:
    """The hashes of a file's records while its blocks pass; `skip` bytes come before the first."""

    def __init__(self, skip: int) -> None:
        import xxhash

        self._leaves = Leaves()
        self._flat: Any = xxhash.xxh3_128()
        self._skip = skip
        self.bytes = 0

    def unpacked(self, block: bytes) -> None:
        """Takes the next block."""
        if self._skip:
            passed = min(self._skip, len(block))
            self._skip -= passed
            block = block[passed:]
        self._leaves.update(block)
        self._flat.update(block)
        self.bytes += len(block)

    @property
    def begins(self) -> str:
        """The hash of the first records."""
        return BEGINS + self._leaves.begins

    @property
    def content_id(self) -> str:
        """The id of the records so far."""
        return self._leaves.content_id

    @property
    def flat(self) -> str:
        """The hash of all bytes so far as one, which an earlier Splarn took for the id."""
        return FLAT + str(self._flat.hexdigest())

    @property
    def identity(self) -> Identity:
        """What is known when all have passed."""
        return Identity(self.begins, self.content_id, self.flat)


def identity_of(stretches: Collection[Stretch]) -> Identity | None:
    """What is known of records by their stretches; None where some are missing."""
    found = joined(stretches)
    return None if found is None else Identity(BEGINS + found[0], found[1])


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
        # By how they begin: all of them, and those of which no more or only one name is known.
        self._by_begins: dict[str, list[tuple[Held, Owner]]] = {}
        self._by_kind: dict[str, dict[str, list[tuple[Held, Owner]]]] = {}

    def add(self, held: Iterable[Held], owner: Owner) -> None:
        """Notes what an owner holds."""
        for one in held:
            content = one.content
            for name in content.names:
                self._by_whole.setdefault(name, []).append((one, owner))
            kind = content.only if content.whole else ""
            if kind or not content.whole:
                groups = self._by_kind.setdefault(kind, {})
                groups.setdefault(content.begins, []).append((one, owner))
            self._by_begins.setdefault(content.begins, []).append((one, owner))

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
        for name in content.names:
            yield from self._by_whole.get(name, ())
        kinds = [self._by_begins]
        if content.whole:
            # Of what has no name of the same kind, only what the two begin with can be told.
            other = {FLAT: LEAVES, LEAVES: FLAT}.get(content.only)
            kinds = [self._by_kind.get(kind, {}) for kind in ("", other) if kind is not None]
        for groups in kinds:
            for begins in {content.begins, ""} if content.begins else list(groups):
                yield from groups.get(begins, ())
