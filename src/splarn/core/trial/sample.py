"""The sample: whole records from all over the source, laid down as plain files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.codecs import codec_of
from splarn.core.files import outside
from splarn.core.layout import Layout
from splarn.core.pool import Pool
from splarn.core.ranges import cut_ranges
from splarn.core.shape.manifest import SourceRange
from splarn.core.shape.work import records

PIECES = 8
LEAST_PIECE = 64 << 10


@dataclass(frozen=True)
class Sample:
    """Files without headers and the layout they read by; `bytes` unpacked."""

    paths: tuple[Path, ...]
    layout: Layout
    bytes: int
    rows: int


def take_sample(
    paths: Sequence[Path], layout: Layout, size: int, folder: Path, pool: Pool
) -> Sample:
    """Writes about `size` bytes of records, evenly spread over the source, into `folder`.

    Of packed files the head is taken. Raises OutsideError when reading or writing fails.
    """
    piece = max(size // PIECES, LEAST_PIECE)
    pieces: list[SourceRange] = []
    for path in paths:
        codec = codec_of(path)
        for found in cut_ranges(path, codec, layout.dialect, piece, pool):
            pieces.append(SourceRange(str(path), codec, found.start, found.end))
    wanted = max(round(size / piece), 1)
    step = max(len(pieces) / wanted, 1.0)
    chosen = [pieces[int(index * step)] for index in range(min(wanted, len(pieces)))]
    made: list[Path] = []
    total = rows = 0
    with outside(f"Writing the sample to {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
        for number, source in enumerate(chosen, 1):
            if total >= size:
                break
            target = folder / f"sample-{number:03d}.csv"
            with target.open("wb") as file:
                for data, count in records([source], layout.dialect):
                    file.write(data)
                    total += len(data)
                    rows += count
                    if total >= size:
                        break
            made.append(target)
    plain = replace(layout, dialect=replace(layout.dialect, header=False))
    return Sample(tuple(made), plain, total, rows)
