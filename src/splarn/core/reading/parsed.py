"""What every reader gives: typed good rows, and a fault for each bad one."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.layout import Field, Layout
from splarn.core.reading.constraints import Constraint
from splarn.core.reading.convert import convert_text, out_of_years, without_nan
from splarn.core.reading.faults import Fault, shorten
from splarn.core.records.chunks import Chunk

# row in the chunk, field, kind, value, message
MakeFault = Callable[[int, str | None, str, str | None, str], Fault]


@dataclass(frozen=True)
class Parsed:
    """Some neighbouring records of one file, the good ones as typed columns.

    `row` counts the records before, `rows` these. `good` are the indexes of the good ones, in
    order; `table` has one row for each. `offset` and `end` say where the records lie: unpacked
    bytes, or row numbers in a columnar file. `size` counts the bytes read for them. `chunk` is the
    raw text, None where the source is columnar.
    """

    row: int
    rows: int
    offset: int
    end: int
    size: int
    table: Any
    good: Any
    faults: tuple[Fault, ...]
    chunk: Chunk | None = None

    def raw(self, start: int, stop: int) -> list[bytes]:
        """The raw bytes of good rows `start` to `stop`, in as few pieces as they allow."""
        assert self.chunk is not None, "only text has raw records"
        return self.chunk.pieces(self.good[start:stop])

    def end_offset(self, good_rows: int) -> int:
        """The position after the good row before number `good_rows`.

        With all good rows taken, the end, so that trailing bad records count as read.
        """
        if good_rows >= len(self.good):
            return self.end
        index = int(self.good[good_rows])
        return self.offset + (index if self.chunk is None else self.chunk.records.start(index))


def without_rows(parsed: Parsed, rows: frozenset[int]) -> Parsed:
    """The same without the good rows of these numbers, counted from 1 in the file."""
    if not rows:
        return parsed
    keep = ~np.isin(parsed.good + parsed.row + 1, list(rows))
    if keep.all():
        return parsed
    return replace(parsed, table=parsed.table.filter(pa.array(keep)), good=parsed.good[keep])


def constrained(parsed: Parsed, constraints: Sequence[Constraint], fault: MakeFault) -> Parsed:
    """The same with what the constraints refuse moved from the good rows to the faults."""
    faults: dict[int, Fault] = {}
    for constraint in constraints:
        name = constraint.field.name
        column = parsed.table.column(name)
        for mask, reason in constraint.broken(column):
            for position in np.flatnonzero(mask).tolist():
                row = int(parsed.good[position])
                value = str(column[position].as_py())
                faults.setdefault(row, fault(row, name, "constraint", value, reason))
    if not faults:
        return parsed
    keep = ~np.isin(parsed.good, list(faults))
    every = sorted((*parsed.faults, *faults.values()), key=lambda found: found.row)
    return replace(
        parsed,
        table=parsed.table.filter(pa.array(keep)),
        good=parsed.good[keep],
        faults=tuple(every),
    )


class TextParser(ABC):
    """Reads chunks of text records by one layout. Not shared between threads."""

    def __init__(self, layout: Layout, path: str) -> None:
        self.layout = layout = layout.as_read
        self.path = path
        self._direct = True
        self._constraints = [Constraint(field) for field in layout.fields if field.is_constrained]

    def parse(self, chunk: Chunk) -> Parsed:
        """Splits a chunk into typed good rows and faults."""
        if chunk.too_long:
            return self._too_long(chunk)
        parsed = self._parse_plain(chunk)
        if parsed is None:
            table = self._parse_direct(chunk) if self._direct else None
            # Nobody else judges this block, and they take as much room as it does.
            chunk.records.bits = None
            if table is not None and len(table) == chunk.rows:
                parsed = as_parsed(chunk, table, np.arange(chunk.rows), ())
            else:
                # Spoiled rows come in company: try the direct way again only after a clean chunk.
                parsed = self._parse_carefully(chunk)
                self._direct = not parsed.faults
        if not self._constraints:
            return parsed
        return constrained(parsed, self._constraints, self.faults_of(chunk))

    def _too_long(self, chunk: Chunk) -> Parsed:
        end = chunk.offset + chunk.too_long
        message = (
            f"a record of {chunk.too_long:,} bytes up to byte {end:,}, longer than any that can be "
            "loaded: a quote that is never closed does this, or a wrong quote character; the "
            "reject keeps its beginning"
        )
        fault = self.faults_of(chunk)(0, None, "record", None, message)
        nothing = self.layout.arrow_schema.empty_table()
        return as_parsed(chunk, nothing, np.arange(0), (fault,))

    def _parse_plain(self, chunk: Chunk) -> Parsed | None:
        """Rows and faults with what is written plainly taken at a go; None where that is no way."""
        return None

    @abstractmethod
    def _parse_direct(self, chunk: Chunk) -> Any:
        """All rows as a typed table, or None where that cannot be had at one go."""

    @abstractmethod
    def _parse_carefully(self, chunk: Chunk) -> Parsed:
        """The rows that fit and the faults of those that do not."""

    def _fitted(
        self, table: Any, late: Sequence[Field], ready: Callable[[Any], Any] | None = None
    ) -> Any:
        """The table with its `late` columns turned from text into their types, or None.

        `ready` prepares such a text. None is for a value that does not fit or a missing one.
        """
        for field in late:
            text = table.column(field.name)
            values, misfit = convert_text(text if ready is None else ready(text), field)
            if misfit.any():
                return None
            place = table.column_names.index(field.name)
            table = table.set_column(place, self.layout.arrow_schema.field(place), values)
        names = {field.name for field in late}
        for place, field in enumerate(self.layout.fields):
            if field.name in names:
                continue
            column = table.column(place)
            if field.type in ("date", "datetime") and pc.any(out_of_years(column)).as_py():
                return None
            if field.is_decimal and not _within(column, field):
                return None
            if pa.types.is_floating(column.type):
                if pc.any(pc.is_inf(column)).as_py():
                    return None
                table = table.set_column(place, field.name, without_nan(column))
        if any(
            field.required and table.column(field.name).null_count for field in self.layout.fields
        ):
            return None
        return table

    def faults_of(self, chunk: Chunk) -> MakeFault:
        """What makes a fault of a row of a chunk."""

        def make(row: int, field: str | None, kind: str, value: str | None, message: str) -> Fault:
            raw = chunk.data[int(chunk.starts[row]) : int(chunk.ends[row])]
            encoding = self.layout.dialect.encoding
            if kind == "encoding":
                start = chunk.offset + int(chunk.starts[row]) + _first_broken(raw, encoding)
                message = f"{message}, from byte {start:,} of the file on"
            return Fault(
                path=self.path,
                line=chunk.line_of(row),
                row=chunk.row + row + 1,
                field=field,
                kind=kind,
                value=None if value is None else shorten(value),
                message=message,
                raw=raw.decode(encoding, errors="backslashreplace"),
            )

        return make


def _within(column: Any, field: Field) -> bool:
    """Whether decimals have no more digits than their type; Arrow's reader does not look."""
    ends = pc.min_max(column).as_py()
    most = Decimal(10) ** ((field.precision or 0) - (field.scale or 0))
    return ends["min"] is None or (-most < ends["min"] and ends["max"] < most)


