"""Typed columns out of records, and the records that do not fit the layout.

A chunk is first read by Arrow straight into the layout's types. Only when something in it does not
fit is it read again as text, and the misfits looked for column by column.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import csv

from splarn.core.constraints import Constraint
from splarn.core.convert import convert_text
from splarn.core.faults import Fault, shorten
from splarn.core.layout import Field, Layout
from splarn.core.records import Chunk


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
        self._constraints = [Constraint(field) for field in layout.fields if field.is_constrained]
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
                return self._constrained(Parsed(chunk, table, np.arange(chunk.rows), ()))
        # Spoiled rows come in company: try the direct way again only after a clean chunk.
        parsed = self._parse_carefully(chunk)
        self._direct = not parsed.faults
        return self._constrained(parsed)

    def _constrained(self, parsed: Parsed) -> Parsed:
        """What the field's constraints refuse moves from the good rows to the faults."""
        faults: dict[int, Fault] = {}
        for constraint in self._constraints:
            column = parsed.table.column(constraint.field.name)
            for mask, reason in constraint.broken(column):
                for position in np.flatnonzero(mask).tolist():
                    row = int(parsed.good[position])
                    value = str(column[position].as_py())
                    fault = self._fault(
                        parsed.chunk, row, constraint.field.name, "constraint", value, reason
                    )
                    faults.setdefault(row, fault)
        if not faults:
            return parsed
        keep = ~np.isin(parsed.good, list(faults))
        every = sorted((*parsed.faults, *faults.values()), key=lambda fault: fault.row)
        table = parsed.table.filter(pa.array(keep))
        return Parsed(parsed.chunk, table, parsed.good[keep], tuple(every))

    def _fault(
        self, chunk: Chunk, row: int, field: str | None, kind: str, value: str | None, message: str
    ) -> Fault:
        raw = chunk.data[int(chunk.starts[row]) : int(chunk.ends[row])]
        return Fault(
            self.path,
            chunk.line_of(row),
            chunk.row + row + 1,
            field,
            kind,
            None if value is None else shorten(value),
            message,
            raw.decode(self.layout.dialect.encoding, errors="backslashreplace"),
        )

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
            values, misfit = convert_text(table.column(field.name), field)
            if misfit.any():
                return None
            table = table.set_column(table.column_names.index(field.name), field.name, values)
        return table

    def _parse_carefully(self, chunk: Chunk) -> Parsed:
        faults: dict[int, Fault] = {}

        def blame(row: int, field: str | None, kind: str, value: str | None, message: str) -> None:
            if row not in faults:
                faults[row] = self._fault(chunk, row, field, kind, value, message)

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
        values, misfit = convert_text(text, field)
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
