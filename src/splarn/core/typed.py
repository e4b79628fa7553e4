"""Typed columns out of records, and the records that do not fit the layout.

A chunk is first read by Arrow straight into the layout's types. Only when something in it does not
fit is it read again as text, and the misfits looked for column by column.
"""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from splarn.core.faults import Fault, shorten
from splarn.core.layout import Field, Layout
from splarn.core.records import Chunk

Mask = Any  # numpy array of bool, one entry a record


@dataclass(frozen=True)
class Parsed:
    """A chunk's good rows as typed columns, and one fault for each bad row.

    `good` are the indexes of the good records in the chunk, in order; `table` has one row for each.
    """

    chunk: Chunk
    table: Any
    good: Any
    faults: tuple[Fault, ...]

    def raw(self, start: int, stop: int) -> list[bytes]:
        """The raw bytes of good rows `start` to `stop`, in as few pieces as they allow."""
        return self.chunk.pieces(self.good[start:stop])

    def end_offset(self, good_rows: int) -> int:
        """Unpacked file bytes up to the end of the good row before number `good_rows`.

        With all good rows taken, the chunk's end, so that trailing bad records count as read.
        """
        if good_rows >= len(self.good):
            return self.chunk.offset + len(self.chunk.data)
        return self.chunk.offset + int(self.chunk.starts[self.good[good_rows]])


