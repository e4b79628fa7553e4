"""Loads into an engine that reads files itself: parts handed over, and read here to prove them."""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.check.limit import too_many_bad
from splarn.core.errors import OutsideError, SplarnError
from splarn.core.layout import Layout
from splarn.core.load.arriving import Arrivals
from splarn.core.load.opening import Opened
from splarn.core.load.phases import PhaseTimer
from splarn.core.load.pieces import in_delivery
from splarn.core.load.request import Input, LoadRequest, rejects_files
from splarn.core.load.stream import KEPT_FAULTS, PartResult
from splarn.core.load.streams import Tally, in_order, note_of, rejects_folder
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

# So many parts that have arrived are handed over together, for each stream.
A_STREAM = 4


@dataclass(frozen=True)
class _ReadTask:
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
    which files went into the engine's inbox, `loading` those between, where parts arrived.
    """

    inputs: tuple[Input, ...]
    results: list[PartResult]
    started: float | None
    finished: float | None
    sending: float
    loading: float | None = None


def hand_over(
    session: Session,
    request: LoadRequest,
    opened: Opened,
    pool: Pool,
    watch: Progress,
    arrivals: Arrivals | None,
    timer: PhaseTimer,
) -> Handed:
    """Lets the engine load every part that is not in, while the parts are read here.

    Parts that arrive meanwhile are handed over by the batch.
    Raises ShortfallError for a part with more bad rows than allowed, OutsideError for one that the
    engine could not load; parts that are in stay.
    """
    tally = Tally(request.bad_rows)
    if arrivals is None:
        watch.start("load", len(request.inputs), "parts")
        handed = _hand_over(session, request, opened, pool, watch)
        watch.finish()
        for result in handed.results:
            tally.add(result)
        tally.end()
        return handed
    watch.start("load", None, "parts")
    batches: list[Handed] = []
    parts = dict(opened.parts)
    while batch := _batch(arrivals, pool.workers):
        for entry in batch:
            if entry.part_id not in parts:
                parts[entry.part_id] = note_of(request, opened, entry)
                session.notes.put_part(parts[entry.part_id])
        session.commit()
        timer.catch_up(session.files)
        handed = _hand_over(
            session, replace(request, inputs=batch), replace(opened, parts=parts), pool, watch
        )
        for entry, result in zip(batch, handed.results, strict=True):
            arrivals.loaded(entry, result)
            tally.add(result, arrivals.set_aside())
        batches.append(handed)
    watch.finish()
    loaded = [pair for one in batches for pair in zip(one.inputs, one.results, strict=True)]
    begun = [one.started for one in batches if one.started is not None]
    ended = [one.finished for one in batches if one.finished is not None]
    loading = sum(ended) - sum(begun)
    arrived = in_order(loaded, arrivals, tally, loading)
    return Handed(
        arrived.inputs, arrived.results, min(begun, default=None), max(ended, default=None),
        sum(one.sending for one in batches), loading,
    )  # fmt: skip


def _batch(arrivals: Arrivals, streams: int) -> tuple[Input, ...]:
    """What has arrived, a few parts for each stream at most; empty once all has come."""
    batch: list[Input] = []
    entry = arrivals.feed.await_next()
    while entry is not None:
        batch.append(entry)
        entry = arrivals.feed.take() if len(batch) < A_STREAM * streams else None
    return tuple(batch)


def _hand_over(
    session: Session, request: LoadRequest, opened: Opened, pool: Pool, watch: Progress
) -> Handed:
    rejects = rejects_folder(request, opened)
    names = opened.note.details.names
    order = PartsOrder(
        load_id=opened.note.load_id,
        table=opened.into,
        layout=request.layout,
        names=names,
        parts=tuple(
            HandedPart(one.part_id, one.path, one.codec, one.packed_hash) for one in request.inputs
        ),
        streams=pool.workers,
        batch_rows=request.batch_rows,
        bad_rows=request.bad_rows,
    )
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
                tasks = [
                    _ReadTask(
                        one.part_id, one.source, one.content, one.packed_hash, request.layout, names
                    )
                    for one in request.inputs
                ]
                for task, digest in pool.as_done(_read, tasks):
                    digests[task.part_id] = digest
                    if carried.done() and carried.exception() is not None:
                        break
            answer = carried.result()
            mine = {one.part_id for one in order.parts}
            jobs = {job.part_id: job for job in answer.jobs if job.part_id in mine}
        except BaseException:
            # What is at work there comes to its end; nothing further begins.
            with suppress(SplarnError):
                session.claims.await_batches(order.load_id)
            raise
    tell(len(order.parts))
    if rejects is not None:
        _write_rejects(rejects, request, jobs.values())
    _raise_failed(request, order, jobs)
    notes = {note.part_id: note for note in session.notes.parts([order.load_id])}
    new = [job for part_id, job in jobs.items() if part_id not in before]
    return Handed(
        request.inputs,
        [
            _result(part, notes[part.part_id], jobs.get(part.part_id), digests, kept)
            for part, kept in zip(order.parts, _kept(request, rejects), strict=True)
        ],
        min((job.begun for job in new), default=None),
        max((job.ended for job in new), default=None),
        answer.sending,
    )


def _read(task: _ReadTask) -> list[ColumnDigest] | None:
    fields = [field for field in task.layout.fields if field.name in task.names]
    total: list[ColumnDigest] | None = None
    source = task.source
    proof = Proof(source, task.layout, task.content, task.packed_hash)
    for parsed in read_parsed(source.place, source.codec, task.layout, read=proof.read):
        total = add_digests(total, digest_table(parsed.table, fields))
    proof.check()
    return total


def _write_rejects(folder: Path, request: LoadRequest, jobs: Iterable[PartJob]) -> None:
    files = rejects_files(request.inputs)
    pieces = {one.part_id: one.pieces for one in request.inputs}
    for job in jobs:
        if job.faults and job.state == "ended":
            faults = [in_delivery(fault, pieces[job.part_id]) for fault in job.faults]
            replace_rejects(folder / files[job.part_id], faults)


def _raise_failed(request: LoadRequest, order: PartsOrder, jobs: dict[str, PartJob]) -> None:
    failed = [part for part in order.parts if part.part_id in jobs and _failed(jobs[part.part_id])]
    if not failed:
        return
    job = jobs[failed[0].part_id]
    refused = len(job.faults)
    if refused and not request.bad_rows.allows(refused, refused + job.rows):
        last = replace(job.faults[-1], path=str(failed[0].path))
        pieces = {one.part_id: one.pieces for one in request.inputs}
        raise too_many_bad(request.bad_rows, in_delivery(last, pieces[job.part_id]))
    done = sum(not _failed(one) for one in jobs.values())
    raise OutsideError(
        f"The part {failed[0].path} could not be loaded: {job.error.rstrip('.')}; {done} of "
        f"{len(order.parts)} parts are in, and the same command goes on from there."
    )


def _failed(job: PartJob) -> bool:
    return job.state != "ended"


def _result(
    part: HandedPart,
    note: PartNote,
    job: PartJob | None,
    digests: dict[str, list[ColumnDigest] | None],
    kept: int | None,
) -> PartResult:
    return PartResult(
        path=str(part.path),
        note=note,
        seconds=job.ended - job.begun if job else 0.0,
        raw_bytes=job.bytes if job else 0,
        commits=1,
        digests=digests.get(part.part_id),
        faults=list(job.faults[:KEPT_FAULTS]) if job else [],
        kept=kept,
    )


def _kept(request: LoadRequest, folder: Path | None) -> list[int | None]:
    """The rejects that are kept of each input."""
    files = rejects_files(request.inputs)
    return [
        None if folder is None else count_rejects(folder / files[one.part_id])
        for one in request.inputs
    ]
