"""What plain files hold, told while ranges of them are read for something else."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from splarn.core.source.codecs import BLOCK, read_blocks
from splarn.core.source.leaves import Leaves, Stretch, cut_at, whole_leaves
from splarn.core.source.places import Place, key_of


@dataclass(frozen=True)
class Extent:
    """Where the records of a plain text file begin, and the file's size, both in bytes."""

    skip: int
    size: int


class Passing:
    """Reads files as `read_blocks` does; of those of known extent the leaves that begin are hashed.

    For these it is read up to a leaf's length past the end of a range. `stretches` has what was
    found, by the key of the file's place, of ranges that were read to their ends.
    """

    def __init__(self, extents: Mapping[str, Extent]) -> None:
        self._extents = extents
        self.stretches: list[tuple[str, Stretch]] = []

    def read(
        self,
        path: Place,
        codec: str,
        start: int = 0,
        end: int | None = None,
        block: int = BLOCK,
        taken: Callable[[int], object] | None = None,
    ) -> Iterator[bytes]:
        """The blocks of a range. Raises OutsideError as `read_blocks` does."""
        key = key_of(path)
        extent = self._extents.get(key) if codec == "none" else None
        if extent is None:
            return read_blocks(path, codec, start, end, block, taken)
        return cut_at(self._read(path, extent, start, end, block), start, end)

    def _read(
        self, path: Place, extent: Extent, start: int, end: int | None, block: int
    ) -> Iterator[bytes]:
        skip = extent.skip
        leaves = Leaves(max(start - skip, 0))
        before = max(skip - start, 0)
        for data in read_blocks(
            path, "none", start, whole_leaves(start, end, skip, extent.size), block
        ):
            passed = min(before, len(data))
            before -= passed
            leaves.update(memoryview(data)[passed:])
            yield data
        self.stretches.append((key_of(path), leaves.stretch(end is None or end >= extent.size)))