class Parser:
    """Reads chunks by one layout. Not shared between threads."""

    def __init__(self, layout: Layout, path: str) -> None:
        self.layout = layout
        self.path = path
        self._direct = True
        dialect = layout.dialect
        self._read = csv.ReadOptions(
            column_names=list(layout.names),
            use_threads=False,
            block_size=1 << 30,
        )
        self._types = {field.name: _direct_type(field) for field in layout.fields}
        self._text = dict.fromkeys(layout.names, pa.binary())
        self._parse: dict[str, Any] = {
            "delimiter": dialect.delimiter,
            "quote_char": dialect.quote or False,
            "double_quote": True,
            "newlines_in_values": True,
        }
        self._required = [field.name for field in layout.fields if field.required]
        self._patterned = [field for field in layout.fields if field.has_pattern]
        self._hex_matters = any(field.type == "integer" for field in layout.fields)

    def parse(self, chunk: Chunk) -> Parsed:
        """Splits a chunk into typed good rows and faults."""
        data = chunk.data
        if int(chunk.starts[0]):
            data = data[int(chunk.starts[0]) :]
        if not self.layout.dialect.is_utf8:
            data = data.decode(self.layout.dialect.encoding, errors="replace").encode()
        if self._direct and not self._suspicious(data, chunk):
            table = self._parse_direct(data)
            if table is not None and len(table) == chunk.rows:
                return Parsed(chunk, table, np.arange(chunk.rows), ())
        # Spoiled rows come in company: try the direct way again only after a clean chunk.
        parsed = self._parse_carefully(chunk)
        self._direct = not parsed.faults
        return parsed

    def _suspicious(self, data: bytes, chunk: Chunk) -> bool:
        if chunk.open_quote or b"\0" in data:
            return True
        if self._hex_matters and (b"0x" in data or b"0X" in data):
            return True
        return b"\r" in data and data.count(b"\r") != data.count(b"\r\n")

    def _convert(self, types: dict[str, Any], check_utf8: bool) -> Any:
        return csv.ConvertOptions(
            column_types=types,
            null_values=list(self.layout.dialect.null_markers),
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            check_utf8=check_utf8,
        )

    def _parse_direct(self, data: bytes) -> Any:
        try:
            table = csv.read_csv(
                io.BytesIO(data),
                self._read,
                csv.ParseOptions(**self._parse),
                self._convert(self._types, True),
            )
        except (pa.ArrowInvalid, pa.ArrowKeyError):
            return None
        if any(table.column(name).null_count for name in self._required):
            return None
        for field in self._patterned:
            values, misfit = _convert_text(table.column(field.name), field)
            if misfit.any():
                return None
            table = table.set_column(table.column_names.index(field.name), field.name, values)
        return table

    def _parse_carefully(self, chunk: Chunk) -> Parsed:
        faults: dict[int, Fault] = {}

        def blame(row: int, field: str | None, kind: str, value: str | None, message: str) -> None:
            if row not in faults:
                raw = chunk.data[int(chunk.starts[row]) : int(chunk.ends[row])]
                faults[row] = Fault(
                    self.path,
                    chunk.line_of(row),
                    chunk.row + row + 1,
                    field,
                    kind,
                    None if value is None else shorten(value),
                    message,
                    raw.decode(self.layout.dialect.encoding, errors="backslashreplace"),
                )

        records = [
            chunk.data[a:b] for a, b in zip(chunk.starts.tolist(), chunk.ends.tolist(), strict=True)
        ]
        for row, message in self._odd_records(chunk, records):
            blame(row, None, "record", None, message)
        rows = np.array([row for row in range(len(records)) if row not in faults], dtype=np.int64)
        table, wrong_width = self._read_text(records, rows)
        for position, found in wrong_width:
            expected = len(self.layout.fields)
            blame(
                int(rows[position]),
                None,
                "columns",
                None,
                f"{found} columns where the layout has {expected}",
            )
        if wrong_width:
            rows = np.delete(rows, [position for position, _ in wrong_width])
        columns = []
        for index, field in enumerate(self.layout.fields):
            columns.append(self._careful_column(table.column(index), field, rows, blame))
        keep = np.array([row not in faults for row in rows.tolist()], dtype=bool)
        typed = pa.table(columns, schema=self.layout.arrow_schema)
        if not keep.all():
            typed = typed.filter(pa.array(keep))
        ordered = tuple(faults[row] for row in sorted(faults))
        return Parsed(chunk, typed, rows[keep], ordered)

    def _odd_records(self, chunk: Chunk, records: list[bytes]) -> list[tuple[int, str]]:
        odd = []
        quote = (self.layout.dialect.quote or "\0").encode()
        look = b"\0" in chunk.data or b"\r" in chunk.data
        for row, record in enumerate(records if look else []):
            if b"\0" in record:
                odd.append((row, "a NUL byte, which no target can store"))
                continue
            body = record.removesuffix(b"\n").removesuffix(b"\r")
            if b"\r" in body and b"\r" in b"".join(body.split(quote)[::2]):
                odd.append((row, "a carriage return outside quotes"))
        if chunk.open_quote:
            odd.append((chunk.rows - 1, "a quote that is never closed"))
        return odd

    def _read_text(self, records: list[bytes], rows: Any) -> tuple[Any, list[tuple[int, int]]]:
        """All columns as bytes, and (position, columns found) of records of another width."""
        wrong: list[tuple[int, int]] = []

        def skip(row: Any) -> str:
            wrong.append((row.number - 1, row.actual_columns))
            return "skip"

        data = b"".join(records[row] for row in rows)
        if not self.layout.dialect.is_utf8:
            data = data.decode(self.layout.dialect.encoding, errors="replace").encode()
        if not data:
            return self.layout.arrow_schema.empty_table().cast(
                pa.schema([(name, pa.string()) for name in self.layout.names])
            ), wrong
        table = csv.read_csv(
            io.BytesIO(data),
            self._read,
            csv.ParseOptions(**self._parse, invalid_row_handler=skip),
            self._convert(self._text, False),
        )
        return table, wrong

    def _careful_column(
        self, column: Any, field: Field, rows: Any, blame: Callable[..., None]
    ) -> Any:
        text, broken = _as_text(column)
        for position, value in broken:
            blame(int(rows[position]), field.name, "encoding", value, "bytes that are no text")
        if field.type != "string":
            text = pc.utf8_trim_whitespace(text)
            markers = pa.array(self.layout.dialect.null_markers, pa.string())
            text = pc.if_else(pc.is_in(text, markers), pa.scalar(None, pa.string()), text)
        values, misfit = _convert_text(text, field)
        for position in np.flatnonzero(misfit).tolist():
            value = text[position].as_py()
            blame(int(rows[position]), field.name, "type", value, f"not {_article(field)}")
        if field.required:
            empty = pc.is_null(text).to_numpy(zero_copy_only=False)
            for position in np.flatnonzero(empty).tolist():
                blame(int(rows[position]), field.name, "required", None, "empty where required")
        return values


