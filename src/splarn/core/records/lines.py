"""Lines of text out of an Arrow column, without a Python object for each."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow.compute as pc


def joined_lines(lines: Any) -> bytes:
    """The values of a string array, each ended by a newline, one after the other."""
    if not len(lines):
        return b""
    return value_bytes(pc.binary_join_element_wise(lines, "", "\n"))


def value_bytes(array: Any) -> bytes:
    """The values of a text or binary array or column, one after the other."""
    if hasattr(array, "chunks"):
        return b"".join(value_bytes(chunk) for chunk in array.chunks)
    if not len(array) or array.buffers()[2] is None:
        return b""
    # They lie one after the other in the array's data buffer.
    offsets = np.frombuffer(array.buffers()[1], dtype=np.int32)[array.offset :]
    first, last = int(offsets[0]), int(offsets[len(array)])
    data: bytes = array.buffers()[2][first:last].to_pybytes()
    return data


def holds_any(array: Any, marks: str) -> bool:
    """Whether any of these characters may be in a text column; many times as fast as a pattern."""
    data = value_bytes(array)
    return any(mark.encode() in data for mark in marks)
