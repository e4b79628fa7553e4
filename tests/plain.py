"""Splarn without its kernel, as it is where no compiler was found."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def without_kernel() -> Iterator[None]:
    """Whatever begins within this does without."""
    was = os.environ.get("SPLARN_KERNEL")
    os.environ["SPLARN_KERNEL"] = "off"
    try:
        yield
    finally:
        os.environ.pop("SPLARN_KERNEL")
        if was is not None:
            os.environ["SPLARN_KERNEL"] = was
