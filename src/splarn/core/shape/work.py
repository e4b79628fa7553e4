"""What a worker does: takes records out of the source and writes them into a part."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path

from splarn.core.codecs import CODECS, Packing, read_blocks
from splarn.core.errors import OutsideError, RequestError
from splarn.core.files import ASIDE, explain
from splarn.core.layout import Dialect
from splarn.core.pool import report
from splarn.core.records import line_blocks, record_chunks, skip_mark
from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.units import exact_size, show_count

LOOK = 1 << 20


@dataclass(frozen=True)
class ShapeTask:
    """Source ranges that become one part, or, from a packed file, a run of parts; picklable.

    `header` opens every part.
    """

    source: tuple[SourceRange, ...]
    folder: Path
    stem: str
    packing: Packing
    part_bytes: int
    dialect: Dialect
    header: bytes = b""


def refuse_longer(longest: int, part_bytes: int, path: str) -> None:
    """Raises RequestError when a record is longer than a part."""
    if longest > part_bytes:
        raise RequestError(
            f"A part size of {exact_size(part_bytes)} is smaller than a record of {path}, which "
            f"takes {show_count(longest)} bytes: give a larger --part-size."
        )


def run_shape_task(task: ShapeTask) -> list[Part]:
    """Writes the parts of one task, each aside and renamed when whole."""
    if task.source[0].codec == "none":
        data = copied(task.source, task.dialect, task.part_bytes)
        return [_write_part(task, task.stem, task.source, data)]
    return list(_cut_packed(task))


def records(
    source: Sequence[SourceRange], dialect: Dialect, limit: int | None = None
) -> Iterator[tuple[bytes, int]]:
    """Whole records of the ranges one after the other, with how many; headers left out.

    Raises RequestError when one is longer than the limit.
    """
    for piece in source:
        path = Path(piece.path)
        blocks = read_blocks(path, piece.codec, piece.start, piece.end)
        for chunk in record_chunks(blocks, dialect, LOOK, where=piece.path, offset=piece.start):
            if limit is not None:
                refuse_longer(chunk.longest(), limit, piece.path)
            yield b"".join(chunk.pieces(slice(None))), chunk.rows


def copied(
    source: Sequence[SourceRange], dialect: Dialect, limit: int | None = None
) -> Iterator[tuple[bytes, int]]:
    """The bytes that `records` gives, in blocks that may end inside a record, and so faster.

    The counts are of records that end in each block. Raises RequestError as `records` does.
    """
    for piece in source:
        # A record within a block can be longer than a small part: look at each of them then.
        if piece.codec != "none" or (limit is not None and limit < LOOK):
            yield from records([piece], dialect, limit)
            continue
        blocks = read_blocks(Path(piece.path), "none", piece.start, piece.end, LOOK)
        if piece.start == 0:
            _, blocks = skip_mark(blocks)
            if dialect.header:
                blocks = _without_first(blocks, dialect, piece.path)
        for data, rows, longest in line_blocks(blocks, dialect, piece.path):
            if limit is not None:
                refuse_longer(longest, limit, piece.path)
            yield data, rows


def _without_first(blocks: Iterator[bytes], dialect: Dialect, where: str) -> Iterator[bytes]:
    """The blocks without the first record, which may be preceded by blank lines."""
    headless = replace(dialect, header=False)
    held = b""
    for block in blocks:
        held += block
        chunk = next(record_chunks([held], headless, where=where, offset=1), None)
        if chunk is not None and int(chunk.ends[0]) < len(held):
            yield held[int(chunk.ends[0]) :]
            yield from blocks
            return


def _cut_packed(task: ShapeTask) -> Iterator[Part]:
    piece = task.source[0]
    blocks = read_blocks(Path(piece.path), piece.codec)
    chunks = record_chunks(blocks, task.dialect, min(task.part_bytes, 4 << 20), where=piece.path)
    pending: list[tuple[bytes, int]] = []
    held = number = start = 0
    for chunk in chunks:
        refuse_longer(chunk.longest(), task.part_bytes, piece.path)
        first = 0
        while first < chunk.rows:
            if held >= task.part_bytes:
                number += 1
                end = chunk.offset + int(chunk.starts[first])
                yield _flush(task, number, start, end, pending)
                pending, held, start = [], 0, end
            # Rows up to the first one that fills the part.
            wanted = task.part_bytes - held + int(chunk.starts[first])
            last = min(int(chunk.ends.searchsorted(wanted)), chunk.rows - 1)
            data = b"".join(chunk.pieces(slice(first, last + 1)))
            pending.append((data, last + 1 - first))
            held += len(data)
            first = last + 1
    yield _flush(task, number + 1, start, None, pending)
    report(Path(piece.path).stat().st_size)


def _flush(
    task: ShapeTask, number: int, start: int, end: int | None, data: list[tuple[bytes, int]]
) -> Part:
    source = (replace(task.source[0], start=start, end=end),)
    return _write_part(task, f"{task.stem}-{number:04d}", source, iter(data))


def _write_part(
    task: ShapeTask, stem: str, source: tuple[SourceRange, ...], data: Iterator[tuple[bytes, int]]
) -> Part:
    import xxhash

    begun = time.perf_counter()
    codec = CODECS[task.packing.codec]
    final = task.folder / f"{stem}.csv{codec.suffix}"
    aside = final.with_name(final.name + ASIDE)
    packer = codec.packer(task.packing.level)
    state = xxhash.xxh3_128()
    packed_bytes = raw_bytes = rows = 0
    plain = source[0].codec == "none"
    try:
        with aside.open("wb", buffering=0) as file:
            for block, count in chain([(task.header, 0)], data):
                packed = packer.compress(block)
                state.update(packed)
                packed_bytes += _write_all(file, packed)
                raw_bytes += len(block)
                rows += count
                if plain:
                    report(len(block))
            packed = packer.flush()
            state.update(packed)
            packed_bytes += _write_all(file, packed)
        aside.replace(final)
    except OSError as error:
        aside.unlink(missing_ok=True)
        raise OutsideError(f"Writing the part {final} failed: {explain(error)}.") from None
    hashed = f"xxh3-128:{state.hexdigest()}"
    seconds = time.perf_counter() - begun
    return Part(final.name, codec.name, packed_bytes, raw_bytes, rows, hashed, source, seconds)


def _write_all(file: object, data: bytes) -> int:
    """Unbuffered writes may take less than they are given; a full disk then says so."""
    view = memoryview(data)
    while len(view):
        view = view[file.write(view) :]  # type: ignore[attr-defined]
    return len(data)
