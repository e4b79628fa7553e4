"""The hash of a file's bytes up to wherever a commit is, so that resuming knows what is in."""

from __future__ import annotations

from typing import Any

from splarn.core.reading.parsed import Parsed


class Prefix:
    """Follows the chunks of one file; of a columnar file, whose positions are rows, nothing."""

    def __init__(self) -> None:
        import xxhash

        self._state: Any = xxhash.xxh3_128()
        # The hash before each chunk that is not committed whole, by the chunk's offset.
        self._before: dict[int, Any] = {}
        # Where the last question was, to go on from there.
        self._last: tuple[int, int, Any] | None = None

    def pass_on(self, parsed: Parsed) -> None:
        """Takes the next chunk."""
        if parsed.chunk is not None:
            self._before[parsed.offset] = self._state.copy()
            self._state.update(parsed.chunk.data)

    def at(self, parsed: Parsed, position: int) -> str:
        """The hash up to a position in a chunk that was passed on, or at its end."""
        if parsed.chunk is None or parsed.offset not in self._before:
            return ""
        known, done = self._before[parsed.offset].copy(), 0
        if self._last is not None and self._last[0] == parsed.offset:
            upto = self._last[1]
            if upto <= position:
                known, done = self._last[2].copy(), upto - parsed.offset
        known.update(memoryview(parsed.chunk.data)[done : position - parsed.offset])
        self._last = (parsed.offset, position, known)
        return str(known.hexdigest())

    def divides(self, parsed: Parsed, position: int) -> bool:
        """Whether a position in a chunk lies between two records, and not within one."""
        if parsed.chunk is None or position in (parsed.offset, parsed.end):
            return True
        at = position - parsed.offset
        return bool((parsed.chunk.starts == at).any() or (parsed.chunk.ends == at).any())

    def forget(self, position: int) -> None:
        """Forgets chunks that are wholly committed, but for the last one."""
        for offset in [one for one in self._before if one < position][:-1]:
            del self._before[offset]
