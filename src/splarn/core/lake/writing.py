"""Rows on their way into files: kept apart by partition, in order, in files of a size."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from itertools import chain
from tempfile import TemporaryFile
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.errors import RequestError
from splarn.core.lake.ordering import regrouped
from splarn.core.lake.owners import OWNERS, Owners
from splarn.core.lake.partitions import Value, groups, shown
from splarn.core.lake.waiting import WaitingRows
from splarn.core.layout.file_layout import FileLayout
from splarn.core.units import plural
from splarn.core.work.arrow import of_numbers, trim
from splarn.core.work.parquet import parquet_writer, repeating

# Rows of all partitions are held back to this size, so that row groups do not get too small.
HELD_BYTES = 48 << 20
# Rows that came are copied when they are so much.
LOOSE_BYTES = 8 << 20
# Rows of one partition that come at a time are a group of their own where they are this share of
# a whole one; fewer wait for more, for small groups cost every reader.
LARGE_SHARE = 1 / 16
# Rows of the largest groups of all files that are open at a time: a writer holds on to some 25
# bytes for each.
OPEN_ROWS = 1 << 21
# Which columns have dictionaries is decided anew by groups that are so many times as large.
ASKED_ANEW = 4
# What waits on the disk is written when it is so much.
WAITING_BYTES = 2 << 30
# So many partitions in one part are a choice that nobody wants: each has a file of its own.
MOST_PARTITIONS = 2_000
LONGEST_VALUE = 60


@dataclass(frozen=True)
class DataFile:
    """A file of rows. `partition` has a value for each partition field."""

    path: str
    rows: int
    bytes: int
    partition: tuple[Value, ...] = ()


class PartitionedWriter:
    """Writes rows into new files of a folder; `create` opens one for writing.

    `schema` is what the files have, with the numbers of their fields; their names begin with
    `prefix`. Few rows of many partitions wait in a file that `scratch` opens.
    """

    def __init__(
        self, create: Callable[[str], Any], folder: str, schema: Any, layout: FileLayout,
        prefix: str, scratch: Callable[[], Any] = TemporaryFile,
    ) -> None:  # fmt: skip
        self._create, self._folder, self._schema = create, folder, schema
        self.layout = layout
        self._token = f"{prefix}-{secrets.token_hex(4)}"
        self._held: list[Any] = []
        self._loose: list[Any] = []
        self._loose_bytes = 0
        self._held_bytes = self._held_rows = self._number = 0
        # Those that are open; what was written to last is the last.
        self._open: dict[tuple[Value, ...], RowsFile] = {}
        self._waiting = WaitingRows(schema, scratch)
        self._seen: set[tuple[Value, ...]] = set()
        # Rows of a group that is put together of what waited.
        self._group = layout.group_rows
        self._done: list[DataFile] = []
        # The columns that new files have dictionaries of, by so many rows of a group.
        self._dictionaries: list[str] = []
        self._asked = 0
        self.written = 0

    def put(self, rows: Any) -> None:
        """Takes rows, columns in the order of the schema, values that fit its types."""
        if len(rows):
            self._loose.append(rows)
            self._loose_bytes += rows.nbytes
            self._held_rows += len(rows)
            self._held_bytes += rows.nbytes
            if self._loose_bytes >= LOOSE_BYTES:
                self._tighten()
            # One partition's row groups are as large as is wanted; with many, all go at once.
            full = self._held_rows >= self.layout.group_rows and not self.layout.partition
            if full or self._held_bytes >= HELD_BYTES:
                self._write(whole_groups=full)

    def _tighten(self) -> None:
        """Copies what came, so that no more than its rows is kept of where it came from."""
        if self._loose:
            self._held.append(pa.concat_tables(self._loose).combine_chunks())
            self._loose, self._loose_bytes = [], 0

    def close(self) -> list[DataFile]:
        """All rows are written; the files that were."""
        self._write(last=True)
        self._write_waiting()
        for values in list(self._open):
            self._end(values)
        done, self._done = self._done, []
        self._seen.clear()
        self._asked = 0
        return done

    def abandon(self) -> list[str]:
        """Stops; the paths of files that were begun or written since the last close."""
        paths = [file.path for file in self._open.values()] + [one.path for one in self._done]
        for file in self._open.values():
            file.abandon()
        self._held, self._held_rows, self._held_bytes = [], 0, 0
        self._loose, self._loose_bytes = [], 0
        self._waiting.clear()
        self._open.clear()
        self._done.clear()
        self._seen.clear()
        return paths

    def _write(self, whole_groups: bool = False, last: bool = False) -> None:
        self._tighten()
        if not self._held:
            return
        held, count = self._held, self._held_rows
        self._held, self._held_rows, self._held_bytes = [], 0, 0
        if whole_groups and (rest := count % self.layout.group_rows):
            # A small group of its own behind each large one would cost every reader.
            kept = pa.concat_tables(held).slice(count - rest)
            self._held, self._held_rows, self._held_bytes = [kept], rest, kept.nbytes
            held = [pa.concat_tables(held).slice(0, count - rest)]
        order, pieces = self._arranged(held)
        rows = _in_order(held, order)
        self._group = group_of(self.layout, rows)
        _, first, length = max(pieces, key=lambda piece: piece[2])
        self._ask(rows.slice(first, min(length, self._group)))
        self._seen.update(values for values, _, _ in pieces)
        if len(self._seen) > MOST_PARTITIONS:
            raise too_many(self.layout, MOST_PARTITIONS)
        few = self._group * LARGE_SHARE if self.layout.partition else 0
        for values, first, length in pieces:
            mine = rows.slice(first, length)
            if last:
                self._write_all(values, mine)
            elif length < few:
                self._waiting.put(values, mine)
            else:
                self._file(values).put(mine)
        del rows, mine
        self._end_idle({values for values, _, _ in pieces})
        if self._waiting.bytes >= WAITING_BYTES:
            self._write_waiting()
        trim()

    def _write_waiting(self) -> None:
        """Nothing waits any more."""
        for values in self._waiting:
            self._write_all(values)
        self._waiting.clear()

    def _write_all(self, values: tuple[Value, ...], more: Any = None) -> None:
        """Writes all rows of a partition that wait, and more, and ends its file."""
        if more is not None and values not in self._waiting:
            self._file(values).put(more)
        else:
            rows = self._waiting.take(values)
            for group in regrouped(chain(rows, [] if more is None else [more]), self._group):
                self._ask(group)
                # Each piece of it is in order already, and all of them are to be.
                order = _order(group, self.layout.sort) if self.layout.sort else None
                self._file(values).put(group if order is None else group.take(order))
        self._end(values)

    def _ask(self, group: Any) -> None:
        """Decides which columns have dictionaries: few rows tell little of how often values come
        again in many."""
        if len(group) > ASKED_ANEW * self._asked:
            self._dictionaries, self._asked = repeating(group), len(group)

    def _end_idle(self, busy: set[tuple[Value, ...]]) -> None:
        """Ends files that got no rows, where many are open: those of rows by time are past."""
        idle = [values for values in self._open if values not in busy]
        while idle and sum(file.most_rows for file in self._open.values()) > OPEN_ROWS:
            self._write_all(idle.pop(0))

    def _arranged(self, held: list[Any]) -> tuple[Any, list[tuple[tuple[Value, ...], int, int]]]:
        """The order that puts rows of a partition next to one another, sorted, and where each is.

        None where rows lie so already.
        """
        names = list(dict.fromkeys(self.layout.columns))
        count = sum(map(len, held))
        if not names:
            return None, [((), 0, count)]
        keys = pa.concat_tables([rows.select(names) for rows in held]).combine_chunks()
        order = _order(keys, self.layout.sort) if self.layout.sort else None
        found = list(groups(keys if order is None else keys.take(order), self.layout.partition))
        if found[0].rows is None:
            return order, [(found[0].values, 0, count)]
        together = np.concatenate([group.rows for group in found], dtype=np.int32)
        whole = together if order is None else np.asarray(order)[together]
        ends = np.cumsum([len(group.rows) for group in found])
        pieces = [
            (group.values, int(end) - len(group.rows), len(group.rows))
            for group, end in zip(found, ends, strict=True)
        ]
        return of_numbers(whole), pieces

    def _file(self, values: tuple[Value, ...]) -> RowsFile:
        file = self._open.pop(values, None)
        if file is not None and file.bytes >= self.layout.file_bytes:
            self._done.append(file.close())
            self.written += self._done[-1].bytes
            file = None
        if file is None:
            file = RowsFile(
                self._create, self._path(values), self._schema, self.layout, values,
                self._dictionaries,
            )  # fmt: skip
        self._open[values] = file
        return file

    def _end(self, values: tuple[Value, ...]) -> None:
        """Ends the open file of a partition, if there is one."""
        file = self._open.pop(values, None)
        if file is not None:
            self._done.append(file.close())
            self.written += self._done[-1].bytes

    def _path(self, values: tuple[Value, ...]) -> str:
        pieces = [
            f"{plain_path(field.name)}={plain_path(shown(field, value))}"
            for field, value in zip(self.layout.partition, values, strict=True)
        ]
        self._number += 1
        return "/".join([self._folder, *pieces, f"{self._token}-{self._number:04d}.parquet"])


def group_of(layout: FileLayout, rows: Any) -> int:
    """How many rows like some make a whole group: no more than are held."""
    width = rows.nbytes / max(len(rows), 1)
    return max(min(layout.group_rows, int(HELD_BYTES / max(width, 1.0))), 1)


def too_many(layout: FileLayout, most: int) -> RequestError:
    """The refusal of rows that make more partitions than anybody wants."""
    by = " ".join(field.text() for field in layout.partition)
    return RequestError(
        f"The rows have more than {plural(most, 'partition')} by {by}, each with files of its own: "
        "choose a coarser one, as month() or bucket()."
    )


def _in_order(held: list[Any], order: Any) -> Any:
    """Some tables as one, its rows in an order. The tables are let go column by column, so that
    never all of them are there twice."""
    if order is None:
        return pa.concat_tables(held)
    schema = held[0].schema
    columns = [[rows.column(at) for rows in held] for at in range(len(schema))]
    held.clear()
    found = []
    while columns:
        chunks = [chunk for column in columns.pop(0) for chunk in column.chunks]
        found.append(pa.concat_arrays(chunks).take(order))
        del chunks
        trim()
    return pa.Table.from_arrays(found, schema=schema)


def plain_path(text: str) -> str:
    """Text as a piece of a path that every reader takes as it is; nobody reads it back."""
    return re.sub(r"[^\w.-]", "_", text, flags=re.ASCII)[:LONGEST_VALUE] or "_"


def _order(rows: Any, names: tuple[str, ...]) -> Any:
    """The order of rows sorted by some columns; those that are alike stay as they came."""
    keys = [(name, "ascending") for name in names]
    numbered = rows.select(list(names)).append_column("\0row", of_numbers(np.arange(len(rows))))
    order = pa.compute.sort_indices(numbered, sort_keys=[*keys, ("\0row", "ascending")])
    return order


class RowsFile:
    """One file that is being written.

    `dictionaries` are the columns that have them; None where the rows that come first decide.
    """

    def __init__(
        self, create: Callable[[str], Any], path: str, schema: Any, layout: FileLayout,
        values: tuple[Value, ...], dictionaries: list[str] | None = None,
    ) -> None:  # fmt: skip
        self.path, self._layout, self._values = path, layout, values
        self._file = create(path)
        self._schema, self._rows = schema, 0
        # Rows of its largest group.
        self.most_rows = 0
        self._writer = None if dictionaries is None else self._begun(dictionaries)

    def _begun(self, dictionaries: list[str]) -> Any:
        return parquet_writer(
            self._file, self._schema, codec=self._layout.codec, level=self._layout.level,
            dictionaries=dictionaries, store_schema=False,
        )  # fmt: skip

    @property
    def bytes(self) -> int:
        """Bytes written so far, but for the end."""
        return int(self._file.tell())

    def put(self, rows: Any) -> None:
        """Rows of this partition, as row groups."""
        if rows.schema != self._schema:
            rows = rows.cast(self._schema)
        if self._writer is None:
            self._writer = self._begun(repeating(rows.slice(0, self._layout.group_rows)))
        self._writer.write_table(rows, row_group_size=self._layout.group_rows)
        self._rows += len(rows)
        self.most_rows = max(self.most_rows, min(len(rows), self._layout.group_rows))

    def close(self, owners: Owners | None = None) -> DataFile:
        """The file is whole; `owners` go into its end where its rows are of several loads."""
        self._writer = self._writer or self._begun([])
        if owners is not None:
            self._writer.add_key_value_metadata({OWNERS: owners.text()})
        self._writer.close()
        size = self._file.tell()
        self._file.close()
        return DataFile(self.path, self._rows, int(size), self._values)

    def abandon(self) -> None:
        """The file is not wanted."""
        if self._writer is not None:
            self._writer.is_open = False
        self._file.abandon()
