"""Codecs: how bytes are packed and unpacked, and how packed bytes are recognised."""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Protocol

from splarn.core.errors import OutsideError, RequestError
from splarn.core.source.forms import reshaped
from splarn.core.source.places import Place, blocks_in, open_place
from splarn.core.source.unpacking import (
    GzipUnpacker,
    PlainUnpacker,
    Unpacker,
    ZstdUnpacker,
    bzip2_unpacker,
    lz4_unpacker,
    xz_unpacker,
)
from splarn.core.work import plugins
from splarn.core.work.disk import outside
from splarn.core.work.words import nearest

BLOCK = 1 << 20
# Records repeat in long stretches: at the fast levels, longer matches and tables that stay in the
# cache pack them as well as the level's own setting, in less time.
_TUNED: dict[int, dict[str, int]] = {
    1: {"min_match": 7},
    2: {"min_match": 7},
    3: {"min_match": 7, "hash_log": 15, "chain_log": 14},
    4: {"min_match": 7},
}
# Packed bytes read at a time: a block may unpack to many times its size.
PACKED_BLOCK = 1 << 18


class Packer(Protocol):
    """Packs a stream of bytes piece by piece."""

    def compress(self, data: Any, /) -> bytes: ...

    def flush(self) -> bytes: ...


@dataclass(frozen=True)
class Codec:
    """One way of packing bytes. `levels` is the inclusive range that may be asked for."""

    name: str
    suffix: str
    magic: bytes
    levels: tuple[int, int]
    default_level: int
    packer: Callable[[int], Packer]
    unpacker: Callable[[], Unpacker]


class _Plain:
    def compress(self, data: Any) -> bytes:
        return bytes(data)

    def flush(self) -> bytes:
        return b""


def _gzip_packer(level: int) -> Packer:
    # ISA-L is several times faster than zlib, but knows only the fast levels.
    if level <= 3:
        from isal import isal_zlib

        packer: Packer = isal_zlib.compressobj(level, isal_zlib.DEFLATED, 31)
        return packer
    return zlib.compressobj(level, zlib.DEFLATED, 31)


def _zstd_packer(level: int) -> Packer:
    import zstandard

    if level not in _TUNED:
        return zstandard.ZstdCompressor(level=level).compressobj()
    settings = zstandard.ZstdCompressionParameters.from_level(level, **_TUNED[level])
    return zstandard.ZstdCompressor(compression_params=settings).compressobj()


def _xz_packer(level: int) -> Packer:
    return lzma.LZMACompressor(preset=level)


class _Lz4Packer:
    """LZ4 frames; the frame is begun with the first bytes."""

    def __init__(self, level: int) -> None:
        import lz4.frame

        # Blocks that refer back pack better, and readers stream them all the same.
        self._frame = lz4.frame.LZ4FrameCompressor(compression_level=level, block_linked=True)
        self._begun = False

    def compress(self, data: Any) -> bytes:
        return self._begin() + bytes(self._frame.compress(data))

    def flush(self) -> bytes:
        return self._begin() + bytes(self._frame.flush())

    def _begin(self) -> bytes:
        if self._begun:
            return b""
        self._begun = True
        return bytes(self._frame.begin())


# Splarn's own; a line a codec is all that it takes.
_OWN = (
    Codec("none", "", b"", (0, 0), 0, lambda level: _Plain(), PlainUnpacker),
    Codec("gzip", ".gz", b"\x1f\x8b", (1, 9), 1, _gzip_packer, GzipUnpacker),
    Codec("zstd", ".zst", b"\x28\xb5\x2f\xfd", (1, 19), 1, _zstd_packer, ZstdUnpacker),
    Codec("lz4", ".lz4", b"\x04\x22\x4d\x18", (0, 12), 0, _Lz4Packer, lz4_unpacker),
    Codec("bzip2", ".bz2", b"BZh", (1, 9), 9, bz2.BZ2Compressor, bzip2_unpacker),
    Codec("xz", ".xz", b"\xfd7zXZ\0", (0, 9), 1, _xz_packer, xz_unpacker),
)


@lru_cache(maxsize=1)
def codecs() -> dict[str, Codec]:
    """All codecs by name: Splarn's own and those that packages bring."""
    others = (plugins.load(plugins.CODECS, name) for name in plugins.names(plugins.CODECS))
    return {codec.name: codec for codec in (*others, *_OWN)}


# What Parquet packs its pages with, and the levels of each.
COLUMNAR: dict[str, tuple[int, int]] = {
    "none": (0, 0),
    "zstd": (1, 19),
    "gzip": (1, 9),
    "lz4": (0, 0),
    "snappy": (0, 0),
    "brotli": (1, 11),
}


@dataclass(frozen=True, order=True)
class Packing:
    """A codec at a level, written `gzip:1`."""

    codec: str = "none"
    level: int = 0

    @classmethod
    def of_parts(cls, given: str | Packing | None, format_: str) -> Packing:
        """How parts of a format are packed: as given, or as they usually are.

        Raises RequestError as `parse` does.
        """
        if isinstance(given, Packing):
            return given
        columnar = format_ == "parquet"
        return cls.parse(given or ("zstd:1" if columnar else "none"), columnar)

    @classmethod
    def parse(cls, text: str, columnar: bool = False) -> Packing:
        """Reads `none`, `gzip` or `zstd:3`; `columnar` takes the codecs of Parquet instead.

        Raises RequestError for an unknown codec or a level outside its range.
        """
        name, _, level_text = text.strip().lower().partition(":")
        known = COLUMNAR if columnar else {name: codec.levels for name, codec in codecs().items()}
        if name not in known:
            where = "inside Parquet " if columnar and name in codecs() else ""
            raise RequestError(
                f"The codec {name!r} is not known {where}here{nearest(name, known)}: use "
                f"{', '.join(known)}."
            )
        low, high = known[name]
        default = codecs()[name].default_level if name in codecs() else low
        try:
            level = int(level_text) if level_text else min(max(default, low), high)
        except ValueError:
            level = -1
        if not low <= level <= high:
            allowed = f"a level from {low} to {high}" if high else "no level"
            raise RequestError(f"{name} cannot have level {level_text!r}: it takes {allowed}.")
        return cls(name, level)

    def __str__(self) -> str:
        return f"{self.codec}:{self.level}" if self.level else self.codec


