"""Loads into an engine that reads files itself: parts handed over, and read here to prove them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.check.limit import too_many_bad
from splarn.core.errors import OutsideError, SplarnError
from splarn.core.layout import Layout
from splarn.core.load.opening import Opened
from splarn.core.load.pieces import in_delivery
from splarn.core.load.request import Input, LoadRequest, rejects_files
from splarn.core.load.stream import KEPT_FAULTS
from splarn.core.load.streams import Tally, rejects_folder
from splarn.core.load.task import PartResult
from splarn.core.reading import read_parsed
from splarn.core.reading.faults import count_rejects, replace_rejects
from splarn.core.source.content import Identity
from splarn.core.source.source import Proof, Source
from splarn.core.target.digest import ColumnDigest, add_digests, digest_table
from splarn.core.target.handover import HandedPart, PartJob, PartsOrder
from splarn.core.target.notes import PartNote
from splarn.core.target.session import Session
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress


@dataclass(frozen=True)
class ReadTask:
    """A part to be read here, for the digests that the table must have; picklable."""

    part_id: str
    source: Source
    content: Identity
    packed_hash: str
    layout: Layout
    names: tuple[str, ...]


@dataclass(frozen=True)
class Handed:
    """What came of the parts. `started` and `finished` are moments of the engine's clock.

    They are None where no part was left to be loaded. `sending` are the seconds before that in
    which files went into the engine's inbox (None of one without), `loading` those between, where
    parts arrived, and `waited` those until the first one was let in.
    """

    inputs: tuple[Input, ...]
    results: list[PartResult]
    started: float | None
    finished: float | None
    sending: float | None
    loading: float | None = None
    waited: float = 0.0


def hand_over(
    session: Session, request: LoadRequest, opened: Opened, pool: Pool, watch: Progress
) -> Handed:
    """Lets the engine load every part that is not in, while the parts are read here.

    Raises ShortfallError for a part with more bad rows than allowed, OutsideError for one that the
    engine could not load; parts that are in stay.
    """
    rejects = rejects_folder(request, opened)
    names = opened.note.details.names
    order = order_of(request, opened, pool.workers, tuple(map(handed_part, request.inputs)))
    watch.start("load", len(order.parts), "parts")
    before = {note.part_id for note in opened.parts.values() if note.state == "done"}
    through = 0

    def tell(done: int) -> None:
        nonlocal through
        watch.advance(done - through)
        through = done

    digests: dict[str, list[ColumnDigest] | None] = {}
    with ThreadPoolExecutor(1) as asking:
        assert session.files is not None, "this engine reads files"
        carried = asking.submit(session.files.load_parts, order, tell)
        try:
            if request.verify:
                tasks = [read_task(request, one, names) for one in request.inputs]
                for task, digest in pool.as_done(read_part, tasks):
                    digests[task.part_id] = digest
                    if carried.done() and carried.exception() is not None:
                        break
            answer = carried.result()
            jobs = {job.part_id: job for job in answer.jobs}
        except BaseException:
            # What is at work there comes to its end; nothing further begins.
            with suppress(SplarnError):
                session.claims.await_batches(order.load_id)
            raise
    tell(len(order.parts))
    watch.finish()
    done = sum(not _failed(one) for one in jobs.values())
    for entry in request.inputs:
        if entry.part_id in jobs:
            keep_rejects(rejects, rejects_files(request.inputs)[entry.part_id], entry, jobs)
    for entry in request.inputs:
        if entry.part_id in jobs:
            refuse_failed(request, entry, jobs[entry.part_id], f"{done} of {len(order.parts)}")
    notes = {note.part_id: note for note in session.notes.parts([order.load_id])}
    new = [job for part_id, job in jobs.items() if part_id not in before]
    files = rejects_files(request.inputs)
    results = [
        result_of(
            entry, notes[entry.part_id], jobs.get(entry.part_id), digests.get(entry.part_id),
            rejects, files[entry.part_id],
        )
        for entry in request.inputs
    ]  # fmt: skip
    tally = Tally(request.bad_rows)
    for result in results:
        tally.add(result)
    tally.end()
    return Handed(request.inputs, results, *first_and_last(new), answer.sending)


def first_and_last(jobs: Sequence[PartJob]) -> tuple[float | None, float | None]:
    """When the first of some jobs was begun and the last ended; None where there are none."""
    begun = min((job.begun for job in jobs), default=None)
    return begun, max((job.ended for job in jobs), default=None)


def order_of(
    request: LoadRequest, opened: Opened, streams: int, parts: tuple[HandedPart, ...]
) -> PartsOrder:
    """An order of parts, as a load asks for it."""
    details = opened.note.details
    beside_others = opened.note.mode == "append" and opened.into == opened.note.table
    return PartsOrder(
        load_id=opened.note.load_id,
        table=opened.into,
        layout=request.layout,
        names=opened.note.details.names,
        parts=parts,
        streams=streams,
        batch_rows=request.batch_rows,
        bad_rows=request.bad_rows,
        rows_before=details.rows_before if beside_others else 0,
    )


def handed_part(entry: Input) -> HandedPart:
    """An input as the engine is told of it."""
    return HandedPart(
        entry.part_id, entry.path, entry.codec, entry.packed_hash, entry.raw_bytes or 0,
        entry.rows or 0,
    )  # fmt: skip


def read_task(request: LoadRequest, entry: Input, names: tuple[str, ...]) -> ReadTask:
    """An input to be read here."""
    return ReadTask(
        entry.part_id, entry.source, entry.content, entry.packed_hash, request.layout, names
    )


def read_part(task: ReadTask) -> list[ColumnDigest] | None:
    """The digests of a part; None of one without rows. Raises OutsideError when it changed."""
    fields = [field for field in task.layout.fields if field.name in task.names]
    total: list[ColumnDigest] | None = None
    source = task.source
    proof = Proof(source, task.layout, task.content, task.packed_hash)
    for parsed in read_parsed(source.place, source.codec, task.layout, read=proof.read):
        total = add_digests(total, digest_table(parsed.table, fields))
    proof.check()
    return total


def keep_rejects(folder: Path | None, file: str, entry: Input, jobs: Mapping[str, PartJob]) -> None:
    """Writes the rows of a part that the engine refused."""
    job = jobs[entry.part_id]
    if folder is not None and job.faults and job.state == "ended":
        faults = [in_delivery(fault, entry.pieces) for fault in job.faults]
        replace_rejects(folder / file, faults)


def refuse_failed(request: LoadRequest, entry: Input, job: PartJob, done: str) -> None:
    """Raises the error of a part that failed: ShortfallError for too many bad rows, OutsideError.

    `done` is how many parts are in.
    """
    if not _failed(job):
        return
    refused = len(job.faults)
    if refused and not request.bad_rows.allows(refused, refused + job.rows):
        last = replace(job.faults[-1], path=str(entry.path))
        raise too_many_bad(request.bad_rows, in_delivery(last, entry.pieces))
    raise OutsideError(
        f"The part {entry.path} could not be loaded: {job.error.rstrip('.')}; {done} parts are in, "
        "and the same command goes on from there."
    )


def _failed(job: PartJob) -> bool:
    return job.state != "ended"


def result_of(
    entry: Input,
    note: PartNote,
    job: PartJob | None,
    digests: list[ColumnDigest] | None,
    rejects: Path | None,
    file: str,
) -> PartResult:
    """What came of a part, by the engine's record of it and by what was read here."""
    return PartResult(
        path=str(entry.path),
        note=note,
        seconds=job.ended - job.begun if job else 0.0,
        raw_bytes=job.bytes if job else 0,
        commits=1,
        digests=digests,
        faults=list(job.faults[:KEPT_FAULTS]) if job else [],
        kept=None if rejects is None else count_rejects(rejects / file),
    )
