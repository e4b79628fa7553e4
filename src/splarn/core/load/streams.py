"""The streams of a load into an engine that is given rows, over parts that are there or arrive."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.check.limit import BadRows, too_many_bad
from splarn.core.load.arriving import Arrivals
from splarn.core.load.opening import Opened
from splarn.core.load.request import Input, LoadRequest, rejects_file, rejects_files
from splarn.core.load.stream import run_load_task
from splarn.core.load.task import LoadTask, PartResult
from splarn.core.source.content import Identity
from splarn.core.target.notes import PartNote
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress

# Rows are kept of so many parts, to be looked for in the table.
SAMPLED_PARTS = 200


class Tally:
    """Counts rows of all parts together, for the limit of bad ones is for all of them."""

    def __init__(self, limit: BadRows) -> None:
        self.limit = limit
        self.bad = self.rows = 0

    def add(self, result: PartResult, before: int = 0) -> None:
        """Takes what came of a part; `before` are rows that were bad already when parts were made.

        Raises ShortfallError when there are too many.
        """
        self.bad += result.note.refused
        self.rows += result.note.rows
        bad = self.bad + before
        if not self.limit.allows(bad, bad + self.rows):
            raise too_many_bad(self.limit)

    def end(self, before: int = 0) -> None:
        """All have come. Raises ShortfallError when too many were bad."""
        bad = self.bad + before
        if not self.limit.allows_in_the_end(bad, bad + self.rows):
            raise too_many_bad(self.limit)


def run_streams(
    request: LoadRequest, opened: Opened, pool: Pool, watch: Progress
) -> list[PartResult]:
    """Loads every part that the request names.

    Raises ShortfallError when rows are bad beyond the limit.
    """
    files = rejects_files(request.inputs)
    tasks = [_task(request, opened, entry, files[entry.part_id]) for entry in request.inputs]
    if pool.apart and opened.resumed:
        # Workers may not have heard yet that an earlier client is gone.
        tasks = [task.again() for task in tasks]
    known = [entry.raw_bytes for entry in request.inputs]
    plain = all(entry.codec == "none" or entry.rows is not None for entry in request.inputs)
    total = sum(size or 0 for size in known) if plain and None not in known else None
    watch.start("load", total, "bytes")
    results: dict[str, PartResult] = {}
    tally = Tally(request.bad_rows)
    for task, result in pool.as_done(run_load_task, tasks, watch):
        results[task.note.part_id] = result
        tally.add(result)
    tally.end()
    watch.finish()
    return [results[entry.part_id] for entry in request.inputs]


@dataclass(frozen=True)
class Arrived:
    """All parts of a load whose parts arrived, in their order, and what came of each.

    `seconds` is for how long rows came in.
    """

    inputs: tuple[Input, ...]
    results: list[PartResult]
    seconds: float


def run_arriving(
    request: LoadRequest, opened: Opened, pool: Pool, watch: Progress, arrivals: Arrivals
) -> Arrived:
    """Loads parts as they arrive.

    Raises ShortfallError when rows are bad beyond the limit, and what bringing the parts raises.
    """
    loaded: list[tuple[Input, PartResult]] = []
    tally, busy = Tally(request.bad_rows), arrivals.loads

    def task(entry: Input) -> LoadTask:
        busy.begin()
        made = _task(request, opened, entry, rejects_file(entry))
        return made.again() if pool.apart and opened.resumed else made

    watch.start("load", None, "bytes")
    # One is ready for each stream when it ends another.
    ahead, course = pool.workers, arrivals.course
    fed = pool.as_fed(run_load_task, arrivals.feed, task, watch, ahead, lambda: course.streams)
    for entry, result in fed:
        busy.end()
        arrivals.loaded(entry, result)
        if len(loaded) >= SAMPLED_PARTS:
            # Rows of so many parts are enough to look for in the table, one by one.
            result = replace(result, sample=None)
        loaded.append((entry, result))
        tally.add(result, arrivals.set_aside())
    watch.finish()
    return in_order(loaded, arrivals, tally, busy.seconds)


def in_order(
    loaded: list[tuple[Input, PartResult]], arrivals: Arrivals, tally: Tally, seconds: float
) -> Arrived:
    """What was loaded with what an earlier try had brought in.

    Raises ShortfallError when too many rows were bad.
    """
    earlier = arrivals.already_in()
    for _, result in earlier:
        tally.add(result, arrivals.set_aside())
    tally.end(arrivals.set_aside())
    every = sorted((*loaded, *earlier), key=lambda one: one[0].path.name)
    return Arrived(tuple(entry for entry, _ in every), [result for _, result in every], seconds)


def note_of(request: LoadRequest, opened: Opened, entry: Input) -> PartNote:
    """A part's note, or the first one of a part that has none yet."""
    noted = opened.parts.get(entry.part_id)
    return noted or PartNote(
        opened.note.load_id, entry.part_id, entry.path.name, "open", 0, 0, 0, table=request.table,
        begins=entry.content.begins, whole=entry.content.whole,
    )  # fmt: skip


def rejects_folder(request: LoadRequest, opened: Opened) -> Path | None:
    """Where the refused rows of a load go."""
    return None if request.rejects is None else request.rejects / opened.note.load_id


def _task(request: LoadRequest, opened: Opened, entry: Input, rejects: str) -> LoadTask:
    folder = rejects_folder(request, opened)
    details = opened.note.details
    note = note_of(request, opened, entry)
    mine = entry.content
    return LoadTask(
        open_engine=request.open_engine,
        table=opened.into,
        layout=request.layout,
        names=details.names,
        source=entry.source,
        # What is known of an input, by itself or from an earlier try.
        content=Identity(mine.begins or note.content.begins, note.content.whole or mine.whole),
        packed_hash=entry.packed_hash,
        pieces=entry.pieces,
        note=note,
        batch_rows=request.batch_rows,
        bad_rows=request.bad_rows,
        rejects=None if folder is None else folder / rejects,
        relaxed=details.durability == "relaxed",
        verify=request.verify,
        noted=entry.part_id in opened.parts,
    )
