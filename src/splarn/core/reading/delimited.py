"""Typed columns out of delimited text, and the records that do not fit the layout.

Records that are written plainly are taken by the kernel, where there is one, the others looked at
by themselves. Without it, or where others are many, Arrow reads the whole chunk straight into the
layout's types. Only when something does not fit there are records read again as text, and the
misfits looked for column by column.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from splarn.core import kernel
from splarn.core.kernel import RecordParser
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.reading.convert import convert_text
from splarn.core.reading.parsed import Blamer, Parsed, TextParser, as_parsed
from splarn.core.records.bitmaps import NEWLINE, RETURN, Bitmaps, has_run, judged, later
from splarn.core.records.chunks import Chunk
from splarn.core.source.forms import around_fields
from splarn.core.units import plural

TAB = 9
# Chunks that are read by Arrow at once after one that the kernel could not take.
PASSED = 8
# Control characters that may stand in for a delimiter of several bytes.
_STAND_INS = (b"\x1f", b"\x1e", b"\x1d", b"\x1c", *(bytes([byte]) for byte in range(1, 9)))


class DelimitedParser(TextParser):
    """Reads delimited text."""

    def __init__(self, layout: Layout, path: str) -> None:
        super().__init__(layout, path)
        dialect = layout.dialect
        layout, dialect = self.layout, self.layout.dialect
        self._read = csv.ReadOptions(
            column_names=list(layout.names), use_threads=False, block_size=1 << 30
        )
        self._late = [field for field in layout.fields if field.is_converted]
        # Numbers that might not come back as they are written are looked at as text.
        self._numbers = [
            field
            for field in layout.fields
            if field.type in ("integer", "number") and not field.is_converted
        ]
        self._fractions = any(field.type == "number" for field in self._numbers)
        self._text = dict.fromkeys(layout.names, pa.binary())
        # Columns that have the same words for no value are read together.
        self._words: dict[tuple[str, ...], list[str]] = {}
        for field in layout.fields:
            markers = dialect.null_markers if field.null_markers is None else field.null_markers
            self._words.setdefault(markers, []).append(field.name)
        self._parse: dict[str, Any] = {
            "quote_char": dialect.quote or False,
            "escape_char": dialect.escape or False,
            "double_quote": True,
            "newlines_in_values": True,
        }
        self._delimiter = dialect.delimiter.encode()
        self._hex_matters = any(field.type == "integer" for field in layout.fields)
        self._trims = dialect.trim
        self._plain: RecordParser | None = None
        if kernel.available() and kernel.can_parse(layout.fields, dialect):
            late = {field.name for field in self._late}
            self._plain = RecordParser(layout.fields, dialect, late)
        # Chunks to come in which it is not even tried.
        self._passed = 0

    def _parse_plain(self, chunk: Chunk) -> Parsed | None:
        data, dialect = chunk.data, self.layout.dialect
        if self._plain is None or chunk.open_quote or self._passed:
            self._passed -= bool(self._passed)
            return None
        if dialect.escape is not None and dialect.escape.encode() in data:
            return None
        if not dialect.is_utf8 and not data.isascii():
            return None
        found = self._plain.parse(data, chunk.starts, chunk.ends)
        if found is None:
            # Where one chunk is written in another way its neighbours are too.
            self._passed = PASSED
            return None
        table, odd = found
        table, misfit = self._converted(table)
        if not len(odd) and misfit is None:
            return as_parsed(chunk, table, np.arange(chunk.rows), ())
        taken = np.ones(chunk.rows, dtype=bool)
        taken[odd] = False
        good = np.flatnonzero(taken)
        if misfit is not None:
            table = table.filter(pa.array(~misfit))
            odd = np.sort(np.concatenate((odd, good[misfit])))
            good = good[~misfit]
        return self._joined(chunk, table, good, self._parse_carefully(chunk.only(odd)), odd)

    def _converted(self, table: Any) -> tuple[Any, Any]:
        """The table with its late columns in their types, and which rows have one that misfits."""
        misfits = None
        for field in self._late:
            place = self.layout.names.index(field.name)
            values, misfit = convert_text(table.column(place), field)
            if field.required and values.null_count:
                misfit = misfit | pc.is_null(values).to_numpy(zero_copy_only=False)
            if misfit.any():
                misfits = misfit if misfits is None else misfits | misfit
            table = table.set_column(place, self.layout.arrow_schema.field(place), values)
        return table, misfits

    def _joined(self, chunk: Chunk, table: Any, good: Any, rest: Parsed, odd: Any) -> Parsed:
        """The rows of a chunk that were taken at a go, and those of its `odd` records."""
        faults = tuple(
            replace(fault, row=chunk.row + 1 + int(odd[fault.row - chunk.row - 1]))
            for fault in rest.faults
        )
        if len(rest.table):
            good = np.concatenate((good, odd[rest.good]))
            order = np.argsort(good, kind="stable")
            both = pa.concat_tables((table.cast(rest.table.schema), rest.table))
            table, good = both.take(pa.array(order)), good[order]
        return as_parsed(chunk, table, good, faults)

    def _parse_direct(self, chunk: Chunk) -> Any:
        data = chunk.data
        first = chunk.records.start(0)
        if first:
            data = data[first:]
        bits = chunk.records.bits
        if bits is None:
            bits = Bitmaps(data)
            if judged(bits, self.layout.dialect)[0] is None:
                bits.inside = None
        odd = bool(self._numbers) and has_odd_start(bits, self.layout.dialect)
        if self._suspicious(data, chunk) or (odd and self._hex_matters and has_hex(bits)):
            return None
        if not data.endswith(b"\n"):
            # Arrow takes an empty field at the very end for an empty text.
            data += b"\n"
        late = self._late
        if self._numbers and (
            (odd and has_padded(bits, self.layout.dialect))
            or (self._fractions and has_long_digits(bits))
        ):
            late = [*late, *self._numbers]
        names = {field.name for field in late}
        types = {
            field.name: pa.string() if field.name in names else field.arrow_type()
            for field in self.layout.fields
        }
        try:
            data, mark = self._ready(data)
            options = csv.ParseOptions(**self._parse, delimiter=mark.decode())
            table = self._columns(data, types, options, True)
        except (pa.ArrowInvalid, pa.ArrowKeyError, UnicodeDecodeError):
            return None
        return self._fitted(self._unmarked(table, mark), late)

    def _columns(self, data: bytes, types: dict[str, Any], options: Any, check_utf8: bool) -> Any:
        """All columns, each by its own words for no value."""
        if len(self._words) == 1:
            (markers,) = self._words
            convert = self._convert(types, markers, check_utf8)
            return csv.read_csv(pa.BufferReader(data), self._read, options, convert)
        columns: dict[str, Any] = {}
        for markers, names in self._words.items():
            convert = self._convert(types, markers, check_utf8)
            convert.include_columns = names
            table = csv.read_csv(pa.BufferReader(data), self._read, options, convert)
            columns |= dict(zip(table.column_names, table.columns, strict=True))
        return pa.table({name: columns[name] for name in self.layout.names})

    def _suspicious(self, data: bytes, chunk: Chunk) -> bool:
        if chunk.open_quote or b"\0" in data:
            return True
        escape = self.layout.dialect.escape
        if escape is not None and escape.encode() + b"\n" in data:
            return True
        return b"\r" in data and data.count(b"\r") != data.count(b"\r\n")

    def _ready(self, data: bytes) -> tuple[bytes, bytes]:
        """The bytes as UTF-8 with a delimiter of one byte, and that delimiter."""
        dialect = self.layout.dialect
        if not dialect.is_utf8:
            data = data.decode(dialect.encoding).encode()
        if self._trims:
            quote = dialect.quote if dialect.quote and dialect.quote.encode() in data else None
            data = around_fields(self._delimiter, quote, dialect.escape).sub(rb"\1", data)
        if len(self._delimiter) == 1:
            return data, self._delimiter
        mark = next((mark for mark in _STAND_INS if mark not in data), None)
        if mark is None:
            raise pa.ArrowInvalid("no control character is free to stand in for the delimiter")
        return data.replace(self._delimiter, mark), mark

    def _unmarked(self, table: Any, mark: bytes) -> Any:
        """Puts delimiters that were inside quoted text back in."""
        if mark == self._delimiter:
            return table
        for place, column in enumerate(table.columns):
            if pa.types.is_string(column.type) or pa.types.is_binary(column.type):
                back = pc.replace_substring(column, mark, self._delimiter)
                table = table.set_column(place, table.column_names[place], back)
        return table

    def _convert(self, types: dict[str, Any], markers: tuple[str, ...], check_utf8: bool) -> Any:
        return csv.ConvertOptions(
            column_types=types,
            null_values=list(markers),
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            check_utf8=check_utf8,
        )

    def _parse_carefully(self, chunk: Chunk) -> Parsed:
        blame = Blamer(self.faults_of(chunk))
        records = [
            chunk.data[a:b] for a, b in zip(chunk.starts.tolist(), chunk.ends.tolist(), strict=True)
        ]
        for row, kind, message in self._odd_records(chunk, records):
            blame(row, None, kind, None, message)
        rows = np.array([row for row in range(len(records)) if row not in blame.faults], np.int64)
        table, wrong_width = self._read_text(records, rows)
        for position, width in wrong_width:
            expected = len(self.layout.fields)
            message = f"{plural(width, 'column')} where the layout has {expected}"
            if not width:
                message = "quotes that do not divide it into fields"
            blame(int(rows[position]), None, "columns", None, message)
        if wrong_width:
            rows = np.delete(rows, [position for position, _ in wrong_width])
        columns = []
        for index, field in enumerate(self.layout.fields):
            columns.append(self._careful_column(table.column(index), field, rows, blame))
        keep = blame.kept(rows)
        typed = pa.table(columns, schema=self.layout.arrow_schema)
        if not keep.all():
            typed = typed.filter(pa.array(keep))
        return as_parsed(chunk, typed, rows[keep], blame.ordered())

    def _odd_records(self, chunk: Chunk, records: list[bytes]) -> list[tuple[int, str, str]]:
        odd: list[tuple[int, str, str]] = []
        dialect = self.layout.dialect
        quote = (dialect.quote or "\0").encode()
        escape = None if dialect.escape is None else dialect.escape.encode()
        look = b"\0" in chunk.data or b"\r" in chunk.data or escape is not None
        for row, record in enumerate(records if look else []):
            if b"\0" in record:
                odd.append((row, "record", "a NUL byte, which no target can store"))
                continue
            body = record.removesuffix(b"\n").removesuffix(b"\r")
            if b"\r" in body and b"\r" in b"".join(body.split(quote)[::2]):
                odd.append((row, "record", "a carriage return outside quotes"))
            if escape is not None and (len(body) - len(body.rstrip(escape))) % 2:
                odd.append((row, "record", "an escape character at the end of the record"))
        if not dialect.is_utf8:
            for row, record in enumerate(records):
                try:
                    record.decode(dialect.encoding)
                except UnicodeDecodeError:
                    odd.append((row, "encoding", f"bytes that {dialect.encoding} does not know"))
        if chunk.open_quote:
            odd.append((chunk.rows - 1, "record", "a quote that is never closed"))
        return odd

    def _read_text(self, records: list[bytes], rows: Any) -> tuple[Any, list[tuple[int, int]]]:
        """All columns as bytes, and (position, columns found) of records of another width."""
        wrong: list[tuple[int, int]] = []

        def skip(row: Any) -> str:
            wrong.append((row.number - 1, row.actual_columns))
            return "skip"

        data = b"".join(records[row] for row in rows)
        data = data if data.endswith(b"\n") else data + b"\n" * bool(data)
        if not data:
            return pa.table({name: pa.array([], pa.binary()) for name in self.layout.names}), wrong
        data, mark = self._ready(data)
        parse = {**self._parse, "delimiter": mark.decode()}
        options = csv.ParseOptions(**parse, invalid_row_handler=skip)
        if not _is_utf8(data):
            # Arrow cannot hand over a record of another width then. Bytes as letters keep widths.
            widths = self._columns(data.decode("latin-1").encode(), self._text, options, False)
            if len(widths) + len(set(wrong)) != len(rows):
                return self._one_by_one(records, rows)
            if wrong:
                wrong = sorted(set(wrong))
                table, _ = self._read_text(records, np.delete(rows, [at for at, _ in wrong]))
                return table, wrong
        table = self._columns(data, self._text, options, False)
        # Each pass over the columns met the same records.
        wrong = sorted(set(wrong))
        if len(table) + len(wrong) != len(rows):
            return self._one_by_one(records, rows)
        short = {at: width for at, width in wrong if width < len(self.layout.fields)}
        if short and self.layout.dialect.fill:
            filled = list(records)
            for at, width in short.items():
                row = int(rows[at])
                bare = records[row].rstrip(b"\r\n")
                filled[row] = bare + self._delimiter * (len(self.layout.fields) - width) + b"\n"
            return self._read_text(filled, rows)
        return self._unmarked(table, mark), wrong

    def _one_by_one(self, records: list[bytes], rows: Any) -> tuple[Any, list[tuple[int, int]]]:
        """The same where Arrow divides the text into other records than it has: each by itself."""
        if len(rows) == 1:
            empty = {name: pa.array([], pa.binary()) for name in self.layout.names}
            return pa.table(empty), [(0, 0)]
        tables, wrong = [], []
        for position in range(len(rows)):
            table, odd = self._read_text(records, rows[position : position + 1])
            tables.append(table)
            wrong += [(position, width) for _, width in odd]
        return pa.concat_tables(tables), wrong

    def _careful_column(self, column: Any, field: Field, rows: Any, blame: Blamer) -> Any:
        text, broken = _as_text(column)
        for position, value in broken:
            blame(int(rows[position]), field.name, "encoding", value, "bytes that are no UTF-8")
        if not field.is_free_text:
            text = self._bare(text, field)
        return careful_values(text, field, rows, blame)

    def _bare(self, text: Any, field: Field) -> Any:
        """Text without the blanks around it, which no value of another type has."""
        text = pc.utf8_trim_whitespace(text)
        markers = field.null_markers
        markers = self.layout.dialect.null_markers if markers is None else markers
        empty = pc.is_in(text, pa.array(markers, pa.string()))
        return pc.if_else(empty, pa.scalar(None, pa.string()), text)


def _is_utf8(data: bytes) -> bool:
    try:
        data.decode()
    except UnicodeDecodeError:
        return False
    return True


def has_odd_start(bits: Bitmaps, dialect: Dialect) -> bool:
    """Whether a field may begin with a zero before more than a fraction, or with a sign or blank.

    Where none does, no number is padded and none is hexadecimal; what else begins so is looked at
    more closely.
    """
    starts = bits.field_starts(dialect)
    ends = bits.delimiters(dialect) | bits.of(NEWLINE)
    if dialect.quote is not None:
        ends = ends | bits.of(ord(dialect.quote))
    # A tab, and from the blank to the slash, among them the signs.
    if (starts & (bits.between(32, 47) | bits.of(TAB)) & ~ends).any():
        return True
    harmless = ends | bits.of(ord(".")) | bits.of(RETURN)
    return bool((later(starts & bits.of(ord("0")), False) & ~harmless).any())


def has_padded(bits: Bitmaps, dialect: Dialect) -> bool:
    """Whether a field may begin with a zero before a digit, which no number brings back."""
    starts = bits.field_starts(dialect)
    signs = bits.of(ord("-")) | bits.of(ord("+"))
    blanks = (bits.of(ord(" ")) | bits.of(TAB)) & ~bits.delimiters(dialect)
    if (later(starts & blanks, False) & (signs | blanks)).any():
        # A number may stand behind several blanks.
        return True
    zeros = bits.of(ord("0")) & (starts | later(starts & (signs | blanks), False))
    return bool((later(zeros, False) & bits.between(48, 57)).any())


def has_long_digits(bits: Bitmaps) -> bool:
    """Whether there may be more digits in a row than every double keeps, a point among them.

    A slash lies between the point and the digits, and does no harm.
    """
    return has_run(bits.between(46, 57), 16)


def has_hex(bits: Bitmaps) -> bool:
    """Whether 0x or 0X is in the data, which Arrow would read as a number."""
    marks = bits.of(ord("x")) | bits.of(ord("X"))
    return bool((later(bits.of(ord("0")), False) & marks).any())


def careful_values(text: Any, field: Field, rows: Any, blame: Blamer) -> Any:
    """Typed values of a text column; `rows` are the records they belong to, for the blame."""
    values, misfit = convert_text(text, field)
    for position in np.flatnonzero(misfit).tolist():
        value = text[position].as_py()
        blame(int(rows[position]), field.name, "type", value, f"not {_article(field)}")
    if field.required:
        empty = pc.is_null(text).to_numpy(zero_copy_only=False)
        for position in np.flatnonzero(empty).tolist():
            blame(int(rows[position]), field.name, "required", None, "empty where required")
    return values


def _article(field: Field) -> str:
    word = field.describe()
    return f"an {word}" if word[0] in "aeiou" else f"a {word}"


def _as_text(column: Any) -> tuple[Any, list[tuple[int, str]]]:
    """A column of bytes as text; undecodable values become null and are listed."""
    column = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    if isinstance(column, pa.ChunkedArray):
        column = pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], pa.binary())
    try:
        text = column.cast(pa.string())
        text.validate(full=True)
        return text, []
    except pa.ArrowInvalid:
        broken: list[tuple[int, str]] = []
        values: list[str | None] = []
        for position, value in enumerate(column.to_pylist()):
            try:
                values.append(None if value is None else value.decode())
            except UnicodeDecodeError:
                values.append(None)
                broken.append((position, value.decode(errors="backslashreplace")))
        return pa.array(values, pa.string()), broken
