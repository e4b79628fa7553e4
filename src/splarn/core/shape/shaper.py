"""Cuts, merges and recompresses the source into parts of about one size."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.codecs import CODECS, Packing, codec_of, read_blocks
from splarn.core.errors import OutsideError, RequestError
from splarn.core.files import ASIDE, explain, outside, write_text
from splarn.core.layout import Dialect, Layout
from splarn.core.pool import Pool, report
from splarn.core.progress import Progress, Silent
from splarn.core.ranges import cut_ranges
from splarn.core.records import line_blocks, record_chunks, skip_mark
from splarn.core.shape.manifest import (
    MANIFEST,
    UNFINISHED,
    Manifest,
    Part,
    SourceRange,
    write_manifest,
)
from splarn.core.sources import check_sources
from splarn.core.units import exact_size, show_count

LOOK = 1 << 20


@dataclass(frozen=True)
class ShapeTask:
    """Source ranges that become one part, or, from a packed file, a run of parts; picklable."""

    source: tuple[SourceRange, ...]
    folder: Path
    stem: str
    packing: Packing
    part_bytes: int
    dialect: Dialect


@dataclass(frozen=True)
class Shaped:
    """What a shape made and how long it took. `bytes_in` are bytes on disk."""

    manifest: Manifest
    bytes_in: int
    seconds: float


def shape(
    paths: Sequence[Path],
    layout: Layout,
    folder: Path,
    part_bytes: int,
    packing: Packing,
    pool: Pool,
    *,
    again: bool = False,
    progress: Progress | None = None,
) -> Shaped:
    """Makes parts of about `part_bytes` unpacked bytes in `folder`, and their manifest last.

    Parts hold records only, no header. An unfinished folder is marked as such until the manifest
    stands; on an error what was made is removed again.
    Raises RequestError when the folder is in use or a record is larger than a part, OutsideError
    when reading or writing fails.
    """
    watch = progress or Silent()
    begun = time.perf_counter()
    check_sources(paths, layout)
    _check_part_size(paths, layout.dialect, part_bytes)
    _claim(folder, again)
    try:
        tasks, total = _plan(paths, layout, folder, part_bytes, packing, pool)
        watch.start("shape", total, "bytes")
        made = [part for parts in pool.map(run_shape_task, tasks, watch) for part in parts]
        watch.finish()
        shaped = replace(layout, dialect=replace(layout.dialect, header=False))
        manifest = Manifest(folder, shaped, tuple(made))
        write_manifest(manifest)
    except BaseException:
        _clear(folder)
        raise
    _unmark(folder)
    return Shaped(manifest, total, time.perf_counter() - begun)


def _check_part_size(paths: Sequence[Path], dialect: Dialect, part_bytes: int) -> None:
    for path in paths:
        head = next(iter(read_blocks(path, codec_of(path), 0, LOOK)), b"")
        for chunk in record_chunks([head], dialect, where=str(path)):
            # The last record may be cut off by the end of the look.
            _refuse_longer(chunk.longest(slice(0, max(chunk.rows - 1, 1))), part_bytes, str(path))


def _refuse_longer(longest: int, part_bytes: int, path: str) -> None:
    if longest > part_bytes:
        raise RequestError(
            f"A part size of {exact_size(part_bytes)} is smaller than a record of {path}, which "
            f"takes {show_count(longest)} bytes: give a larger --part-size."
        )


def _claim(folder: Path, again: bool) -> None:
    if folder.exists() and not folder.is_dir():
        raise RequestError(f"{folder} is a file: name a folder for the parts.")
    if (folder / MANIFEST).exists():
        if not again:
            raise RequestError(
                f"{folder} already holds parts and their manifest: name another folder, or give "
                "--again to make them anew."
            )
        _clear(folder)
    elif (folder / UNFINISHED).exists():
        _clear(folder)
    elif folder.exists() and any(folder.iterdir()):
        raise RequestError(
            f"The folder {folder} holds other files: name an empty or a new one for the parts."
        )
    with outside(f"Making the folder {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
    write_text(folder / UNFINISHED, "Parts here are unfinished; shape the source again.\n")


def _clear(folder: Path) -> None:
    """Removes everything a shape puts into a folder; such a folder holds nothing else."""
    for path in folder.glob("*"):
        if path.name.startswith("part-") or path.name in (MANIFEST, UNFINISHED):
            path.unlink(missing_ok=True)


def _unmark(folder: Path) -> None:
    (folder / UNFINISHED).unlink(missing_ok=True)


def _plan(
    paths: Sequence[Path],
    layout: Layout,
    folder: Path,
    part_bytes: int,
    packing: Packing,
    pool: Pool,
) -> tuple[list[ShapeTask], int]:
    """One task a part; remainders and small files share parts. A packed file is one task."""
    groups: list[list[SourceRange]] = []
    room = 0
    total = 0
    for path in paths:
        codec = codec_of(path)
        pieces = cut_ranges(path, codec, layout.dialect, part_bytes, pool)
        total += sum(piece.packed for piece in pieces)
        for piece in pieces:
            entry = SourceRange(str(path), codec, piece.start, piece.end)
            small = codec == "none" and piece.packed < part_bytes
            if small and groups and piece.packed <= room:
                groups[-1].append(entry)
                room -= piece.packed
            else:
                groups.append([entry])
                room = part_bytes - piece.packed if small else 0
    tasks = [
        ShapeTask(tuple(group), folder, f"part-{index:05d}", packing, part_bytes, layout.dialect)
        for index, group in enumerate(groups, 1)
    ]
    return tasks, total


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
                _refuse_longer(chunk.longest(), limit, piece.path)
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
                _refuse_longer(longest, limit, piece.path)
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
        _refuse_longer(chunk.longest(), task.part_bytes, piece.path)
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
            for block, count in data:
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
