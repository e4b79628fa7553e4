"""What a worker does: takes records out of the source and writes them into parts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.core.codecs import CODECS, Packing, read_blocks
from splarn.core.errors import ShortfallError
from splarn.core.faults import Fault
from splarn.core.lanes import report
from splarn.core.layout import Layout
from splarn.core.places import place
from splarn.core.pool import Inline, Pool
from splarn.core.ranges import Counted
from splarn.core.reading import text_parser
from splarn.core.records import Chunk, record_chunks
from splarn.core.shape.copying import copied, refuse_longer
from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.shape.output import Output
from splarn.core.shape.part import ColumnarPart, TextPart

if TYPE_CHECKING:
    from splarn.core.reading.parsed import Parsed

CHUNK = 4 << 20


@dataclass(frozen=True)
class Count:
    """What a cut took out of one file. Rows and lines of the faults count from the cut's start."""

    path: str
    rows: int
    lines: int
    faults: tuple[Fault, ...] = ()


@dataclass(frozen=True)
class Cut:
    """Parts that hold the same stretch of the source between them; one, unless partitioned."""

    parts: tuple[Part, ...]
    counts: tuple[Count, ...] = ()


@dataclass(frozen=True)
class ShapeTask:
    """Source ranges that become one cut or, when `cutting`, as many as the part size asks for.

    `layout` is the source's, `made` the parts'. `header` opens every part. `done` are cuts that
    stand already. `keep` is how many bad rows a conversion may set aside; None is any number.
    `counted` is what is known of some ranges, which can then be copied without a look.
    """

    source: tuple[SourceRange, ...]
    folder: Path
    stem: str
    layout: Layout
    made: Layout
    output: Output
    header: bytes = b""
    cutting: bool = False
    keep: int | None = 0
    done: tuple[Cut, ...] = ()
    counted: dict[SourceRange, Counted] = field(default_factory=dict)


def run_shape_task(
    task: ShapeTask, note: Callable[[Cut], object] = lambda cut: None, pool: Pool | None = None
) -> list[Cut]:
    """Writes the parts of one task, each aside and renamed when whole; `note` is told of each cut.

    A `pool` shares the work of one task out. Raises RequestError for a record longer than a part,
    ShortfallError for a bad row in a conversion, OutsideError when reading or writing fails.
    """
    if not task.cutting and task.output.is_copy(task.layout):
        cut = Cut((_copy(task),))
        note(cut)
        return [cut]
    cuts = list(task.done)
    for cut in _Stream(task, pool or Inline()).run():
        note(cut)
        cuts.append(cut)
    return cuts


def _copy(task: ShapeTask) -> Part:
    output = task.output
    limit = None if output.part_rows else output.part_bytes
    part = TextPart(task.folder, task.stem, output.format, output.packing)
    try:
        part.put(task.header, 0)
        for data, rows in copied(task.source, task.layout.dialect, limit, task.counted):
            part.put(data, rows)
            report(len(data))
        return part.finish(task.source)
    except BaseException:
        part.file.discard()
        raise


@dataclass(frozen=True)
class _Slice:
    """Neighbouring records of one source file that go into one cut.

    `index` is the file's place in the task, `at` where the records start in it; `row` and `line`
    count what lies before them in its range.
    """

    cut: int
    index: int
    at: int
    row: int
    line: int
    rows: int
    chunk: Chunk | None = None
    parsed: Parsed | None = None


@dataclass(frozen=True)
class _Encoded:
    """A slice made ready: packed text, or a table where it is still to be sorted or grouped."""

    slice: _Slice
    data: bytes = b""
    raw_bytes: int = 0
    rows: int = 0
    table: Any = None
    faults: tuple[Fault, ...] = ()