def detect_codec(head: bytes) -> str:
    """The codec that a file's first bytes speak of; `none` when they speak of no codec."""
    for magic, name in _magics():
        if head.startswith(magic):
            return name
    return "none"


@lru_cache(maxsize=1)
def _magics() -> tuple[tuple[bytes, str], ...]:
    return tuple((codec.magic, codec.name) for codec in codecs().values() if codec.magic)


@lru_cache(maxsize=1)
def _suffixes() -> dict[str, str]:
    # Of two with the same ending the first is taken.
    every = reversed(codecs().values())
    return {codec.suffix: codec.name for codec in every if codec.suffix}


def codec_by_name(path: Place) -> str:
    """The codec that a file's name speaks of."""
    _, dot, ending = path.name.rpartition(".")
    return _suffixes().get(f"{dot}{ending.lower()}", "none")


def codec_of(path: Place) -> str:
    """The codec of a file by its content.

    Raises OutsideError when the file cannot be read.
    """
    with outside(f"Reading {path}"), open_place(path) as file:
        return detect_codec(file.read(8))


def read_blocks(
    path: Place,
    codec: str,
    start: int = 0,
    end: int | None = None,
    block: int = BLOCK,
    taken: Callable[[int], object] | None = None,
    passing: Callable[[bytes], object] | None = None,
) -> Iterator[bytes]:
    """Unpacked blocks of a file; `start` and `end` count unpacked bytes.

    Behind the codec's name, forms may follow, each after a plus, that the text is given then.
    `taken` is told how many bytes are read of a packed file, as it goes; `passing` is given the
    bytes themselves as they are on disk, of a plain file too.
    Raises OutsideError when the file cannot be read or its packing is damaged.
    """
    packing, *forms = codec.split("+")
    if codec == "none":
        for data in _read_plain(path, start, end, block):
            if passing is not None:
                passing(data)
            yield data
        return
    position = 0
    if packing == "none":
        blocks = _told(_read_plain(path, 0, None, block), taken, passing)
    else:
        blocks = _unpack(path, codecs()[packing], block, taken, passing)
    for data in reshaped(blocks, forms) if forms else blocks:
        low, high = max(start - position, 0), len(data)
        if end is not None:
            high = min(high, end - position)
        position += len(data)
        if low < high:
            yield data[low:high] if (low, high) != (0, len(data)) else data
        if end is not None and position >= end:
            return


def _told(
    blocks: Iterator[bytes],
    taken: Callable[[int], object] | None,
    passing: Callable[[bytes], object] | None,
) -> Iterator[bytes]:
    for data in blocks:
        if taken is not None:
            taken(len(data))
        if passing is not None:
            passing(data)
        yield data


# A head of fewer bytes is not yet one, where there are more.
LEAST_HEAD = 4096


def head_of(path: Place, codec: str, size: int) -> bytes:
    """The first unpacked bytes of a file, about one block; the file is closed when this returns.

    Raises OutsideError as `read_blocks` does.
    """
    blocks = read_blocks(path, codec, 0, size)
    try:
        head = next(blocks, b"")
        # What holds lines back, since a file's last ones are no records, may begin with very few.
        while 0 < len(head) < LEAST_HEAD and (more := next(blocks, b"")):
            head += more
        return head
    finally:
        blocks.close()  # type: ignore[attr-defined]


def _read_plain(path: Place, start: int, end: int | None, block: int) -> Iterator[bytes]:
    with outside(f"Reading {path}"), open_place(path) as file:
        yield from blocks_in(file, start, end, block)


def _unpack(
    path: Place,
    codec: Codec,
    block: int,
    taken: Callable[[int], object] | None,
    passing: Callable[[bytes], object] | None,
) -> Iterator[bytes]:
    unpacker = codec.unpacker()
    begun = False
    with outside(f"Reading {path}"), open_place(path) as file:
        while packed := file.read(min(block, PACKED_BLOCK)):
            if taken is not None:
                taken(len(packed))
            if passing is not None:
                passing(packed)
            if not begun:
                packed = packed.lstrip(b"\0")
            while packed:
                begun = True
                pieces = unpacker.feed(packed)
                while True:
                    try:
                        data = next(pieces, None)
                    except Exception as error:
                        raise OutsideError(
                            f"{path} is damaged: its {codec.name} packing cannot be read "
                            f"({error}); fetch it again from where it came."
                        ) from None
                    if data is None:
                        break
                    yield data
                packed = b""
                if unpacker.ended:
                    # Several frames may follow one another; zero padding ends a file.
                    packed = unpacker.unused.lstrip(b"\0")
                    unpacker = codec.unpacker()
                    begun = bool(packed)
    if begun:
        raise OutsideError(
            f"{path} is cut short: its {codec.name} packing ends in the middle; "
            "fetch it again from where it came."
        )
