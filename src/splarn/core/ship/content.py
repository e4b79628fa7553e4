"""A file's bytes in blocks, and the digest that both ends must have of them."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from typing import IO

from splarn.core.places import Place, open_place

BLOCK = 256 << 10


def blocks_of(source: Place, first: int = 0, size: int | None = None) -> Iterator[bytes]:
    """The bytes of a file from a position on, all or so many of them."""
    with open_place(source) as file:
        yield from blocks_in(file, first, None if size is None else first + size)


def blocks_in(file: IO[bytes], first: int = 0, end: int | None = None) -> Iterator[bytes]:
    """The bytes of an open file from a position up to another, or to its own end."""
    if first:
        file.seek(first)
    left = None if end is None else end - first
    while left is None or left > 0:
        block = file.read(BLOCK if left is None else min(BLOCK, left))
        if not block:
            return
        left = None if left is None else left - len(block)
        yield block


def digest_of(blocks: Iterator[bytes]) -> tuple[str, int]:
    """The SHA-256 of bytes in hex, and how many they are."""
    state, size = hashlib.sha256(), 0
    for block in blocks:
        state.update(block)
        size += len(block)
    return state.hexdigest(), size
