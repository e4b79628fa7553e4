"""Proves that the parts hold exactly the source's records, once each."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path

import xxhash

from splarn.core.codecs import read_blocks
from splarn.core.layout import Dialect
from splarn.core.pool import Pool
from splarn.core.progress import Progress, Silent
from splarn.core.shape.manifest import Manifest, Part, SourceRange, header_line
from splarn.core.shape.work import copied


@dataclass(frozen=True)
class VerifyTask:
    """One part to hold against its source; picklable."""

    path: Path
    part: Part
    dialect: Dialect
    header: bytes


def verify_task(task: VerifyTask) -> str | None:
    """What differs between a part and its source ranges, or None."""
    packed, unpacked, source = xxhash.xxh3_128(), xxhash.xxh3_128(), xxhash.xxh3_128()
    for block in read_blocks(task.path, "none"):
        packed.update(block)
    if f"xxh3-128:{packed.hexdigest()}" != task.part.hash:
        return f"{task.path} is not the file that the manifest lists: its hash differs"
    rows = 0
    for block in read_blocks(task.path, task.part.codec):
        unpacked.update(block)
    source.update(task.header)
    for data, count in copied(task.part.source, task.dialect):
        source.update(data)
        rows += count
    if rows != task.part.rows:
        return f"{task.path} holds {task.part.rows:,} records where its source has {rows:,}"
    if unpacked.digest() != source.digest():
        return f"{task.path} does not hold the bytes of its source"
    return None


def verify_parts(
    manifest: Manifest, header: bool, pool: Pool, progress: Progress | None = None
) -> list[str]:
    """All differences between the parts and the source; `header` says whether that has headers.

    Raises OutsideError when a file cannot be read.
    """
    from dataclasses import replace

    watch = progress or Silent()
    dialect = replace(manifest.layout.dialect, header=header)
    opening = header_line(manifest.layout) if manifest.layout.dialect.header else b""
    tasks = [
        VerifyTask(manifest.folder / part.path, part, dialect, opening) for part in manifest.parts
    ]
    watch.start("verify", len(tasks), "parts")
    found = _gaps(manifest)
    for difference in pool.map(verify_task, tasks):
        if difference:
            found.append(difference)
        watch.advance(1)
    watch.finish()
    return found


def _gaps(manifest: Manifest) -> list[str]:
    """Source bytes that no part or more than one holds."""
    by_file: dict[str, list[SourceRange]] = defaultdict(list)
    for part in manifest.parts:
        for piece in part.source:
            by_file[piece.path].append(piece)
    found = []
    for path, pieces in by_file.items():
        pieces.sort(key=lambda piece: piece.start)
        at: int | None = 0
        for piece in pieces:
            if piece.start != at:
                found.append(f"{path} is not held once from byte {at} on")
                break
            at = piece.end
        else:
            if at is not None and at != Path(path).stat().st_size:
                found.append(f"{path} is not held after byte {at}")
    return found
