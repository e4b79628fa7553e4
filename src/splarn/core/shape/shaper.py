"""Cuts, merges and recompresses the source into parts of about one size."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.codecs import Packing, codec_of, read_blocks
from splarn.core.errors import RequestError
from splarn.core.layout import Dialect, Layout
from splarn.core.layout.descriptor import to_descriptor
from splarn.core.pool import Pool
from splarn.core.progress import Progress, Silent
from splarn.core.ranges import cut_ranges
from splarn.core.records import record_chunks
from splarn.core.shape.folder import Unfinished, fingerprint
from splarn.core.shape.manifest import Manifest, Part, SourceRange, header_line, write_manifest
from splarn.core.shape.work import LOOK, ShapeTask, refuse_longer, run_shape_task
from splarn.core.sources import check_sources


@dataclass(frozen=True)
class Shaped:
    """What a shape made and how long it took. `bytes_in` are bytes on disk.

    `resumed` counts the parts that an interrupted shape had made already.
    """

    manifest: Manifest
    bytes_in: int
    seconds: float
    resumed: int = 0


def shape(
    paths: Sequence[Path],
    layout: Layout,
    folder: Path,
    part_bytes: int,
    packing: Packing,
    pool: Pool,
    *,
    header: bool = False,
    again: bool = False,
    progress: Progress | None = None,
) -> Shaped:
    """Makes parts of about `part_bytes` unpacked bytes in `folder`, and their manifest last.

    Parts hold records, and the header line when asked. A folder is marked as unfinished until the
    manifest stands; the same call goes on with the parts that are whole.
    Raises RequestError when the folder is in use or a record is larger than a part, OutsideError
    when reading or writing fails.
    """
    watch = progress or Silent()
    begun = time.perf_counter()
    check_sources(paths, layout)
    _check_part_size(paths, layout.dialect, part_bytes)
    made = replace(layout, dialect=replace(layout.dialect, header=header))
    request = fingerprint(paths, to_descriptor(layout), part_bytes, str(packing), header)
    mark = Unfinished(folder, request, again)
    opening = header_line(made) if header else b""
    try:
        tasks, total = _plan(paths, layout, folder, part_bytes, packing, opening, pool)
        left = [task for task in tasks if task.stem not in mark.done]
        resumed = sum(len(parts) for parts in mark.done.values())
        watch.start("shape", total, "bytes")
        watch.advance(sum(_size(task) for task in tasks if task.stem in mark.done))
        found = dict(mark.done)
        for task, parts in zip(left, pool.map(run_shape_task, left, watch), strict=True):
            mark.add(task.stem, parts)
            found[task.stem] = parts
        watch.finish()
    except RequestError:
        # The same request can only fail again.
        mark.clear()
        raise
    every: list[Part] = [part for task in tasks for part in found[task.stem]]
    manifest = Manifest(folder, made, tuple(every))
    write_manifest(manifest)
    mark.finish()
    return Shaped(manifest, total, time.perf_counter() - begun, resumed)


def _size(task: ShapeTask) -> int:
    """Bytes on disk that a task reads."""
    return sum(
        (Path(piece.path).stat().st_size if piece.end is None else piece.end) - piece.start
        for piece in task.source
    )


def _check_part_size(paths: Sequence[Path], dialect: Dialect, part_bytes: int) -> None:
    for path in paths:
        head = next(iter(read_blocks(path, codec_of(path), 0, LOOK)), b"")
        for chunk in record_chunks([head], dialect, where=str(path)):
            # The last record may be cut off by the end of the look.
            longest = chunk.longest(slice(0, max(chunk.rows - 1, 1)))
            refuse_longer(longest, part_bytes, str(path))


def _plan(
    paths: Sequence[Path],
    layout: Layout,
    folder: Path,
    part_bytes: int,
    packing: Packing,
    header: bytes,
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
        ShapeTask(
            tuple(group), folder, f"part-{index:05d}", packing, part_bytes, layout.dialect, header
        )
        for index, group in enumerate(groups, 1)
    ]
    return tasks, total
