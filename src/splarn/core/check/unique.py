"""Uniqueness over all files: values that come a second time, wherever the first one was."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import xxhash

from splarn.core.layout import Layout
from splarn.core.reading import read_parsed
from splarn.core.reading.faults import Fault, shorten
from splarn.core.reading.parsed import Parsed
from splarn.core.source.places import Place


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
    keys = []
    for field in layout.fields:
        if not field.unique:
            continue
        column = parsed.table.column(field.name).combine_chunks()
        filled = np.asarray(column.is_valid())
        rows = parsed.good[filled] + parsed.row + 1
        column = column.drop_null()
        if pa.types.is_integer(column.type):
            values = np.asarray(column.cast(pa.int64())).view(np.uint64)
        else:
            hashed = (xxhash.xxh3_64_intdigest(str(value).encode()) for value in column.to_pylist())
            values = np.fromiter(hashed, dtype=np.uint64, count=len(column))
        keys.append(Keys(field.name, values, rows))
    return keys


def repeated(files: Sequence[Sequence[Keys]]) -> list[tuple[int, int, str]]:
    """(file, row, field) of every value that came before, for the keys of each file in order."""
    by_field: dict[str, list[tuple[int, Keys]]] = defaultdict(list)
    for number, keys in enumerate(files):
        for key in keys:
            by_field[key.field].append((number, key))
    again_rows = []
    for field, parts in by_field.items():
        values = np.concatenate([key.values for _, key in parts])
        rows = np.concatenate([key.rows for _, key in parts])
        owner = np.concatenate([np.full(len(key.rows), number) for number, key in parts])
        order = np.argsort(values, kind="stable")
        again = order[1:][values[order][1:] == values[order][:-1]]
        again_rows += [(int(owner[at]), int(rows[at]), field) for at in np.sort(again)]
    return sorted(again_rows)


def locate(path: Place, codec: str, layout: Layout, wanted: dict[int, str]) -> list[Fault]:
    """Faults for the rows of a file whose named field repeats a value; one more pass over it."""
    faults: list[Fault] = []
    for parsed in read_parsed(path, codec, layout):
        for row in wanted:
            if not parsed.row < row <= parsed.row + parsed.rows:
                continue
            index = row - parsed.row - 1
            position = int(parsed.good.searchsorted(index))
            value = str(parsed.table.column(wanted[row])[position].as_py())
            raw, line = "", row
            if parsed.chunk is not None:
                chunk = parsed.chunk
                piece = chunk.data[int(chunk.starts[index]) : int(chunk.ends[index])]
                raw = piece.decode(layout.as_read.dialect.encoding, errors="backslashreplace")
                line = chunk.line_of(index)
            message = "came before, where each value may come once"
            faults.append(
                Fault(
                    path=str(path),
                    line=line,
                    row=row,
                    field=wanted[row],
                    kind="unique",
                    value=shorten(value),
                    message=message,
                    raw=raw,
                )
            )
    return faults
