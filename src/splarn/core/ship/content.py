"""A file's bytes in blocks, and the digest that both ends must have of them."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from splarn.core.source.places import Place, blocks_in, open_place


def blocks_of(source: Place, first: int = 0, size: int | None = None) -> Iterator[bytes]:
    """The bytes of a file from a position on, all or so many of them."""
    with open_place(source) as file:
        yield from blocks_in(file, first, None if size is None else first + size)


def digest_of(blocks: Iterator[bytes]) -> tuple[str, int]:
    """The SHA-256 of bytes in hex, and how many they are."""
    state, size = hashlib.sha256(), 0
    for block in blocks:
        state.update(block)
        size += len(block)
    return state.hexdigest(), size
