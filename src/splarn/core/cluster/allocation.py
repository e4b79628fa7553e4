"""How a worker's process keeps memory that it has freed, while it works for Splarn.

The nannies of a cluster have workers give all freed memory back at once
(`MALLOC_TRIM_THRESHOLD_`), which also has every block of more than 128 KiB mapped anew; work on
blocks of some megabytes then takes up to twice as long (mallopt(3), M_MMAP_THRESHOLD).
"""

from __future__ import annotations

import ctypes
import os
from contextlib import suppress

_TRIM, _MAP = -1, -3
# What the system's allocator comes to by itself where nobody has set it.
_USUAL_TRIM, _USUAL_MAP = 64 << 20, 32 << 20
_PLAIN_MAP = 128 << 10


def keep_freed_memory() -> None:
    """Has freed memory kept as is usual, where that was switched off for this process."""
    if os.environ.get("MALLOC_TRIM_THRESHOLD_"):
        _set(_USUAL_TRIM, _USUAL_MAP)


def give_freed_memory_back() -> None:
    """As it was before."""
    told = os.environ.get("MALLOC_TRIM_THRESHOLD_", "")
    if told.isdigit():
        _set(int(told), _PLAIN_MAP)


def _set(trim: int, map_: int) -> None:
    # Other systems have no such function.
    with suppress(OSError, AttributeError):
        libc = ctypes.CDLL(None)
        libc.mallopt(_MAP, map_)
        libc.mallopt(_TRIM, trim)
