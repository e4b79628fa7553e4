"""Rows on their way into files: kept apart by partition, in order, in files of a size."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from splarn.core.errors import RequestError
from splarn.core.lake.owners import OWNERS, Owners
from splarn.core.lake.partitions import Value, groups, shown
from splarn.core.layout.file_layout import FileLayout
from splarn.core.units import plural
from splarn.core.work.parquet import parquet_writer, repeating

# Rows of all partitions are held back to this size, so that row groups do not get too small.
HELD_BYTES = 64 << 20
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
    `prefix`.
    """

    def __init__(
        self, create: Callable[[str], Any], folder: str, schema: Any, layout: FileLayout,
        prefix: str, most_partitions: int = MOST_PARTITIONS,
    ) -> None:  # fmt: skip
        self._create, self._folder, self._schema = create, folder, schema
        self.layout = layout
        self._most = most_partitions
        self._token = f"{prefix}-{secrets.token_hex(4)}"
        self._held: list[Any] = []
        self._held_bytes = self._held_rows = self._number = 0
        self._open: dict[tuple[Value, ...], RowsFile] = {}
        self._done: list[DataFile] = []
        # The columns that have dictionaries, by the rows that came first.
        self._dictionaries: list[str] | None = None
        self.written = 0

    def put(self, rows: Any) -> None:
        """Takes rows, columns in the order of the schema, values that fit its types."""
        if len(rows):
            self._held.append(rows)
            self._held_rows += len(rows)
            self._held_bytes += rows.nbytes
            # One partition's row groups are as large as is wanted; with many, all go at once.
            full = self._held_rows >= self.layout.group_rows and not self.layout.partition
            if full or self._held_bytes >= HELD_BYTES:
                self._write(whole_groups=full)

    def close(self) -> list[DataFile]:
        """All rows are written; the files that were."""
        self._write()
        for file in self._open.values():
            self._done.append(file.close())
        self._open.clear()
        done, self._done = self._done, []
        return done

    def abandon(self) -> list[str]:
        """Stops; the paths of files that were begun or written since the last close."""
        paths = [file.path for file in self._open.values()] + [one.path for one in self._done]
        for file in self._open.values():
            file.abandon()
        self._held, self._held_rows, self._held_bytes = [], 0, 0
        self._open.clear()
        self._done.clear()
        return paths

    def _write(self, whole_groups: bool = False) -> None:
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
        if self._dictionaries is None:
            _, first, length = max(pieces, key=lambda piece: piece[2])
            self._dictionaries = repeating(rows.slice(first, min(length, self.layout.group_rows)))
        for values, first, length in pieces:
            self._file(values).put(rows.slice(first, length))

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
        together = np.concatenate([group.rows for group in found])
        whole = together if order is None else np.asarray(order)[together]
        ends = np.cumsum([len(group.rows) for group in found])
        pieces = [
            (group.values, int(end) - len(group.rows), len(group.rows))
            for group, end in zip(found, ends, strict=True)
        ]
        return pa.array(whole), pieces

    def _file(self, values: tuple[Value, ...]) -> RowsFile:
        file = self._open.get(values)
        if file is not None and file.bytes >= self.layout.file_bytes:
            self.written += file.bytes
            self._done.append(self._open.pop(values).close())
            file = None
        if file is None:
            if len(self._open) >= self._most:
                raise too_many(self.layout, self._most)
            file = RowsFile(
                self._create, self._path(values), self._schema, self.layout, values,
                self._dictionaries,
            )  # fmt: skip
            self._open[values] = file
        return file

    def _path(self, values: tuple[Value, ...]) -> str:
        pieces = [
            f"{plain_path(field.name)}={plain_path(shown(field, value))}"
            for field, value in zip(self.layout.partition, values, strict=True)
        ]
        self._number += 1
        return "/".join([self._folder, *pieces, f"{self._token}-{self._number:04d}.parquet"])


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
    return pa.Table.from_arrays(found, schema=schema)


def plain_path(text: str) -> str:
    """Text as a piece of a path that every reader takes as it is; nobody reads it back."""
    return re.sub(r"[^\w.-]", "_", text, flags=re.ASCII)[:LONGEST_VALUE] or "_"


def _order(rows: Any, names: tuple[str, ...]) -> Any:
    """The order of rows sorted by some columns; those that are alike stay as they came."""
    keys = [(name, "ascending") for name in names]
    numbered = rows.select(list(names)).append_column("\0row", pa.array(np.arange(len(rows))))
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
