"""Lines of text out of an Arrow column, without a Python object for each."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow.compute as pc


def joined_lines(lines: Any) -> bytes:
    """The values of a string array, each ended by a newline, one after the other."""
    if not len(lines):
        return b""
    ended = pc.binary_join_element_wise(lines, "", "\n")
    if hasattr(ended, "chunks"):
        return b"".join(_values(chunk) for chunk in ended.chunks)
    return _values(ended)


def _values(array: Any) -> bytes:
    # The values lie one after the other in the array's data buffer.
    offsets = np.frombuffer(array.buffers()[1], dtype=np.int32)[array.offset :]
    first, last = int(offsets[0]), int(offsets[len(array)])
    data: bytes = array.buffers()[2][first:last].to_pybytes()
    return data
