"""The hash of records in two levels, so that stretches of them that are read apart give one id."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

# Before the hash of all records of a content.
LEAVES = "leaves-128:"
# So small that little is read beyond a short part, so large that those of ten terabytes are held.
LEAF = 1 << 20
# Bytes that are kept of a leaf's hash.
KEPT = 8
# The first bytes of the records, which tell most contents apart before all of them are read.
FIRST = 1 << 20


@dataclass(frozen=True)
class Stretch:
    """The leaves that begin in a stretch of some records, one after the other.

    `first` is the number of the first one, `hashes` are 16 hex digits for each. `begins` is the
    hash of the first records where they are among them; `ends` says that nothing follows.
    """

    first: int
    hashes: str
    begins: str = ""
    ends: bool = False


class Leaves:
    """Hashes leaves of 1 MiB while bytes of some records pass, the first of them `at` so many.

    Bytes before the first leaf that begins here are passed over.
    """

    def __init__(self, at: int = 0) -> None:
        import xxhash

        self.first = math.ceil(at / LEAF)
        self._skip = self.first * LEAF - at
        self._state: Any = xxhash.xxh3_128()
        self._held = 0
        self._hashes: list[bytes] = []
        self._begins = ""

    def update(self, data: bytes | memoryview) -> None:
        """Takes the next bytes."""
        if self._skip:
            passed = min(self._skip, len(data))
            self._skip -= passed
            data = memoryview(data)[passed:]
        while len(data):
            begun = self._held < FIRST and self.first == 0 and not self._hashes
            room = (FIRST if begun else LEAF) - self._held
            if len(data) < room:
                self._state.update(data)
                self._held += len(data)
                return
            data = memoryview(data)
            self._state.update(data[:room])
            self._held += room
            if begun:
                self._begins = self._state.hexdigest()
            else:
                self._hashes.append(self._state.digest()[:KEPT])
                self._state.reset()
                self._held = 0
            data = data[room:]

    @property
    def begins(self) -> str:
        """The hash of the first MiB, or of all where that is less; of records from their start."""
        return self._begins or str(self._state.hexdigest())

    @property
    def content_id(self) -> str:
        """The id of the records so far; of records from their start."""
        import xxhash

        return LEAVES + str(xxhash.xxh3_128_hexdigest(b"".join(self._all())))

    def _all(self) -> list[bytes]:
        # Nothing at all is hashed too.
        bare = self.first == 0 and not self._hashes
        last = self._state.digest()[:KEPT]
        return [*self._hashes, last] if self._held or bare else self._hashes

    def stretch(self, ends: bool) -> Stretch:
        """What was found; `ends` says that no records follow."""
        # Beyond the first leaves nothing is something only where it was read.
        found = self._all() if self._held or self._hashes or ends else []
        return Stretch(
            self.first,
            b"".join(found).hex(),
            self.begins if self.first == 0 and found else "",
            ends,
        )


def joined(stretches: Collection[Stretch]) -> tuple[str, str] | None:
    """How some records begin (hex) and their id, of all stretches of them in any order.

    None where a leaf is missing.
    """
    import xxhash

    state, leaves, ends, begins = xxhash.xxh3_128(), 0, False, ""
    # One that holds no leaf stands where the next one begins.
    for one in sorted(stretches, key=lambda one: (one.first, one.ends, len(one.hashes))):
        if one.first != leaves or ends:
            return None
        state.update(bytes.fromhex(one.hashes))
        leaves += len(one.hashes) // (2 * KEPT)
        ends, begins = one.ends, begins or one.begins
    return (begins, LEAVES + state.hexdigest()) if ends and leaves else None


def whole_leaves(start: int, end: int | None, skip: int, size: int) -> int | None:
    """How far to read for the leaves that begin between `start` and `end`, in bytes of a file.

    The records begin at `skip`, the file has so many bytes. None is up to its end.
    """
    if end is None:
        return None
    at, until = max(start - skip, 0), max(end - skip, 0)
    if math.ceil(at / LEAF) * LEAF >= until:
        return end
    return min(skip + math.ceil(until / LEAF) * LEAF, size)


def cut_at(blocks: Iterator[bytes], start: int, end: int | None) -> Iterator[bytes]:
    """The blocks up to `end`, the first at `start`; those behind are read and not given."""
    for block in blocks:
        room = len(block) if end is None else end - start
        start += len(block)
        if room > 0:
            yield block if room >= len(block) else block[:room]