def _direct_type(field: Field) -> Any:
    return pa.string() if field.has_pattern else field.arrow_type()


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


def _convert_text(text: Any, field: Field) -> tuple[Any, Mask]:
    """Typed values of a text column, null where they do not fit, and where that is."""
    if isinstance(text, pa.ChunkedArray):
        text = text.combine_chunks()
    if field.type == "string":
        return text, np.zeros(len(text), dtype=bool)
    if field.has_pattern:
        return _convert_pattern(text, field)
    if field.type == "integer":
        # Arrow reads 0x1F as 31; no table should.
        hexed = pc.match_substring_regex(text, "^[+-]?0[xX]").fill_null(False)
        if pc.any(hexed).as_py():
            text = pc.if_else(hexed, pa.scalar("no integer"), text)
    return _cast_or_bisect(text, field)


def _cast(text: Any, field: Field) -> Any:
    if field.type == "time":
        stamped = pc.binary_join_element_wise("1970-01-01T", text, "")
        return stamped.cast(pa.timestamp("us")).cast(pa.time64("us"))
    return text.cast(field.arrow_type())


def _cast_or_bisect(text: Any, field: Field) -> tuple[Any, Mask]:
    """Casts a column; halves it where that fails, down to the values that are to blame."""
    misfit = np.zeros(len(text), dtype=bool)
    pieces: list[Any] = []
    stack = [(0, len(text))]
    while stack:
        start, stop = stack.pop()
        try:
            pieces.append(_cast(text.slice(start, stop - start), field))
            continue
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            pass
        if stop - start == 1:
            misfit[start] = True
            pieces.append(pa.nulls(1, field.arrow_type()))
        else:
            middle = (start + stop) // 2
            stack.append((middle, stop))
            stack.append((start, middle))
    if not pieces:
        return pa.array([], field.arrow_type()), misfit
    return pa.concat_arrays(pieces), misfit


def _convert_pattern(text: Any, field: Field) -> tuple[Any, Mask]:
    """Dates by a strptime pattern. A day that its month lacks is a misfit, never rolled over."""
    stamps = pc.strptime(text, format=field.format, unit="us", error_is_null=True)
    misfit = pc.and_(pc.is_valid(text), pc.is_null(stamps)).to_numpy(zero_copy_only=False).copy()
    # 31 April comes back as 1 May, so only the first three days of a month can be such a value.
    early = pc.less_equal(pc.day(stamps), 3).fill_null(False)
    for position in _changed_days(text, stamps, early, field.format):
        try:
            datetime.strptime(text[int(position)].as_py(), field.format)
        except ValueError:
            misfit[position] = True
    if misfit.any():
        stamps = pc.if_else(pa.array(misfit), pa.scalar(None, stamps.type), stamps)
    return stamps.cast(pa.timestamp("us")).cast(field.arrow_type(), safe=False), misfit


def _changed_days(text: Any, stamps: Any, early: Any, pattern: str) -> Any:
    """Positions among the `early` ones whose day in the text is not surely the parsed day."""
    candidates = np.flatnonzero(early.to_numpy(zero_copy_only=False))
    place = _day_place(pattern)
    if place is None or not len(candidates):
        return candidates
    start, length = place
    chosen = pa.array(candidates)
    few, days = text.take(chosen), pc.day(stamps.take(chosen))
    shown = pc.utf8_lpad(days.cast(pa.string()), 2, "0")
    same = pc.and_(
        pc.equal(pc.utf8_slice_codeunits(few, start, start + 2), shown),
        pc.equal(pc.utf8_length(few), length),
    )
    return candidates[~same.to_numpy(zero_copy_only=False)]


@lru_cache(maxsize=32)
def _day_place(pattern: str) -> tuple[int, int] | None:
    """Where the day stands and how long the text is, for patterns of fixed width."""
    widths = {"d": 2, "m": 2, "Y": 4, "y": 2, "H": 2, "M": 2, "S": 2}
    pieces = re.findall(r"%(.)|([^%])", pattern)
    if any(directive and directive not in widths for directive, _ in pieces):
        return None
    start, length = None, 0
    for directive, _ in pieces:
        if directive == "d":
            start = length
        length += widths[directive] if directive else 1
    return None if start is None else (start, length)
