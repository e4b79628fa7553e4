"""The sample: whole records from all over the source, laid down as plain files."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from splarn.core.layout import Layout
from splarn.core.reading import cut_file
from splarn.core.reading.columnar import read_rows
from splarn.core.records.chunks import record_chunks
from splarn.core.shape.copying import LOOK, records
from splarn.core.shape.manifest import SourceRange
from splarn.core.source.codecs import read_blocks
from splarn.core.source.places import Place, key_of, place
from splarn.core.source.source import Source
from splarn.core.tuning.design import SHARES
from splarn.core.work.disk import outside
from splarn.core.work.pool import Pool

PIECES = 32
LEAST_PIECE, LEAST_LOOK = 64 << 10, 256 << 10
# Every so manieth of a sample's pieces makes a smaller one.
FEW = round(1 / SHARES["small"])
# Unpacked bytes that are read of packed files at most, to find pieces of a sample in them.
MOST_UNPACKED = 8 << 30


@dataclass(frozen=True)
class Piece:
    """Records that lie next to one another in the source, as a file of their own."""

    path: Path
    bytes: int
    rows: int


@dataclass(frozen=True)
class Sample:
    """Pieces without headers and the layout they read by.

    What is loaded are `files`: all in one where they can be joined, since each file costs something
    that a large source has less of.
    """

    pieces: tuple[Piece, ...]
    layout: Layout
    name: str = "whole"

    @property
    def bytes(self) -> int:
        """Unpacked bytes, of columnar files those in memory."""
        return sum(piece.bytes for piece in self.pieces)

    @property
    def rows(self) -> int:
        """How many records there are, good and bad."""
        return sum(piece.rows for piece in self.pieces)

    @cached_property
    def files(self) -> tuple[Path, ...]:
        """What a trial loads. Raises OutsideError when writing fails."""
        paths = tuple(piece.path for piece in self.pieces)
        if self.layout.format == "parquet" or len(paths) < 2:
            return paths
        joined = paths[0].parent / f"{self.name}.{self.layout.format}"
        with outside(f"Writing the sample {joined}"), joined.open("wb") as file:
            for path in paths:
                file.write(path.read_bytes())
        return (joined,)

    @cached_property
    def smaller(self) -> Sample:
        """About a quarter of it, from all over; the same where it is of too few pieces."""
        if len(self.pieces) < FEW:
            return self
        return Sample(self.pieces[1::FEW], self.layout, "smaller")


class Samples:
    """The volumes that trials load: the sample, a quarter of it, and four times as much.

    The last is only taken once a trial asks for it, with `take`, which is given a size in bytes.
    """

    def __init__(self, sample: Sample, take: Callable[[int], Sample] | None = None) -> None:
        self.sample, self._take = sample, take

    def of(self, role: str) -> Sample:
        """What a trial of this role loads. Raises OutsideError when reading or writing fails."""
        if role == "small":
            return self.sample.smaller
        return self._larger if role == "large" and self._take is not None else self.sample

    @cached_property
    def _larger(self) -> Sample:
        assert self._take is not None, "asked for only where it can be taken"
        return self._take(round(self.sample.bytes * SHARES["large"]))


def take_sample(
    paths: Sequence[Place], layout: Layout, size: int, folder: Path, pool: Pool
) -> Sample:
    """Writes about `size` bytes of records, evenly spread over the source, into `folder`.

    Packed files are read through for that, up to a limit of what is unpacked; beyond it their first
    part stands for the rest. Raises OutsideError when reading or writing fails.
    """
    piece = max(size // PIECES, LEAST_PIECE)
    sources = [Source.of(path).read_by(layout) for path in paths]
    packed = [one for one in sources if one.codec != "none" and layout.format != "parquet"]
    on_disk = sum(one.size for one in sources)
    with outside(f"Writing the sample to {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
        if not packed:
            spread = _spread(sources, layout, size, piece, folder, pool)
            return Sample(tuple(spread), layout.headless)
        made: list[Piece] = []
        for number, source in enumerate(sources, 1):
            # Packed sizes tell about how much of the whole each file is.
            share = round(size * source.size / max(on_disk, 1))
            here = folder / str(number)
            if source.codec == "none":
                made += _spread([source], layout, share, piece, here, pool)
            else:
                made += _through(source, layout, share, piece, here, MOST_UNPACKED // len(packed))
    return Sample(tuple(made), layout.headless)


def _spread(
    sources: Sequence[Source], layout: Layout, size: int, piece: int, folder: Path, pool: Pool
) -> Iterator[Piece]:
    """Pieces of files that can be read from anywhere, evenly spread over all of them."""
    folder.mkdir(exist_ok=True)
    ranges = [
        SourceRange(key_of(source.place), source.codec, cut.start, cut.end)
        for source in sources
        for cut in cut_file(source, layout, piece, pool)
    ]
    lengths = [one.end - one.start for one in ranges if one.end is not None]
    # Ranges are no longer than a piece; of rows of a columnar file the bytes are not known.
    usual = sum(lengths) / len(lengths) if lengths and layout.format != "parquet" else piece
    wanted = max(math.ceil(size / max(usual, 1)), 1)
    step = max(len(ranges) / wanted, 1.0)
    total = 0
    for number in range(min(wanted, len(ranges))):
        if total >= size:
            break
        stretch = ranges[int(number * step)]
        target = folder / f"sample-{number + 1:03d}.{layout.format}"
        if layout.format == "parquet":
            made = _columnar(stretch, layout, target)
        else:
            length = rows = 0
            with target.open("wb") as file:
                for data, count in records([stretch], layout.dialect):
                    file.write(data)
                    length, rows = length + len(data), rows + count
                    if total + length >= size:
                        break
            made = Piece(target, length, rows)
        total += made.bytes
        yield made


def _through(
    source: Source, layout: Layout, size: int, piece: int, folder: Path, most: int
) -> list[Piece]:
    """Pieces of a file that can only be read from its head, evenly spread over it.

    How long it is shows at its end: so every second one is dropped whenever there are twice as many
    as wanted, and from then on only every second one is taken.
    """
    folder.mkdir(exist_ok=True)
    wanted = max(round(size / piece), 1)
    kept: list[Piece] = []
    every, read = 1, 0
    blocks = read_blocks(source.place, source.codec, 0, None)
    look = min(max(piece, LEAST_LOOK), LOOK)
    chunks = record_chunks(blocks, layout.dialect, look, where=str(source.place))
    for number, chunk in enumerate(chunks):
        read += chunk.size
        if number % every == 0 and chunk.rows and not chunk.too_long:
            few = max(round(chunk.rows * min(piece / max(chunk.size, 1), 1)), 1)
            target = folder / f"sample-{number + 1:06d}.{layout.format}"
            data = b"".join(chunk.pieces(slice(0, few)))
            target.write_bytes(data)
            kept.append(Piece(target, len(data), few))
        if len(kept) >= 2 * wanted:
            for dropped in kept[1::2]:
                dropped.path.unlink()
            kept, every = kept[::2], every * 2
        if read >= most:
            break
    step = len(kept) / min(wanted, len(kept)) if kept else 1.0
    return [kept[int(number * step)] for number in range(min(wanted, len(kept)))]


def _columnar(source: SourceRange, layout: Layout, target: Path) -> Piece:
    """Copies rows of a columnar file; its bytes are those in memory."""
    import pyarrow as pa
    from pyarrow import parquet

    tables = list(read_rows(place(source.path), layout, source.start, source.end))
    table = pa.concat_tables(tables)
    parquet.write_table(table, target)
    return Piece(target, table.nbytes, len(table))
