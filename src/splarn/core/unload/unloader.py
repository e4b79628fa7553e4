"""Unloading: ranges of rows over a pool, each a part, and a look at what was written."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.verify import compare_digests
from splarn.core.reading import read_parsed
from splarn.core.reading.text import delimited, json_lines
from splarn.core.shape.folder import Unfinished, fingerprint, part_name
from splarn.core.shape.manifest import Manifest, Part, write_manifest
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.task import Cut
from splarn.core.source.files import content_hash
from splarn.core.target.digest import ColumnDigest, add_digests, digest_table
from splarn.core.target.names import schema_and_name
from splarn.core.target.outgoing import Outgoing, RowRange, Wanted, unheld
from splarn.core.target.session import OpenEngine, Session
from splarn.core.unload.task import UnloadTask, outgoing_of, run_unload_task
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent

# Rows by which the size of all is told.
SAMPLED = 2000
# More parts than anybody wants.
MOST_PARTS = 100_000


@dataclass(frozen=True)
class UnloadRequest:
    """What is wanted of which engine, and the parts to make of it.

    `name` is what the parts are named after. With `again` parts in the folder are made anew.
    Without `verify` nothing but its number of rows tells whether a table is what it was.
    """

    open_engine: OpenEngine
    identity: str
    wanted: Wanted
    into: Path
    output: PartsFormat
    name: str = ""
    again: bool = False
    verify: bool = True


@dataclass(frozen=True)
class UnloadRecord:
    """What was unloaded. `kept` parts were there from an earlier try.

    `verified` is None where nothing was held against the target, which was done `by` figures of
    every column, or by the count of rows where a query tells no more. `differences` say how the
    parts differ from it.
    """

    manifest: Manifest
    place: str
    seconds: float
    streams: int
    kept: int
    verified: bool | None
    by: str
    differences: tuple[str, ...]

    @property
    def rows(self) -> int:
        """Rows in all parts."""
        return self.manifest.rows


@dataclass(frozen=True)
class Leaving:
    """Rows of a target as they are held, and the parts that they are going to be: a task each.

    `source` is the layout of the rows, `made` that of the parts. `row_bytes` are about those of a
    row as text, `there` is what the target says of all of them, None where it says nothing.
    """

    place: str
    wanted: Wanted
    name: str
    source: Layout
    made: Layout
    rows: int
    row_bytes: float
    there: list[ColumnDigest] | None
    tasks: tuple[UnloadTask, ...]
    cuts: bool

    def settings(self, request: UnloadRequest) -> tuple[Any, ...]:
        """What tells whether an earlier try was of the same rows into the same parts."""
        ranges = [] if self.cuts else [task.rows for task in self.tasks]
        return (
            request.identity, self.wanted, request.output, self.made, ranges, self.rows, self.there
        )  # fmt: skip


@contextmanager
def leaving(request: UnloadRequest, watch: Progress) -> Iterator[Leaving]:
    """The rows of a target, held as they are for as long as this lasts.

    Raises RequestError for a table that is not there and columns that no field holds, OutsideError
    when the target fails.
    """
    engine = request.open_engine()
    with closing(engine.connect()) as session:
        if session.outgoing is None:
            raise RequestError(f"{engine.title} gives no rows back, so nothing can be unloaded.")
        wanted = _canonical(session, request.wanted)
        outgoing = outgoing_of(session)
        held = outgoing.hold()
        fields = outgoing.fields(wanted)
        name = request.name or schema_and_name(wanted.table or "rows")[1]
        source = Layout(name, Dialect(header=False), fields)
        made = request.output.layout(source)
        watch.start("look", None, "")
        rows = outgoing.count(wanted)
        there = _figures(session, wanted, fields) if request.verify else None
        row_bytes = _row_bytes(outgoing, wanted, made, rows)
        ranges = _ranges(outgoing, wanted, row_bytes, rows, request.output)
        watch.finish()
        tasks = tuple(
            UnloadTask(
                request.open_engine, held, wanted, one, made, request.output, request.into,
                f"{part_name(name)}-{number:04d}" if ranges else part_name(name), not ranges,
            )
            for number, one in enumerate(ranges or [None], 1)
        )  # fmt: skip
        yield Leaving(
            engine.place, wanted, name, source, made, rows, row_bytes, there, tasks, not ranges
        )


def unload(request: UnloadRequest, pool: Pool, progress: Progress | None = None) -> UnloadRecord:
    """Writes rows of a table or a query into parts with a manifest; the same call goes on.

    Raises RequestError for a table that is not there, columns that no field holds, a folder in
    use; OutsideError when the target or the disk fails.
    """
    begun, watch = time.perf_counter(), progress or Silent()
    with leaving(request, watch) as going:
        settings = going.settings(request)
        mark = Unfinished(
            request.into, fingerprint((), *settings), request.again, part_name(going.name)
        )
        parts, kept = _carried_out(going.tasks, mark, pool, watch, going.rows)
    manifest = Manifest(request.into, going.made, parts)
    verified, differences = None, list[str]()
    if request.verify:
        # Before the manifest says that it is whole: a value may be there that no part can hold.
        differences = _verified(manifest, going.rows, going.there, pool, watch)
        verified = not differences
    write_manifest(manifest)
    mark.finish()
    return UnloadRecord(
        manifest, going.place, time.perf_counter() - begun, 1 if going.cuts else pool.workers, kept,
        verified, "count" if going.there is None else "figures", tuple(differences),
    )  # fmt: skip


def _figures(
    session: Session, wanted: Wanted, fields: Sequence[Field]
) -> list[ColumnDigest] | None:
    """What the target says of all rows; None of a query, and of values that are none of the type.

    Those are named by whoever reads them.
    """
    if wanted.query:
        return None
    try:
        return session.digests.of_columns(wanted.table, fields)
    except (ArithmeticError, TypeError, ValueError):
        return None


def _canonical(session: Session, wanted: Wanted) -> Wanted:
    if wanted.query:
        return wanted
    table = session.tables.canonical(wanted.table)
    columns = session.tables.columns(table)
    if columns is None:
        raise RequestError(f"There is no table {wanted.table} in the target: check the spelling.")
    known = [column.name for column in columns]
    for name in wanted.names:
        if name not in known:
            raise RequestError(f"{wanted.table} has no column {name}: it has {', '.join(known)}.")
    return Wanted(table, "", wanted.names or tuple(known))


def _row_bytes(outgoing: Outgoing, wanted: Wanted, made: Layout, rows: int) -> float:
    """About the bytes of a row as text, by the first ones; 0 where nothing tells."""
    if wanted.query or not rows or not outgoing.ranges(wanted, 1):
        return 0.0
    sample = next(iter(outgoing.typed(wanted, made, None, SAMPLED)), None)
    if sample is None or not len(sample):
        return 0.0
    by_text = Layout(made.name, Dialect(header=False), made.fields)
    text = json_lines(sample, made) if made.format == "jsonl" else delimited(sample, by_text)
    return len(text) / len(sample)


def _ranges(
    outgoing: Outgoing, wanted: Wanted, row_bytes: float, rows: int, output: PartsFormat
) -> list[RowRange]:
    """Ranges that make parts of about the size asked for; none where all comes in one piece."""
    if not row_bytes:
        return []
    each = output.part_rows or max(int(output.part_bytes / row_bytes), 1)
    count = -(-rows // each)
    if count > MOST_PARTS:
        raise RequestError(f"That would make {count:,} parts: give a larger --part-size.")
    return outgoing.ranges(wanted, count) if count > 1 else []


def parts_of_all(
    tasks: Sequence[UnloadTask], mark: Unfinished, pool: Pool, watch: Progress
) -> Iterator[tuple[UnloadTask, Part, bool]]:
    """Each part once it is whole, of what task it is and whether an earlier try had made it."""
    for task in tasks:
        if task.stem in mark.ended:
            for cut in mark.done.get(task.stem, ()):
                yield from ((task, part, True) for part in cut.parts)
    left = [task for task in tasks if task.stem not in mark.ended]
    for task, parts in pool.as_done(run_unload_task, left, watch):
        mark.add(task.stem, Cut(parts))
        mark.end(task.stem)
        yield from ((task, part, False) for part in parts)


def _carried_out(
    tasks: Sequence[UnloadTask], mark: Unfinished, pool: Pool, watch: Progress, rows: int
) -> tuple[tuple[Part, ...], int]:
    """The parts in order, and how many there were from before."""
    made: dict[str, list[Part]] = {task.stem: [] for task in tasks}
    kept = 0
    watch.start("unload", rows, "rows")
    for task, part, before in parts_of_all(tasks, mark, pool, watch):
        made[task.stem].append(part)
        if before:
            # Others were told of as their rows went.
            watch.advance(part.rows)
            kept += 1
    watch.finish()
    return tuple(part for parts in made.values() for part in parts), kept


@dataclass(frozen=True)
class _Look:
    folder: Path
    part: Part
    layout: Layout


def look_at_part(look: _Look) -> tuple[int, list[ColumnDigest] | None]:
    """Rows and digests of a part as it lies on the disk. Raises RequestError for a bad row."""
    path, rows = look.folder / look.part.path, 0
    if content_hash(path) != look.part.hash:
        raise RequestError(f"{path} is not what was written: its hash differs; run it again.")
    total: list[ColumnDigest] | None = None
    for parsed in read_parsed(path, look.part.codec, look.layout):
        if parsed.faults:
            raise unheld(parsed.faults[0])
        rows += len(parsed.good)
        total = add_digests(total, digest_table(parsed.table, look.layout.fields))
    return rows, total


def _verified(
    manifest: Manifest, rows: int, there: list[ColumnDigest] | None, pool: Pool, watch: Progress
) -> list[str]:
    """How the parts on the disk differ from the target as it was held."""
    watch.start("verify", len(manifest.parts), "parts")
    looks = [_Look(manifest.folder, part, manifest.layout) for part in manifest.parts]
    found, total = 0, None
    for _, (one, digests) in pool.as_done(look_at_part, looks, watch):
        found += one
        total = add_digests(total, digests) if digests else total
        watch.advance(1)
    watch.finish()
    if found != rows:
        return [f"{found:,} rows are in the parts and {rows:,} were in the target"]
    if there is None:
        return []
    read = total or [ColumnDigest(field.name) for field in manifest.layout.fields]
    return compare_digests(read, [], there)
