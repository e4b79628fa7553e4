"""The sample: whole records from all over the source, laid down as plain files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from splarn.core.layout import Layout
from splarn.core.reading import cut_file
from splarn.core.reading.columnar import read_rows
from splarn.core.shape.copying import records
from splarn.core.shape.manifest import SourceRange
from splarn.core.source.places import Place, key_of, place
from splarn.core.source.source import Source
from splarn.core.work.disk import outside
from splarn.core.work.pool import Pool

PIECES = 8
LEAST_PIECE = 64 << 10
# Every so manieth of a sample's files makes a smaller one.
FEW = 4


@dataclass(frozen=True)
class Sample:
    """Files without headers and the layout they read by; `bytes` unpacked.

    `sizes` are bytes and rows of each file. What is loaded are `files`: all in one where they can
    be joined, since each file costs something that a large source has less of.
    """

    paths: tuple[Path, ...]
    layout: Layout
    bytes: int
    rows: int
    sizes: tuple[tuple[int, int], ...] = ()
    name: str = "whole"

    @cached_property
    def files(self) -> tuple[Path, ...]:
        """What a trial loads. Raises OutsideError when writing fails."""
        if self.layout.format == "parquet" or len(self.paths) < 2:
            return self.paths
        joined = self.paths[0].parent / f"{self.name}.{self.layout.format}"
        with outside(f"Writing the sample {joined}"), joined.open("wb") as file:
            for path in self.paths:
                file.write(path.read_bytes())
        return (joined,)

    @cached_property
    def smaller(self) -> Sample:
        """About a quarter of it, from all over; the same where it is of too few files."""
        if len(self.sizes) < FEW:
            return self
        chosen = slice(1, None, FEW)
        sizes = self.sizes[chosen]
        return Sample(
            self.paths[chosen],
            self.layout,
            sum(length for length, _ in sizes),
            sum(rows for _, rows in sizes),
            sizes,
            "smaller",
        )


def take_sample(
    paths: Sequence[Place], layout: Layout, size: int, folder: Path, pool: Pool
) -> Sample:
    """Writes about `size` bytes of records, evenly spread over the source, into `folder`.

    Of packed files the head is taken. Raises OutsideError when reading or writing fails.
    """
    piece = max(size // PIECES, LEAST_PIECE)
    pieces: list[SourceRange] = []
    for path in paths:
        source = Source.of(path).read_by(layout)
        for cut_range in cut_file(source, layout, piece, pool):
            pieces.append(SourceRange(key_of(path), source.codec, cut_range.start, cut_range.end))
    wanted = max(round(size / piece), 1)
    step = max(len(pieces) / wanted, 1.0)
    chosen = [pieces[int(index * step)] for index in range(min(wanted, len(pieces)))]
    made: list[Path] = []
    sizes: list[tuple[int, int]] = []
    total = rows = 0
    with outside(f"Writing the sample to {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
        for number, stretch in enumerate(chosen, 1):
            if total >= size:
                break
            target = folder / f"sample-{number:03d}.{layout.format}"
            if layout.format == "parquet":
                length, count = _columnar(stretch, layout, target)
                total, rows = total + length, rows + count
                made.append(target)
                sizes.append((length, count))
                continue
            before = total, rows
            with target.open("wb") as file:
                for data, count in records([stretch], layout.dialect):
                    file.write(data)
                    total += len(data)
                    rows += count
                    if total >= size:
                        break
            made.append(target)
            sizes.append((total - before[0], rows - before[1]))
    plain = layout.headless
    return Sample(tuple(made), plain, total, rows, tuple(sizes))


def _columnar(source: SourceRange, layout: Layout, target: Path) -> tuple[int, int]:
    """Copies rows of a columnar file; returns their bytes in memory and their number."""
    import pyarrow as pa
    from pyarrow import parquet

    tables = list(read_rows(place(source.path), layout, source.start, source.end))
    table = pa.concat_tables(tables)
    parquet.write_table(table, target)
    return table.nbytes, len(table)
