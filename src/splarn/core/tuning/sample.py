"""The sample: whole records from all over the source, laid down as plain files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
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


@dataclass(frozen=True)
class Sample:
    """Files without headers and the layout they read by; `bytes` unpacked."""

    paths: tuple[Path, ...]
    layout: Layout
    bytes: int
    rows: int


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
                continue
            with target.open("wb") as file:
                for data, count in records([stretch], layout.dialect):
                    file.write(data)
                    total += len(data)
                    rows += count
                    if total >= size:
                        break
            made.append(target)
    plain = layout.headless
    return Sample(tuple(made), plain, total, rows)


def _columnar(source: SourceRange, layout: Layout, target: Path) -> tuple[int, int]:
    """Copies rows of a columnar file; returns their bytes in memory and their number."""
    import pyarrow as pa
    from pyarrow import parquet

    tables = list(read_rows(place(source.path), layout, source.start, source.end))
    table = pa.concat_tables(tables)
    parquet.write_table(table, target)
    return table.nbytes, len(table)
