"""Proves that the parts hold exactly the source's records, once each."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import groupby
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import xxhash

from splarn.core.layout import Layout
from splarn.core.reading import read_parsed
from splarn.core.reading.columnar import open_parquet
from splarn.core.reading.text import header_line, value_text
from splarn.core.shape.copying import Sequential, copied, records
from splarn.core.shape.manifest import Manifest, Part, SourceRange
from splarn.core.source.codecs import read_blocks
from splarn.core.source.files import content_hash
from splarn.core.source.places import place
from splarn.core.units import plural
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent


@dataclass(frozen=True)
class VerifyTask:
    """Parts to hold against their source; picklable. `layout` is the source's.

    Copies of a packed source come in one task, so that it is unpacked once; converted parts of one
    stretch of the source come together too.
    """

    manifest: Manifest
    parts: tuple[Part, ...]
    layout: Layout
    copies: bool


def verify_task(task: VerifyTask) -> list[str]:
    """What differs between the parts and their source ranges."""
    for part in task.parts:
        path = task.manifest.folder / part.path
        if content_hash(path) != part.hash:
            return [f"{path} is not the file that the manifest lists: its hash differs"]
    return _copy_differs(task) if task.copies else _rows_differ(task)


def _copy_differs(task: VerifyTask) -> list[str]:
    reader = Sequential()
    made, dialect = task.manifest.layout, task.layout.dialect
    header = header_line(made) if made.dialect.header else b""
    differences = []
    for part in task.parts:
        path = task.manifest.folder / part.path
        unpacked, source = xxhash.xxh3_128(), xxhash.xxh3_128(header)
        for block in read_blocks(path, part.codec):
            unpacked.update(block)
        rows = 0
        packed = part.source[0].codec != "none"
        held = (
            records(part.source, dialect, reader=reader) if packed else copied(part.source, dialect)
        )
        for data, count in held:
            source.update(data)
            rows += count
        if rows != part.rows:
            differences.append(
                f"{path} holds {plural(part.rows, 'record')} where its source has {rows:,}"
            )
        elif unpacked.digest() != source.digest():
            differences.append(f"{path} does not hold the bytes of its source")
    return differences


def _rows_differ(task: VerifyTask) -> list[str]:
    """Rows of parts and source as sets with counts: order and grouping may differ, rows may not."""
    made, reader, differences = task.manifest.layout, Sequential(), []
    for source, group in groupby(task.parts, lambda part: part.source):
        parts = list(group)
        there = total = here = expected = 0
        for part in parts:
            for count, sum_ in _hashed(task.manifest.folder / part.path, part.codec, made):
                there, total = there + count, (total + sum_) % 2**64
        for piece in source:
            read = read_blocks if piece.codec == "none" else reader.read
            stretch = (piece.start, piece.end, None, read)
            for count, sum_ in _hashed(place(piece.path), piece.codec, task.layout, *stretch):
                here, expected = here + count, (expected + sum_) % 2**64
        names = f"{task.manifest.folder / parts[0].path}"
        if len(parts) > 1:
            names += f" and {len(parts) - 1} more of the same stretch"
        if there != here:
            differences.append(
                f"{names} hold {plural(there, 'record')} where the source has {here:,} good ones"
            )
        elif total != expected:
            differences.append(f"{names} do not hold the rows of the source")
    return differences


def _hashed(path: Any, codec: str, layout: Layout, *stretch: Any) -> Iterator[tuple[int, int]]:
    """Good rows and the sum of their 64-bit hashes, some records at a time."""
    for parsed in read_parsed(path, codec, layout, *stretch):
        yield len(parsed.table), row_hashes(parsed.table, layout)


def row_hashes(table: Any, layout: Layout) -> int:
    """The sum of the rows' hashes, modulo 2^64, so that their order does not matter."""
    columns = []
    for field, column in zip(layout.fields, table.columns, strict=True):
        text = value_text(column)
        if field.is_json:
            values = [None if v is None else json.dumps(json.loads(v)) for v in text.to_pylist()]
            text = pa.chunked_array([pa.array(values, pa.string())])
        elif field.is_uuid:
            text = pc.utf8_lower(text)
        columns.append(pc.binary_join_element_wise("v", text, ""))
    # Values are told from nulls by a letter, from one another by a control character.
    lines = pc.binary_join_element_wise(
        *columns, "\x1f", null_handling="replace", null_replacement="n"
    )
    return sum(map(xxhash.xxh3_64_intdigest, lines.cast(pa.binary()).to_pylist())) % 2**64


def verify_parts(
    manifest: Manifest, layout: Layout, copies: bool, pool: Pool, progress: Progress | None = None
) -> list[str]:
    """All differences between the parts and the source, which reads by `layout`.

    `copies` says that the parts hold the source's own bytes; converted parts hold its good rows.
    Raises OutsideError when a file cannot be read.
    """
    watch = progress or Silent()
    groups: list[Sequence[Part]] = [
        list(group) for _, group in groupby(manifest.parts, lambda part: _group(part, copies))
    ]
    # Tasks may go far, and each looks at its own parts only.
    bare = replace(manifest, parts=(), contents={})
    tasks = [VerifyTask(bare, tuple(group), layout, copies) for group in groups]
    watch.start("verify", len(tasks), "parts")
    all_differences = _gaps(manifest)
    for differences in pool.map(verify_task, tasks):
        all_differences += differences
        watch.advance(1)
    watch.finish()
    return all_differences


def _group(part: Part, copies: bool) -> object:
    """Parts of a run of packed files follow one another; others stand for themselves."""
    if part.source[0].codec != "none":
        return part.path.rpartition("/")[2].rpartition("-")[0]
    return part.path if copies else part.source


def _gaps(manifest: Manifest) -> list[str]:
    """Source bytes that no part or more than one holds."""
    by_file: dict[str, list[SourceRange]] = defaultdict(list)
    for source in dict.fromkeys(part.source for part in manifest.parts):
        for piece in source:
            by_file[piece.path].append(piece)
    gaps = []
    for name, pieces in by_file.items():
        path = place(name)
        at: int | None = 0
        for piece in sorted(pieces, key=lambda piece: piece.start):
            if piece.start != at:
                gaps.append(f"{path} is not held once from {at:,} on")
                break
            at = piece.end
        else:
            if at is not None and at != _length(name, pieces[0].codec):
                gaps.append(f"{path} is not held after {at:,}")
    return gaps


def _length(name: str, codec: str) -> int:
    """Where the last range of a file must end."""
    path = place(name)
    with path.open("rb") as file:
        columnar = codec == "none" and file.read(4) == b"PAR1"
    if columnar:
        with open_parquet(path) as parquet:
            return int(parquet.metadata.num_rows)
    return path.stat().st_size