def as_parsed(chunk: Chunk, table: Any, good: Any, faults: tuple[Fault, ...]) -> Parsed:
    """What was made of a chunk of text."""
    size = chunk.size
    return Parsed(
        row=chunk.row,
        rows=chunk.rows,
        offset=chunk.offset,
        end=chunk.offset + size,
        size=size,
        table=table,
        good=good,
        faults=faults,
        chunk=chunk,
    )


def _first_broken(raw: bytes, encoding: str) -> int:
    try:
        raw.decode(encoding)
    except UnicodeDecodeError as error:
        return error.start
    return 0


class Blamer:
    """Collects one fault a row, the first that is found."""

    def __init__(self, make: MakeFault) -> None:
        self.faults: dict[int, Fault] = {}
        self._make = make

    def __call__(
        self, row: int, field: str | None, kind: str, value: str | None, message: str
    ) -> None:
        """Notes a fault unless the row has one."""
        if row not in self.faults:
            self.faults[row] = self._make(row, field, kind, value, message)

    def ordered(self) -> tuple[Fault, ...]:
        """The faults by row."""
        return tuple(self.faults[row] for row in sorted(self.faults))

    def kept(self, rows: Any) -> Any:
        """A mask of those of the rows that have no fault."""
        return np.array([row not in self.faults for row in rows.tolist()], dtype=bool)