class _Stream:
    """Reads a task's sources in order, lets the pool encode, and writes cut after cut."""

    def __init__(self, task: ShapeTask, pool: Pool) -> None:
        self.task = task
        self.pool = pool
        self.output = task.output
        self.copies = task.output.is_copy(task.layout)
        self.tables = bool(
            task.output.format == "parquet" or task.output.sort_by or task.output.partition_by
        )
        self._parts: dict[str, TextPart | ColumnarPart] = {}
        # Lines of each source read so far, and the sources of which an earlier cut holds a part.
        self._lines: Counter[int] = Counter()
        self._begun: set[int] = set()

    def run(self) -> Iterator[Cut]:
        """The cuts, each whole on disk when it is given."""
        held: list[_Encoded] = []
        try:
            for encoded in self.pool.flow(self._encode, self._slices()):
                if held and held[-1].slice.cut != encoded.slice.cut:
                    yield self._finish(held, encoded.slice)
                    held = []
                self._write(encoded)
                held.append(self._remembered(encoded))
            if held:
                yield self._finish(held, None)
        except BaseException:
            for part in self._parts.values():
                part.file.discard()
            raise

    def _remembered(self, encoded: _Encoded) -> _Encoded:
        """Without the data, which a part may have too much of."""
        table = encoded.table if self.output.sort_by else None
        slice_ = replace(encoded.slice, chunk=None, parsed=None)
        return replace(encoded, slice=slice_, data=b"", table=table)

    def _slices(self) -> Iterator[_Slice]:
        """Records in source order, cut where a part is full."""
        output, cutting = self.output, self.task.cutting
        limit = output.part_rows or output.part_bytes
        cut, held = len(self.task.done) + 1, 0
        for index, start in self._begin():
            for chunk in self._blocks(index, start):
                first = 0
                while first < chunk.rows:
                    if cutting and held >= limit:
                        cut, held = cut + 1, 0
                    last = self._last(chunk, first, limit - held) if cutting else chunk.rows
                    yield self._slice(cut, index, chunk, first, last)
                    held += last - first if output.part_rows else _bytes(chunk, first, last)
                    first = last

    def _begin(self) -> Iterator[tuple[int, int]]:
        """Each source that is not done yet, by its index, and where to start in it."""
        source = self.task.source
        index, start = 0, source[0].start
        if self.task.done:
            last = self.task.done[-1].parts[-1].source[-1]
            index = next(i for i, piece in enumerate(source) if piece.path == last.path)
            start = last.end if last.end is not None else -1
            if last.end == source[index].end:
                index += 1
                start = source[index].start if index < len(source) else 0
            else:
                self._begun.add(index)
        for number in range(index, len(source)):
            yield number, start if number == index else source[number].start

    def _blocks(self, index: int, start: int) -> Iterator[Chunk | Parsed]:
        piece = self.task.source[index]
        path = place(piece.path)
        if self.task.layout.format == "parquet":
            from splarn.core.reading.columnar import parse_rows

            for parsed in parse_rows(path, self.task.layout, start, piece.end):
                report(parsed.size)
                yield parsed
            return

        def counted() -> Iterator[bytes]:
            for block in read_blocks(path, piece.codec, start, piece.end, taken=report):
                if not self.copies:
                    self._lines[index] += block.count(b"\n")
                yield block

        for chunk in record_chunks(
            counted(), self.task.layout.dialect, CHUNK, where=str(path), offset=start
        ):
            if not self.output.part_rows:
                refuse_longer(chunk.longest(), self.output.part_bytes, path)
            if piece.codec == "none":
                report(len(chunk.data))
            yield chunk

    def _last(self, chunk: Chunk | Parsed, first: int, room: int) -> int:
        """After the record that fills the part, or all of them."""
        if self.output.part_rows:
            return min(first + room, chunk.rows)
        assert isinstance(chunk, Chunk), "columnar files are cut by rows beforehand"
        filled = int(chunk.ends.searchsorted(room + int(chunk.starts[first])))
        return min(filled, chunk.rows - 1) + 1

    def _slice(self, cut: int, index: int, chunk: Chunk | Parsed, first: int, last: int) -> _Slice:
        if not isinstance(chunk, Chunk):
            return _Slice(cut, index, chunk.offset, chunk.row, chunk.row, chunk.rows, parsed=chunk)
        part = chunk.part(first, last)
        at = chunk.offset + int(chunk.starts[first])
        return _Slice(cut, index, at, part.row, part.line, part.rows, part)

    def _encode(self, piece: _Slice) -> _Encoded:
        if self.copies:
            assert piece.chunk is not None, "only text is copied"
            data = b"".join(piece.chunk.pieces(slice(None)))
            return _Encoded(piece, self._packed(data), len(data), piece.rows)
        parsed = piece.parsed
        if parsed is None:
            assert piece.chunk is not None, "a slice has records"
            path = str(place(self.task.source[piece.index].path))
            parsed = text_parser(self.task.layout, path).parse(piece.chunk)
        if parsed.faults and self.task.keep == 0:
            raise _bad_row(parsed.faults[0])
        rows = len(parsed.good)
        if self.tables:
            return _Encoded(piece, b"", 0, rows, parsed.table, parsed.faults)
        data = self._text(parsed.table)
        return _Encoded(piece, self._packed(data), len(data), rows, None, parsed.faults)

    def _text(self, table: Any) -> bytes:
        from splarn.core.text import delimited, json_lines

        made = self.task.made
        return json_lines(table, made) if made.format == "jsonl" else delimited(table, made)

    def _packed(self, data: bytes) -> bytes:
        """A frame of its own, so that workers can pack one part together."""
        return pack(data, self.output.packing)

    def _write(self, encoded: _Encoded) -> None:
        if encoded.table is None:
            part = self._part("", encoded.slice.cut)
            assert isinstance(part, TextPart), "text goes into parts of text"
            part.put_packed(encoded.data, encoded.raw_bytes, encoded.rows)
        elif not self.output.sort_by:
            self._put_rows(encoded.table, encoded.slice.cut)

    def _put_rows(self, table: Any, cut: int) -> None:
        from splarn.core.shape.rows import partitions

        for folder, rows in partitions(table, self.output.partition_by):
            part = self._part(folder, cut)
            if isinstance(part, ColumnarPart):
                part.put(rows)
            else:
                data = self._text(rows)
                part.put_packed(self._packed(data), len(data), len(rows))

    def _part(self, folder: str, cut: int) -> TextPart | ColumnarPart:
        if folder in self._parts:
            return self._parts[folder]
        task, output = self.task, self.output
        stem = f"{task.stem}-{cut:04d}" if task.cutting else task.stem
        stem = f"{folder}/{stem}" if folder else stem
        part: TextPart | ColumnarPart
        if output.format == "parquet":
            part = ColumnarPart(
                task.folder, stem, task.made, output.packing, output.row_group_rows,
                output.dictionary,
            )  # fmt: skip
        else:
            part = TextPart(task.folder, stem, output.format, output.packing)
            if task.header:
                part.put_packed(self._packed(task.header), len(task.header), 0)
        self._parts[folder] = part
        return part

    def _finish(self, held: list[_Encoded], following: _Slice | None) -> Cut:
        """Closes the open parts: all that was read since the last cut is in them."""
        cut = held[0].slice.cut
        if self.output.sort_by:
            import pyarrow as pa

            from splarn.core.shape.rows import sorted_rows

            tables = pa.concat_tables([encoded.table for encoded in held])
            self._put_rows(sorted_rows(tables, self.output.sort_by), cut)
        pieces = list(self._pieces(held, following))
        source = tuple(piece.range for piece in pieces)
        if not self._parts:
            self._part("", cut)
        found = tuple(
            part.finish(source) if isinstance(part, ColumnarPart) else part.finish(source, True)
            for _, part in sorted(self._parts.items())
        )
        self._parts = {}
        return Cut(found, () if self.copies else tuple(piece.count() for piece in pieces))

    def _pieces(self, held: list[_Encoded], following: _Slice | None) -> Iterator[_Piece]:
        """What a cut holds of each source; all of a source is in the cuts that it is in."""
        by_index: dict[int, list[_Encoded]] = {}
        for encoded in held:
            by_index.setdefault(encoded.slice.index, []).append(encoded)
        for index, found in by_index.items():
            source, first = self.task.source[index], found[0].slice
            goes_on = following is not None and following.index == index
            end, line = source.end, self._lines[index]
            if goes_on and following is not None:
                end, line = following.at, following.line
            if index in self._begun:
                yield _Piece(replace(source, start=first.at, end=end), found, first, line)
            else:
                whole = replace(first, row=0, line=0)
                yield _Piece(replace(source, end=end), found, whole, line)
        self._begun |= set(by_index)


