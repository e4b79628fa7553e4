"""Uniqueness over all files: values that come a second time, wherever the first one was."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import xxhash

from splarn.core.codecs import read_blocks
from splarn.core.faults import Fault, shorten
from splarn.core.layout import Layout
from splarn.core.records import record_chunks
from splarn.core.typed import Parsed, Parser


@dataclass(frozen=True)
class Keys:
    """Fingerprints of one unique field's values in one file, and the rows they stand in.

    `values` are 64-bit; `rows` count from 1 within the file, or within a range of it.
    """

    field: str
    values: Any
    rows: Any


def keys_of(parsed: Parsed, layout: Layout) -> list[Keys]:
    """The keys of a chunk's good rows; nulls have none."""
    found = []
    for field in layout.fields:
        if not field.unique:
            continue
        column = parsed.table.column(field.name).combine_chunks()
        filled = np.asarray(column.is_valid())
        rows = parsed.good[filled] + parsed.chunk.row + 1
        column = column.drop_null()
        if pa.types.is_int64(column.type):
            values = np.asarray(column).view(np.uint64)
        else:
            hashed = (xxhash.xxh3_64_intdigest(str(value).encode()) for value in column.to_pylist())
            values = np.fromiter(hashed, dtype=np.uint64, count=len(column))
        found.append(Keys(field.name, values, rows))
    return found


def repeated(files: Sequence[Sequence[Keys]]) -> list[tuple[int, int, str]]:
    """(file, row, field) of every value that came before, for the keys of each file in order."""
    by_field: dict[str, list[tuple[int, Keys]]] = defaultdict(list)
    for number, keys in enumerate(files):
        for key in keys:
            by_field[key.field].append((number, key))
    found = []
    for field, parts in by_field.items():
        values = np.concatenate([key.values for _, key in parts])
        rows = np.concatenate([key.rows for _, key in parts])
        owner = np.concatenate([np.full(len(key.rows), number) for number, key in parts])
        order = np.argsort(values, kind="stable")
        again = order[1:][values[order][1:] == values[order][:-1]]
        found += [(int(owner[at]), int(rows[at]), field) for at in np.sort(again)]
    return sorted(found)


def locate(path: Path, codec: str, layout: Layout, wanted: dict[int, str]) -> list[Fault]:
    """Faults for the rows of a file whose named field repeats a value; one more pass over it."""
    parser = Parser(layout, str(path))
    found: list[Fault] = []
    for chunk in record_chunks(read_blocks(path, codec), layout.dialect, where=str(path)):
        here = [row for row in wanted if chunk.row < row <= chunk.row + chunk.rows]
        if not here:
            continue
        parsed = parser.parse(chunk)
        for row in here:
            index = row - chunk.row - 1
            position = int(parsed.good.searchsorted(index))
            value = parsed.table.column(wanted[row])[position].as_py()
            raw = chunk.data[int(chunk.starts[index]) : int(chunk.ends[index])]
            found.append(
                Fault(
                    str(path),
                    chunk.line_of(index),
                    row,
                    wanted[row],
                    "unique",
                    shorten(str(value)),
                    "came before, where each value may come once",
                    raw.decode(layout.dialect.encoding, errors="backslashreplace"),
                )
            )
    return found
