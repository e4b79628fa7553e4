"""Compaction: the small files of a table merged towards a size, by partition, in one commit."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, replace

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout.file_layout import FileLayout
from splarn.core.target.merging import Leftover, Merged, MergeOrder, Merging, SeenFile, Tried
from splarn.core.target.session import OpenEngine, Session
from splarn.core.units import plural
from splarn.core.work.pool import Inline, Pool
from splarn.core.work.progress import Progress, Silent
from splarn.core.work.words import nearest

# Files of at least this share of the size wanted are left as they are: writing them anew would save
# little of what it costs.
LARGE_ENOUGH = 0.75


@dataclass(frozen=True)
class CompactRequest:
    """What to merge. Without a `file_bytes` or a `sort` the table's own; `sorted_anew` writes files
    in order that are large enough. `partitions` are those wanted, all if none is named, and files
    that came in after `before` (seconds since 1970) are left alone. So many `streams` merge."""

    open_engine: OpenEngine
    table: str
    file_bytes: int | None = None
    sort: tuple[str, ...] = ()
    partitions: tuple[str, ...] = ()
    before: float | None = None
    streams: int = 1


@dataclass(frozen=True)
class CompactPlan:
    """What is going to be merged, and what that should take and save.

    `files` and `bytes` are those of the whole table. `seconds` is what is foreseen of the merging,
    `opening` the seconds that opening one file takes, both from a trial on a few of the files.
    """

    orders: tuple[MergeOrder, ...]
    files: int
    bytes: int
    rows: int
    tried: Tried | None
    streams: int

    @property
    def files_merged(self) -> int:
        """Files that go."""
        return sum(len(order.files) for order in self.orders)

    @property
    def bytes_merged(self) -> int:
        """Bytes of these."""
        return sum(order.bytes for order in self.orders)

    @property
    def bytes_after(self) -> int:
        """Bytes of the whole table afterwards, as foreseen."""
        share = self.tried.written / self.tried.read if self.tried and self.tried.read else 1.0
        return round(self.bytes - self.bytes_merged * (1 - share))

    @property
    def files_after(self) -> int:
        """Files of the whole table afterwards, as foreseen."""
        made = sum(max(round(order.bytes / order.file_bytes + 0.25), 1) for order in self.orders)
        return self.files - self.files_merged + made

    @property
    def seconds(self) -> float | None:
        """What merging should take; None where there was nothing to try."""
        if self.tried is None or not self.tried.read:
            return None
        busy = min(self.streams, len(self.orders))
        return self.bytes_merged / self.tried.read * self.tried.seconds / busy

    @property
    def saved(self) -> float:
        """Seconds that a look at all of the table takes less, for its files are fewer."""
        return 0.0 if self.tried is None else self.tried.opening * (self.files - self.files_after)


@dataclass(frozen=True)
class CompactRecord:
    """What came of it. `left` are merges that others made void meanwhile, `resumed` those that an
    earlier try had written. `verified` says that the new files hold the rows of the old ones."""

    table: str
    place: str
    plan: CompactPlan
    files_after: int
    bytes_after: int
    rows: int
    merged: int
    resumed: int
    left: int
    seconds: float
    verified: bool | None


def chosen(
    files: Sequence[SeenFile], table: str, layout: FileLayout, request: CompactRequest
) -> list[MergeOrder]:
    """The merges that make files of about a size, each of neighbours in one partition."""
    file_bytes, sort = request.file_bytes or layout.file_bytes, layout.sort
    groups: dict[str, list[SeenFile]] = {}
    for one in files:
        recent = request.before is not None and one.added > request.before
        if not recent and _wanted(one.partition, request.partitions):
            groups.setdefault(one.partition, []).append(one)
    orders = []
    for group in groups.values():
        small = [one for one in group if request.sort or one.bytes < LARGE_ENOUGH * file_bytes]
        small.sort(key=lambda one: (one.added, one.path))
        # Those of another order than the table's are in it only together.
        bins = [small] if request.sort else _bins(small, file_bytes)
        orders += [
            MergeOrder(table, tuple(some), file_bytes, request.sort or sort)
            for some in bins
            if len(some) > 1 or (request.sort and some)
        ]
    return orders


def _bins(files: Sequence[SeenFile], file_bytes: int) -> list[list[SeenFile]]:
    """Neighbours together until they make up a file; a rest that is too small joins the last."""
    bins: list[list[SeenFile]] = [[]]
    size = 0
    for one in files:
        if bins[-1] and size + one.bytes > file_bytes:
            bins.append([])
            size = 0
        bins[-1].append(one)
        size += one.bytes
    if len(bins) > 1 and len(bins[-1]) == 1:
        rest = bins.pop()
        bins[-1] += rest
    return bins


def _wanted(partition: str, wanted: Sequence[str]) -> bool:
    """Whether a partition is named, by all of it or by one of its pieces or values."""
    if not wanted:
        return True
    pieces = partition.split("/")
    values = [piece.partition("=")[2] for piece in pieces]
    return any(one in (partition, *pieces, *values) for one in wanted)


def compact(
    request: CompactRequest,
    progress: Progress | None = None,
    agree: Callable[[CompactPlan], bool] | None = None,
    workers: Callable[[], Pool] = Inline,
) -> CompactRecord:
    """Merges small files; `agree` is asked with the plan before the first file is written.

    `workers` begins those that merge, where there is enough for them.
    Raises RequestError where the table is not there or is no files, OutsideError when the target
    fails or another compaction of the table is under way.
    """
    begun, watch = time.perf_counter(), progress or Silent()
    engine = request.open_engine()
    with closing(engine.connect()) as session:
        merging = merging_of(session, engine.title)
        table = session.tables.canonical(request.table)
        columns = session.tables.columns(table)
        if columns is None:
            raise RequestError(f"There is no table {request.table} in {engine.place}.")
        names = [one.name for one in columns]
        for name in request.sort:
            if name not in names:
                raise RequestError(
                    f"{table} has no column {name} to sort by{nearest(name, names)}: it has "
                    f"{', '.join(names)}."
                )
        if not session.claims.claim(f"compaction of {table}"):
            raise OutsideError(
                f"Another compaction of {table} in {engine.place} is under way: wait for it."
            )
        watch.start("look", None, "")
        kept = merging.kept(table)
        files = merging.files(table)
        plan = planned(merging, table, files, request)
        watch.finish()
        if agree is not None and not agree(plan):
            return _record(session, merging, table, engine.place, plan, [], 0, 0, begun)
        merged, resumed = _merged(request, plan, kept, workers, watch)
        watch.start("commit", None, "")
        done = merging.commit(table, merged)
        watch.finish()
        left = len(merged) - len(done)
        return _record(session, merging, table, engine.place, plan, done, resumed, left, begun)


def merging_of(session: Session, title: str) -> Merging:
    """The part of a session about files. Raises RequestError where tables are none."""
    if session.merging is None:
        raise RequestError(f"{title} keeps no tables as files, so there is nothing to compact.")
    return session.merging


def planned(
    merging: Merging, table: str, files: Sequence[SeenFile], request: CompactRequest
) -> CompactPlan:
    """What is going to be merged, after a small trial.

    Raises RequestError for a partition that is not there, or a column to sort by.
    """
    layout = merging.layout(table)
    known = sorted({one.partition for one in files})
    for one in request.partitions:
        if not any(_wanted(partition, (one,)) for partition in known):
            shown = ", ".join(known[:6]) + (", ..." if len(known) > 6 else "")
            raise RequestError(
                f"{table} has no partition {one}{nearest(one, known)}: there are {shown or 'none'}."
            )
    basis = merging.basis(table)
    orders = [replace(one, basis=basis) for one in chosen(files, table, layout, request)]
    tried = merging.try_out(max(orders, key=lambda order: order.bytes)) if orders else None
    return CompactPlan(
        tuple(orders), len(files), sum(one.bytes for one in files),
        sum(one.rows for one in files), tried, request.streams,
    )  # fmt: skip


@dataclass(frozen=True)
class MergeTask:
    """One merge, for a worker."""

    open_engine: OpenEngine
    order: MergeOrder


def run_merge(task: MergeTask) -> Merged:
    """Carries out one merge. Raises OutsideError when the target fails."""
    engine = task.open_engine()
    with closing(engine.connect()) as session:
        return merging_of(session, engine.title).merge(task.order)


def _merged(
    request: CompactRequest,
    plan: CompactPlan,
    kept: Sequence[Merged],
    workers: Callable[[], Pool],
    watch: Progress,
) -> tuple[list[Merged], int]:
    """All merges of a plan, and how many of them an earlier try had written."""
    by_inputs = {(one.way, one.inputs): one for one in kept}
    found: list[Merged] = []
    left = []
    for order in plan.orders:
        earlier = by_inputs.get((order.way, tuple(one.path for one in order.files)))
        if earlier is not None:
            found.append(earlier)
        else:
            left.append(MergeTask(request.open_engine, order))
    resumed = len(found)
    watch.start("merge", plan.bytes_merged, "bytes")
    watch.advance(plan.bytes_merged - sum(task.order.bytes for task in left))
    # The longest first, so that none is left alone in the end.
    left.sort(key=lambda task: -task.order.bytes)
    for task, merged in workers().as_done(run_merge, left):
        watch.advance(task.order.bytes)
        found.append(merged)
    watch.finish()
    return found, resumed


def _record(
    session: Session, merging: Merging, table: str, place: str, plan: CompactPlan,
    done: Sequence[Merged], resumed: int, left: int, begun: float,
) -> CompactRecord:  # fmt: skip
    files = merging.files(table)
    return CompactRecord(
        table, place, plan, len(files), sum(one.bytes for one in files),
        sum(one.rows for one in files), len(done), resumed, left,
        time.perf_counter() - begun, True if done else None,
    )  # fmt: skip


def said_to_go(leftover: Leftover, table: str) -> str:
    """What removing it makes unreachable, as a sentence."""
    parts = [f"{plural(len(leftover.files), 'file')} of {table}"]
    if leftover.snapshots:
        parts.insert(0, f"{plural(len(leftover.snapshots), 'state')} from before")
    told = " and ".join(parts)
    if leftover.loads:
        named = ", ".join(leftover.loads[:3]) + (", ..." if len(leftover.loads) > 3 else "")
        told += f"; {plural(len(leftover.loads), 'load')} can then not be taken back ({named})"
    return told