@dataclass(frozen=True)
class _Piece:
    """A cut's share of one source, from the rows and lines of `begins` to the line `line`."""

    range: SourceRange
    held: list[_Encoded]
    begins: _Slice
    line: int

    def count(self) -> Count:
        """Rows, lines and faults, counted from the cut's start."""
        row, line = self.begins.row, self.begins.line
        faults = tuple(
            replace(fault, row=fault.row - row, line=fault.line - line)
            for encoded in self.held
            for fault in encoded.faults
        )
        rows = sum(encoded.slice.rows for encoded in self.held)
        lines = self.line - line if self.line else rows
        return Count(str(place(self.range.path)), rows, lines, faults)


def pack(data: bytes, packing: Packing) -> bytes:
    """Bytes as one frame, which may be followed by others."""
    packer = CODECS[packing.codec].packer(packing.level)
    return packer.compress(data) + packer.flush()


def _bytes(chunk: Chunk | Parsed, first: int, last: int) -> int:
    if not isinstance(chunk, Chunk):
        return chunk.size
    return int(chunk.ends[last - 1] - chunk.starts[first])


def _bad_row(fault: Fault) -> ShortfallError:
    where = "" if fault.field is None else f" of field {fault.field}"
    value = "" if fault.value is None else f"{fault.value!r}{where} is "
    return ShortfallError(
        f"A row of {fault.path} cannot be converted ({value}{fault.message}): `splarn check` lists "
        "all such rows, and --rejects DIR sets them aside."
    )
