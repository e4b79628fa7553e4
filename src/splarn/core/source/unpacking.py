"""Unpackers: packed bytes in, unpacked ones out in small pieces however much they swell."""

from __future__ import annotations

import bz2
import lzma
from collections.abc import Iterator
from typing import Any, Protocol

# The most that comes out at a time.
PIECE = 1 << 20


class Unpacker(Protocol):
    """Unpacks one frame. `ended` says that it is whole, `unused` is what came behind it."""

    ended: bool
    unused: bytes

    def feed(self, packed: bytes) -> Iterator[bytes]:
        """Takes packed bytes; to be drawn to its end before more are fed.

        Raises what the codec raises for bytes that it cannot read.
        """


class PlainUnpacker:
    """For bytes that are not packed; never asked."""

    ended = False
    unused = b""

    def feed(self, packed: bytes) -> Iterator[bytes]:
        """The bytes themselves."""
        yield packed


class GzipUnpacker:
    """A member of a gzip file (RFC 1952)."""

    def __init__(self) -> None:
        from isal import isal_zlib

        self._state: Any = isal_zlib.decompressobj(31)
        self.ended = False
        self.unused = b""

    def feed(self, packed: bytes) -> Iterator[bytes]:
        """See Unpacker."""
        while packed or not self.ended:
            data = self._state.decompress(packed, PIECE)
            packed = self._state.unconsumed_tail
            if data:
                yield data
            if self._state.eof:
                self.ended, self.unused = True, self._state.unused_data or b""
                return
            if not packed and len(data) < PIECE:
                return


class _Standard:
    """What bzip2, xz and lz4 have in common: a decompressor that holds back what is too much."""

    def __init__(self, state: Any) -> None:
        self._state = state
        self.ended = False
        self.unused = b""

    def feed(self, packed: bytes) -> Iterator[bytes]:
        """See Unpacker."""
        while True:
            data = self._state.decompress(packed, max_length=PIECE)
            packed = b""
            if data:
                yield data
            if self._state.eof:
                self.ended, self.unused = True, self._state.unused_data or b""
                return
            if self._state.needs_input:
                return


def bzip2_unpacker() -> Unpacker:
    """A stream of a bzip2 file."""
    return _Standard(bz2.BZ2Decompressor())


def xz_unpacker() -> Unpacker:
    """A stream of an xz file."""
    return _Standard(lzma.LZMADecompressor())


def lz4_unpacker() -> Unpacker:
    """An LZ4 frame."""
    import lz4.frame

    return _Standard(lz4.frame.LZ4FrameDecompressor())


class ZstdUnpacker:
    """A Zstandard frame (RFC 8878), handed on block by block.

    A block unpacks to 128 KiB at most, so following their headers bounds what comes out.
    """

    # Blocks unpacked at a time.
    AT_ONCE = PIECE >> 17

    def __init__(self) -> None:
        import zstandard

        self._state: Any = zstandard.ZstdDecompressor(max_window_size=1 << 31).decompressobj()
        self.ended = False
        self.unused = b""
        self._rest = b""
        # Bytes of the block at hand that are still to come, its header read.
        self._open = 0
        self._begun = False

    def feed(self, packed: bytes) -> Iterator[bytes]:
        """See Unpacker."""
        data = self._rest + packed if self._rest else packed
        self._rest = b""
        at = 0
        while at < len(data):
            end, whole = self._reach(data, at)
            if end == at and not whole:
                self._rest = data[at:]
                return
            unpacked = self._state.decompress(data[at:end])
            at = end
            if unpacked:
                yield unpacked
            if self._state.eof:
                self.ended = True
                self.unused = (self._state.unused_data or b"") + data[at:]
                return

    def _reach(self, data: bytes, at: int) -> tuple[int, bool]:
        """How far a few blocks reach; `at` itself where a header is still to come whole."""
        if self._open:
            end = min(at + self._open, len(data))
            self._open -= end - at
            return end, True
        end = at
        if not self._begun:
            length = _frame_header(data[at : at + 18])
            if length is None:
                return at, False
            if not length:
                # Not for us to follow: the decompressor says what is wrong.
                return len(data), True
            self._begun = True
            end += length
        for _ in range(self.AT_ONCE):
            header = data[end : end + 3]
            if len(header) < 3:
                break
            number = int.from_bytes(header, "little")
            last, kind, size = number & 1, number >> 1 & 3, number >> 3
            end += 3 + (1 if kind == 1 else size)
            if last:
                # A checksum may follow; the decompressor knows where the frame ends.
                end += 4
            if end >= len(data):
                self._open = end - len(data)
                return len(data), True
            if last:
                break
        return end, end > at


def _frame_header(data: bytes) -> int | None:
    """The bytes of a frame's header, None where more are needed, 0 where it is none."""
    if len(data) < 5:
        return None
    magic = int.from_bytes(data[:4], "little")
    if magic != 0xFD2FB528:
        return 0
    flags = data[4]
    content = (0, 2, 4, 8)[flags >> 6]
    single = flags >> 5 & 1
    if single and not content:
        content = 1
    length = 5 + (0 if single else 1) + (0, 1, 2, 4)[flags & 3] + content
    return length if len(data) >= length else None
