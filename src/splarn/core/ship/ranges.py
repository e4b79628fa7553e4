"""A file that arrives in ranges, in any order: written aside, seen when it is whole and proven."""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path

from splarn.core.work.disk import ASIDE

Span = tuple[int, int]


def cut(size: int, piece: int) -> list[Span]:
    """Ranges of `piece` bytes that make up so many, the last one shorter; ends not belonging."""
    return [(first, min(first + piece, size)) for first in range(0, size, piece)]


def joined_spans(spans: Sequence[Span]) -> list[Span]:
    """The same bytes in as few ranges as they allow, in order."""
    spans_joined: list[Span] = []
    for first, end in sorted(spans):
        if spans_joined and first <= spans_joined[-1][1]:
            spans_joined[-1] = (spans_joined[-1][0], max(spans_joined[-1][1], end))
        elif end > first:
            spans_joined.append((first, end))
    return spans_joined


class Ranges:
    """Files on their way into folders. What has arrived is known for as long as this lives."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._there: dict[Path, list[Span]] = {}

    def held(self, path: Path, size: int, digest: str) -> list[Span]:
        """The ranges of this content that have arrived."""
        with self._lock:
            temporary = _aside(path, digest)
            return list(self._there.get(temporary, [])) if temporary.exists() else []

    def put(
        self, path: Path, blocks: Iterator[bytes], span: Span, size: int, digest: str
    ) -> bool | None:
        """Writes a range; True when the file is whole with it, False when it is another content.

        None while ranges are missing. Raises OSError when the disk refuses, ValueError when the
        blocks are not as many bytes as the range.
        """
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = _aside(path, digest)
        at = span[0]
        handle = os.open(temporary, os.O_WRONLY | os.O_CREAT, 0o666)
        try:
            for block in blocks:
                at += len(block)
                if at > span[1]:
                    break
                os.pwrite(handle, block, at - len(block))
        finally:
            os.close(handle)
        if at != span[1]:
            raise ValueError("the range is not as long as it was said to be")
        return self.arrived(path, span, size, digest)

    def arrived(self, path: Path, span: Span, size: int, digest: str) -> bool | None:
        """Notes a range that has been written; see `put`."""
        temporary = _aside(path, digest)
        with self._lock:
            there = joined_spans([*self._there.get(temporary, []), span])
            self._there[temporary] = there
            if there != [(0, size)]:
                return None
            del self._there[temporary]
            with temporary.open("rb") as file:
                os.fsync(file.fileno())
                right = hashlib.file_digest(file, "sha256").hexdigest() == digest
            if right:
                temporary.replace(path)
            else:
                temporary.unlink()
            return right


def _aside(path: Path, digest: str) -> Path:
    return path.with_name(f"{path.name}.{digest[:16]}{ASIDE}")
