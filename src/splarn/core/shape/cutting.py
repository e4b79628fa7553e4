"""A source cut as it is read: records in their order, encoded, and written cut after cut."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from splarn.core.errors import ShortfallError
from splarn.core.reading import text_parser
from splarn.core.reading.faults import Fault
from splarn.core.records.chunks import Chunk, record_chunks
from splarn.core.shape.copying import refuse_longer
from splarn.core.shape.manifest import SourceRange
from splarn.core.shape.part import ColumnarPart, TextPart
from splarn.core.shape.slices import Encoded, Share, Slice, end_of
from splarn.core.shape.task import Cut, ShapeTask
from splarn.core.source.codecs import Packing, codecs, head_of
from splarn.core.source.content import Identity, Reading
from splarn.core.source.passing import Passing
from splarn.core.source.places import place
from splarn.core.source.source import LOOK, first_record
from splarn.core.work.lanes import report
from splarn.core.work.pool import Pool

if TYPE_CHECKING:
    from splarn.core.reading.parsed import Parsed

CHUNK = 4 << 20


class Cutting:
    """Reads a task's sources in order, lets the pool encode, and writes cut after cut."""

    def __init__(self, task: ShapeTask, pool: Pool) -> None:
        self.task = task
        self.pool = pool
        self.output = task.output
        self.copies = task.output.is_copy(task.layout)
        self.in_order = not task.output.sort_by and not task.output.partition_by
        self.tables = bool(
            task.output.format == "parquet" or task.output.sort_by or task.output.partition_by
        )
        self._parts: dict[str, TextPart | ColumnarPart] = {}
        # Lines of each source read so far, and the sources of which an earlier cut holds a part.
        self._lines: Counter[int] = Counter()
        self._begun: set[int] = set()
        # Records and lines of a source that an interrupted try has copied; None where not known.
        self._before: dict[int, tuple[int, int] | None] = {}
        # Content ids of sources read from start to end, until a cut carries them.
        self._contents: list[tuple[str, Identity]] = []
        self._passing = Passing(task.extents)

    def run(self) -> Iterator[Cut]:
        """The cuts, each whole on disk when it is given."""
        held: list[Encoded] = []
        try:
            for encoded in self.pool.flow(self._encode, self.slices()):
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

    def stand(self) -> tuple[
        dict[int, int], tuple[int, ...], dict[int, tuple[int, int] | None],
        tuple[tuple[str, Identity], ...],
    ]:  # fmt: skip
        """What is known of the sources at this moment, for `take_up`; contents are told once."""
        contents, self._contents = tuple(self._contents), []
        return dict(self._lines), tuple(sorted(self._begun)), dict(self._before), contents

    def passed(self, held: Sequence[Slice]) -> None:
        """A cut holds these, so that what follows of their sources does not begin them."""
        self._begun |= {one.index for one in held}

    def take_up(
        self,
        lines: Mapping[int, int],
        begun: Sequence[int],
        before: Mapping[int, tuple[int, int] | None],
        contents: Sequence[tuple[str, Identity]],
    ) -> None:
        """Stands where another one stood that has read the sources."""
        self._lines.update(lines)
        self._begun, self._before = set(begun), dict(before)
        self._contents = list(contents)

    def cut_of(self, slices: Sequence[Slice], following: Slice | None) -> Cut:
        """One cut of slices that another one has read."""
        held: list[Encoded] = []
        try:
            for one in slices:
                encoded = self._encode(one)
                self._write(encoded)
                held.append(self._remembered(encoded))
            return self._finish(held, following)
        except BaseException:
            for part in self._parts.values():
                part.file.discard()
            raise

    def _remembered(self, encoded: Encoded) -> Encoded:
        """Without the data, which a part may have too much of."""
        table = encoded.table if self.output.sort_by else None
        slice_ = replace(encoded.slice, chunk=None, parsed=None)
        return replace(encoded, slice=slice_, packed=b"", data=b"", table=table)

    def slices(self) -> Iterator[Slice]:
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
                self._before[index] = end_of(last)
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

        reading = None
        # Of plain files that is told by the stretches that pass.
        if (start, piece.end) == (0, None) and piece.path not in self.task.extents:
            head = head_of(path, piece.codec, LOOK)
            reading = Reading(first_record(head, self.task.layout.dialect, str(path)))

        def counted() -> Iterator[bytes]:
            last = b""
            for block in self._passing.read(path, piece.codec, start, piece.end, taken=report):
                if not self.copies:
                    self._lines[index] += block.count(b"\n")
                    last = block[-1:] or last
                if reading is not None:
                    reading.unpacked(block)
                yield block
            if last not in (b"", b"\n"):
                # The last record has a line too where that is not ended.
                self._lines[index] += 1
            if reading is not None:
                self._contents.append((piece.path, reading.identity))

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

    def _slice(self, cut: int, index: int, chunk: Chunk | Parsed, first: int, last: int) -> Slice:
        if not isinstance(chunk, Chunk):
            return Slice(cut, index, chunk.offset, chunk.row, chunk.row, chunk.rows, parsed=chunk)
        part = chunk.part(first, last)
        at = chunk.offset + int(chunk.starts[first])
        # A chunk begins with the file's header, its first record does not.
        return Slice(cut, index, at, part.row, part.line_of(0) - 1, part.rows, part)

    def _encode(self, piece: Slice) -> Encoded:
        if self.copies:
            assert piece.chunk is not None, "only text is copied"
            data = b"".join(piece.chunk.pieces(slice(None)))
            return Encoded(
                piece, self._packed(data), data, piece.rows, size=len(data),
                lines=data.count(b"\n"),
            )  # fmt: skip
        parsed, fitting = piece.parsed, self.task.fitting
        path = place(self.task.source[piece.index].path)
        if parsed is None:
            assert piece.chunk is not None, "a slice has records"
            parser = text_parser(self.task.layout, str(path))
            parsed = parser.parse(piece.chunk)
            if fitting is not None:
                parsed = fitting.fitted(parsed, parser.faults_of(piece.chunk))
        elif fitting is not None:
            from splarn.core.reading.columnar import faults_of_parsed

            parsed = fitting.fitted(parsed, faults_of_parsed(path, parsed))
        if parsed.faults and self.task.keep == 0:
            raise _bad_row(parsed.faults[0])
        rows = len(parsed.good)
        if self.tables:
            return Encoded(piece, b"", b"", rows, parsed.table, parsed.faults)
        data = self._text(parsed.table)
        return Encoded(piece, self._packed(data), data, rows, None, parsed.faults)

    def _text(self, table: Any) -> bytes:
        from splarn.core.reading.text import delimited, json_lines

        made = self.task.made
        return json_lines(table, made) if made.format == "jsonl" else delimited(table, made)

    def _packed(self, data: bytes) -> bytes:
        """A frame of its own, so that workers can pack one part together."""
        return pack(data, self.output.packing)

    def _write(self, encoded: Encoded) -> None:
        if encoded.table is None:
            part = self._part("", encoded.slice.cut)
            assert isinstance(part, TextPart), "text goes into parts of text"
            part.put_packed(encoded.packed, encoded.data, encoded.rows)
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
                part.put_packed(self._packed(data), data, len(rows))

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
                part.put_header(task.header, self._packed(task.header))
        self._parts[folder] = part
        return part

    def _finish(self, held: list[Encoded], following: Slice | None) -> Cut:
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
        parts = tuple(
            part.finish(source) if isinstance(part, ColumnarPart) else part.finish(source, True)
            for _, part in sorted(self._parts.items())
        )
        self._parts = {}
        contents, self._contents = tuple(self._contents), []
        counts = () if self.copies else tuple(piece.count() for piece in pieces)
        stretches, self._passing.stretches = tuple(self._passing.stretches), []
        return Cut(parts, counts, contents, stretches)

    def _pieces(self, held: list[Encoded], following: Slice | None) -> Iterator[Share]:
        """What a cut holds of each source; all of a source is in the cuts that it is in."""
        by_index: dict[int, list[Encoded]] = {}
        for encoded in held:
            by_index.setdefault(encoded.slice.index, []).append(encoded)
        for index, its_slices in by_index.items():
            source, first = self.task.source[index], its_slices[0].slice
            goes_on = following is not None and following.index == index
            end, line = source.end, self._lines[index]
            if goes_on and following is not None:
                end, line = following.at, following.line
            where = replace(source, end=end)
            if index in self._begun:
                where = replace(where, start=first.at)
            if self.copies:
                where = self._followed(where, index, its_slices)
            elif self.in_order:
                where = self._converted(where, index, its_slices, line)
            if index in self._begun:
                yield Share(where, its_slices, first, line)
            else:
                yield Share(where, its_slices, replace(first, row=0, line=0), line)
        self._begun |= set(by_index)

    def _followed(self, where: SourceRange, index: int, held: list[Encoded]) -> SourceRange:
        """A copied range with where its records lie in the source, as far as that is known."""
        before, first = self._before.get(index, (0, 0)), held[0].slice
        if before is None:
            return where
        joined = all(a.slice.at + a.size == b.slice.at for a, b in pairwise(held))
        return replace(
            where,
            row=first.row + before[0],
            line=first.line + before[1] + 1,
            rows=sum(encoded.slice.rows for encoded in held),
            lines=sum(encoded.lines for encoded in held) if joined else None,
        )

    def _converted(
        self, where: SourceRange, index: int, held: list[Encoded], line: int
    ) -> SourceRange:
        """A converted range with where its records lie in the source; `line` is where it ends."""
        before, first = self._before.get(index, (0, 0)), held[0].slice
        if before is None:
            return where
        columnar, begins = self.task.layout.format == "parquet", not self.task.source[index].start
        rows = sum(encoded.slice.rows for encoded in held)
        # Of a range in the midst of a file all lines count, also blank ones before its records.
        lines = rows if columnar else line - (first.line if begins else 0)
        gone = sorted(fault.row - first.row for encoded in held for fault in encoded.faults)
        where = replace(where, rows=rows, lines=lines, converted=True, gone=tuple(gone))
        if columnar:
            return replace(where, row=where.start, line=where.start + 1)
        if not begins:
            # What lies before it is known once all of that has been made.
            return where
        return replace(where, row=first.row + before[0], line=first.line + before[1] + 1)


def pack(data: bytes, packing: Packing) -> bytes:
    """Bytes as one frame, which may be followed by others."""
    packer = codecs()[packing.codec].packer(packing.level)
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
