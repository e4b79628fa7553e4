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
        """Adds as many bytes to each row."""
        self._run.append(np.ascontiguousarray(values).view(np.uint8).reshape(self.rows, -1))

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
            self._done.append(binary_array(np.concatenate(self._run, axis=1)))
            self._run = []


def binary_array(values: Any) -> Any:
    """A numpy array, one row of bytes or one item each, as a binary Arrow array without a copy."""
    width = values.nbytes // max(len(values), 1)
    offsets = np.arange(len(values) + 1, dtype=np.int32) * np.int32(width)
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(np.ascontiguousarray(values))]
    return pa.Array.from_buffers(pa.binary(), len(values), buffers)


def bytes_of(array: Any) -> bytes:
    """The values of a text or binary array, one after the other."""
    if isinstance(array, pa.ChunkedArray):
        return b"".join(bytes_of(chunk) for chunk in array.chunks)
    if not len(array):
        return b""
    offsets = np.frombuffer(array.buffers()[1], dtype=np.int32)[array.offset :]
    data: bytes = array.buffers()[2][int(offsets[0]) : int(offsets[len(array)])].to_pybytes()
    return data


def flat(column: Any) -> Any:
    """A column as one array."""
    array = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    if isinstance(array, pa.ChunkedArray):
        array = pa.concat_arrays(array.chunks) if array.num_chunks else array.cast(array.type)
    return array
