"""Rows of many partitions that wait on the disk until each partition has enough for a group."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import Any

import pyarrow as pa

from splarn.core.lake.partitions import Value
from splarn.core.work.disk import outside


class WaitingRows:
    """Rows of a schema by partition, in the order in which they came, in a file of their own.

    `scratch` opens that file, which nobody else sees and which goes with the process.
    """

    def __init__(self, schema: Any, scratch: Callable[[], Any]) -> None:
        self._schema, self._scratch = schema, scratch
        self._file: Any = None
        self._writer: Any = None
        self._end = 0
        self._places: dict[tuple[Value, ...], list[tuple[int, int]]] = {}

    def __contains__(self, values: tuple[Value, ...]) -> bool:
        return values in self._places

    def __iter__(self) -> Iterator[tuple[Value, ...]]:
        """The partitions that have rows here."""
        return iter(list(self._places))

    @property
    def bytes(self) -> int:
        """Bytes of the file."""
        return self._end

    def put(self, values: tuple[Value, ...], rows: Any) -> None:
        """Takes rows of a partition. Raises OutsideError where the disk has no room."""
        with outside("Keeping rows that wait for others of their partition"):
            if self._writer is None:
                self._file = self._scratch()
                self._writer = pa.ipc.new_stream(self._file, self._schema)
                # The schema comes before the first batch, of no rows.
                self._writer.write_batch(pa.RecordBatch.from_pylist([], self._schema))
            for batch in rows.combine_chunks().to_batches():
                begun = self._file.seek(0, os.SEEK_END)
                self._writer.write_batch(batch)
                self._end = self._file.tell()
                self._places.setdefault(values, []).append((begun, self._end - begun))

    def take(self, values: tuple[Value, ...]) -> Iterator[Any]:
        """The rows of a partition, piece by piece; they do not wait any more."""
        for place, size in self._places.pop(values, ()):
            with outside("Reading rows that waited for others of their partition"):
                self._file.seek(place)
                data = self._file.read(size)
            message = pa.ipc.read_message(pa.py_buffer(data))
            batch = pa.ipc.read_record_batch(message, self._schema)
            yield pa.Table.from_batches([batch], self._schema)

    def clear(self) -> None:
        """No row waits any more."""
        self._places.clear()
        self._end = 0
        if self._file is not None:
            with suppress(OSError):
                self._writer.close()
                self._file.close()
            self._file = self._writer = None
