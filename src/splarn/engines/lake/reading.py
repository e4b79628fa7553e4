"""Rows out of a lake's files: all of them, or those of some loads."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from splarn.core.errors import OutsideError
from splarn.core.lake.columns import FIELD_ID, LakeColumn
from splarn.core.lake.owners import NOBODY, Owners, owners_in
from splarn.core.lake.writing import RowsFile
from splarn.core.layout.file_layout import FileLayout
from splarn.core.target.marks import Marks
from splarn.engines.lake.changes import TableFile
from splarn.engines.lake.storage import Storage, shown_path

BATCH_ROWS = 1 << 17
# How names of files begin that hold rows of several loads.
MERGED = "merged"


@contextmanager
def opened(storage: Storage, uri: str) -> Iterator[Any]:
    """A file as pyarrow reads it. Raises OutsideError where it is gone or cannot be read."""
    try:
        source = storage.source(uri)
    except FileNotFoundError:
        raise OutsideError(
            f"The file {shown_path(uri)} of the table is gone: somebody removed it by hand; put it "
            "back, or take the load back that brought it."
        ) from None
    except OSError as error:
        raise OutsideError(f"Reading {shown_path(uri)} failed: {error}.") from None
    try:
        yield pq.ParquetFile(source)
    except (pa.ArrowInvalid, OSError) as error:
        told = " ".join(str(error).split()).rstrip(".")[:200]
        raise OutsideError(f"Reading {shown_path(uri)} failed: {told}.") from None
    finally:
        source.close()


def tables_of(
    storage: Storage,
    files: Sequence[TableFile],
    columns: Sequence[LakeColumn],
    marks: Marks | None = None,
    span: tuple[int, int] | None = None,
) -> Iterator[Any]:
    """The rows of files as Arrow tables with these columns, all or the marked ones.

    `span` are the first row of each that is wanted and the first one that is not.
    """
    for one in files:
        yield from _tables(storage, one, columns, marks, span or (0, one.file.rows))


def _tables(
    storage: Storage,
    one: TableFile,
    columns: Sequence[LakeColumn],
    marks: Marks | None,
    span: tuple[int, int],
) -> Iterator[Any]:
    if marks is not None and one.owner is not None and not is_marked(one.owner, marks):
        return
    with opened(storage, one.file.path) as file:
        mask = None
        if marks is not None and one.owner is None:
            mask = _mask(file, marks)
        names = _names(file.schema_arrow, columns)
        wanted = [name for name in names if name is not None]
        pieces, first = _groups(file.metadata, span)
        for batch in file.iter_batches(BATCH_ROWS, row_groups=pieces, columns=wanted):
            rows = pa.Table.from_batches([batch])
            if not wanted:
                rows = pa.table({"\0": pa.nulls(batch.num_rows)})
            arrays = [
                pa.nulls(len(rows), one.arrow_type) if name is None
                else _as(rows.column(name), one.arrow_type)
                for name, one in zip(names, columns, strict=True)
            ]  # fmt: skip
            made = pa.table(arrays, names=[one.name for one in columns])
            if mask is not None:
                made = made.filter(pa.array(mask[first : first + len(made)]))
            else:
                start = max(span[0] - first, 0)
                made = made.slice(start, max(span[1] - first - start, 0))
            first += batch.num_rows
            if len(made):
                yield made


def _groups(metadata: Any, span: tuple[int, int]) -> tuple[list[int], int]:
    """The row groups that have rows of a span, and the number of their first row."""
    chosen, first, at = [], None, 0
    for number in range(metadata.num_row_groups):
        rows = metadata.row_group(number).num_rows
        if at < span[1] and at + rows > span[0]:
            chosen.append(number)
            first = at if first is None else first
        at += rows
    return chosen, first or 0


def _names(schema: Any, columns: Sequence[LakeColumn]) -> list[str | None]:
    """The names that columns have in a file, by their numbers; by name where it has none."""
    numbered = {
        int(field.metadata[FIELD_ID]): field.name
        for field in schema
        if field.metadata and FIELD_ID in field.metadata
    }
    if numbered:
        return [numbered.get(one.number) for one in columns]
    return [one.name if one.name in schema.names else None for one in columns]


def _as(column: Any, kind: Any) -> Any:
    return column if column.type == kind else column.cast(kind)


def is_marked(owner: int, marks: Marks) -> bool:
    """Whether rows of a load are among those marked."""
    return any(first <= owner <= last for first, last in marks)


def _mask(file: Any, marks: Marks) -> Any:
    owners = owners_in(file.metadata.metadata)
    if owners is None:
        return np.zeros(file.metadata.num_rows, dtype=bool)
    return owners.mask(lambda load: is_marked(load, marks))


@lru_cache(maxsize=4096)
def _owners(storage: Storage, uri: str) -> Owners | None:
    with opened(storage, uri) as file:
        return owners_in(file.metadata.metadata)


def owners_of(storage: Storage, one: TableFile) -> tuple[int, ...]:
    """The numbers of the loads whose rows a file has."""
    if one.owner is not None:
        return (one.owner,)
    owners = _owners(storage, one.file.path)
    return () if owners is None else tuple(load for load in owners.loads if load != NOBODY)


def all_owners(storage: Storage, one: TableFile) -> Owners:
    """Whose each row of a file is."""
    if one.owner is not None:
        return Owners((one.owner,), np.zeros(one.file.rows, dtype=np.uint8))
    owners = _owners(storage, one.file.path)
    return owners or Owners((NOBODY,), np.zeros(one.file.rows, dtype=np.uint8))


def count_of(storage: Storage, one: TableFile, marks: Marks | None) -> int:
    """The rows of a file, all or the marked ones."""
    if marks is None:
        return one.file.rows
    if one.owner is not None:
        return one.file.rows if is_marked(one.owner, marks) else 0
    owners = _owners(storage, one.file.path)
    if owners is None:
        return 0
    return int(owners.mask(lambda load: is_marked(load, marks)).sum())


def without(storage: Storage, one: TableFile, marks: Marks) -> TableFile:
    """A new file with the rows of another but the marked ones, in the same order."""
    owners = _owners(storage, one.file.path)
    assert owners is not None, "a file with rows of several loads says so"
    keep = ~owners.mask(lambda load: is_marked(load, marks))
    folder = one.file.path.rpartition("/")[0]
    path = f"{folder}/{MERGED}-{secrets.token_hex(8)}-0001.parquet"
    with opened(storage, one.file.path) as file:
        schema = file.schema_arrow.remove_metadata()
        packing = file.metadata.row_group(0).column(0).compression.lower()
        layout = FileLayout(codec="none" if packing == "uncompressed" else packing)
        made = RowsFile(storage.create, path, schema, layout, one.file.partition)
        first = 0
        for batch in file.iter_batches(BATCH_ROWS):
            chosen = pa.array(keep[first : first + batch.num_rows])
            made.put(pa.Table.from_batches([batch]).filter(chosen))
            first += batch.num_rows
        return TableFile(made.close(Owners(owners.loads, owners.of_rows[keep])))


def found_in(rows: Any, sample: Any, names: Sequence[str]) -> Any:
    """Which rows of a sample are among some rows, cell by cell; a mask of the sample."""
    keys = [name for name in names if not pa.types.is_floating(sample.schema.field(name).type)]
    mine = _keyed(sample, keys)
    theirs = _keyed(rows, keys)
    return np.asarray(pc.is_in(mine, value_set=theirs))


def _keyed(rows: Any, names: Sequence[str]) -> Any:
    """Rows as one text each, in which every cell is told from every other."""
    cells = [
        pc.fill_null(pc.binary_join_element_wise(
            pa.scalar("="), rows.column(name).cast(pa.string()), pa.scalar("")), "\0")
        for name in names
    ]  # fmt: skip
    return pc.binary_join_element_wise(*cells, pa.scalar("\1")) if cells else pa.array([], "string")
