"""Whose rows a file holds, where it holds those of several loads: told at the end of the file."""

from __future__ import annotations

import base64
import json
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

# The key under which a file's own metadata have it.
OWNERS = b"splarn.owners"
# Rows of nobody, which somebody else brought.
NOBODY = 0


@dataclass(frozen=True)
class Owners:
    """The numbers of loads, and for each row of a file the place of its load among them."""

    loads: tuple[int, ...]
    of_rows: Any

    def mask(self, wanted: Any) -> Any:
        """Which rows are of loads that `wanted` says yes to."""
        known = np.array([bool(wanted(load)) for load in self.loads], dtype=bool)
        return known[self.of_rows]

    def text(self) -> str:
        """As a file keeps it."""
        kind = np.uint8 if len(self.loads) < 256 else np.uint32
        packed = zlib.compress(self.of_rows.astype(kind).tobytes(), 6)
        kept = {"loads": list(self.loads), "rows": base64.b85encode(packed).decode()}
        return json.dumps(kept)


def owners_in(metadata: Mapping[bytes, bytes] | None) -> Owners | None:
    """What a file's own metadata say of it; None where they say nothing."""
    kept = (metadata or {}).get(OWNERS)
    if kept is None:
        return None
    document = json.loads(kept)
    loads = tuple(int(load) for load in document["loads"])
    kind = np.uint8 if len(loads) < 256 else np.uint32
    rows = np.frombuffer(zlib.decompress(base64.b85decode(document["rows"])), dtype=kind)
    return Owners(loads, rows)


def joined(parts: list[tuple[int, int]] | list[Owners]) -> Owners:
    """Those of several stretches of rows, one after the other."""
    numbers: dict[int, int] = {}
    pieces = []
    for one in parts:
        if isinstance(one, Owners):
            places = [numbers.setdefault(load, len(numbers)) for load in one.loads]
            pieces.append(np.array(places, dtype=np.uint32)[one.of_rows])
        else:
            load, rows = one
            pieces.append(np.full(rows, numbers.setdefault(load, len(numbers)), dtype=np.uint32))
    return Owners(tuple(numbers), np.concatenate(pieces) if pieces else np.zeros(0, np.uint32))
