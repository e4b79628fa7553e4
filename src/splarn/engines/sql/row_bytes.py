"""Bytes of whole columns joined row by row, for the binary forms that engines take rows in."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


class RowBytes:
    """Columns of bytes that are joined row by row; neighbours of fixed width go as one."""

    def __init__(self, rows: int) -> None:
        self.rows = rows
        self._run: list[Any] = []
        self._done: list[Any] = []

    def fixed(self, values: Any) -> None:
        """Adds as many bytes to each row: an array with an item or a line of bytes for each."""
        items = np.ascontiguousarray(values)
        width = items.nbytes // max(self.rows, 1)
        self._run.append(items.view(f"V{width}").reshape(self.rows))

    def texts(self, values: Any) -> None:
        """Adds a text or binary array's values, nothing for a null.

        Where all have one length, as codes often do, they cost no more than numbers.
        """
        lengths = np.diff(np.frombuffer(values.buffers()[1], np.int32)[values.offset :])[
            : self.rows
        ]
        width = int(lengths[0]) if len(lengths) else 0
        if width and not values.null_count and (lengths == width).all():
            self.fixed(np.frombuffer(bytes_of(values), dtype=f"V{width}"))
        else:
            self.varying(values.cast(pa.binary()))

    def varying(self, values: Any) -> None:
        """Adds a binary array's values, nothing for a null."""
        self._end_run()
        self._done.append(values)

    def joined(self) -> Any:
        """The rows as a binary array."""
        self._end_run()
        return pc.binary_join_element_wise(
            *self._done,
            pa.scalar(b"", pa.binary()),
            null_handling="replace",
            null_replacement=b"",
        )

    def _end_run(self) -> None:
        if self._run:
            # Field by field into one record a row, which is many times as fast as side by side.
            places = [(str(place), values.dtype) for place, values in enumerate(self._run)]
            rows = np.empty(self.rows, dtype=places)
            for place, values in enumerate(self._run):
                rows[str(place)] = values
            self._done.append(binary_array(rows))
            self._run = []


def binary_array(values: Any) -> Any:
    """A numpy array, one row of bytes or one item each, as a binary Arrow array without a copy."""
    width = values.nbytes // max(len(values), 1)
    offsets = np.arange(len(values) + 1, dtype=np.int32) * np.int32(width)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(np.ascontiguousarray(values))]
    return pa.Array.from_buffers(pa.binary(), len(values), buffers)


def bytes_of(array: Any) -> bytes | memoryview:
    """The values of a text or binary array, one after the other, without a copy where they are."""
    if isinstance(array, pa.ChunkedArray):
        return b"".join(bytes_of(chunk) for chunk in array.chunks)
    if not len(array):
        return b""
    offsets = np.frombuffer(array.buffers()[1], dtype=np.int32)[array.offset :]
    return memoryview(array.buffers()[2])[int(offsets[0]) : int(offsets[len(array)])]


def flat(column: Any) -> Any:
    """A column as one array."""
    if isinstance(column, pa.ChunkedArray) and column.num_chunks == 1:
        return column.chunk(0)
    array = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else array.cast(array.type)
    return array
