"""Loads into an engine that reads files itself, of parts that arrive while others are loaded."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace

from splarn.core.errors import SplarnError
from splarn.core.load.arriving import Arrivals
from splarn.core.load.handed import (
    Handed,
    ReadTask,
    first_and_last,
    handed_part,
    keep_rejects,
    order_of,
    read_part,
    read_task,
    refuse_failed,
    result_of,
)
from splarn.core.load.opening import Opened
from splarn.core.load.phases import PhaseTimer
from splarn.core.load.request import Input, LoadRequest, rejects_file
from splarn.core.load.sizing import Sizing
from splarn.core.load.streams import Tally, in_order, note_of, rejects_folder
from splarn.core.load.task import PartResult
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.handover import OpenOrder, PartJob
from splarn.core.target.notes import PartNote
from splarn.core.target.session import Session
from splarn.core.work.pool import Pool, Threads
from splarn.core.work.progress import Progress

# So many parts that lie here are with the engine for each stream, so that none waits for us to read
# what we prove it by. Those in a depot fill no disk.
A_STREAM = 8


def hand_over_meanwhile(
    session: Session,
    request: LoadRequest,
    opened: Opened,
    pool: Pool,
    watch: Progress,
    arrivals: Arrivals,
    timer: PhaseTimer,
    sizing: Sizing,
) -> Handed:
    """Hands parts over as they arrive, and reads each here; raises as `hand_over` does.

    Where the course changes meanwhile, what is with the engine ends first, and the rest follows it.
    """
    assert session.files is not None, "this engine reads files"
    watch.start("load", None, "bytes")
    timer.catch_up(session.files)
    # Parts are handed over as they come, also where one alone is read at a time.
    own = Threads(1) if pool.workers == 1 else None
    try:
        carried = _Handing(session, request, opened, watch, arrivals, timer, sizing)
        return carried.carry_out(own or pool)
    except BaseException:
        # What is at work there comes to its end; nothing further begins.
        with suppress(SplarnError):
            session.claims.await_batches(opened.note.load_id)
        raise
    finally:
        if own is not None:
            own.close()


class _Handing:
    """An open order: which parts are with the engine, and what is known of each."""

    def __init__(
        self,
        session: Session,
        request: LoadRequest,
        opened: Opened,
        watch: Progress,
        arrivals: Arrivals,
        timer: PhaseTimer,
        sizing: Sizing,
    ) -> None:
        self.session, self.timer, self.sizing = session, timer, sizing
        self.request, self.opened = request, opened
        self.course = arrivals.course
        self.course.turns = 0
        self.order = self._begin()
        # For how long rows came in by orders that have ended.
        self.busy = 0.0
        self.watch, self.arrivals = watch, arrivals
        self.rejects = rejects_folder(request, opened)
        self.tally = Tally(request.bad_rows)
        self.notes: dict[str, PartNote] = {}
        self.entries: dict[str, Input] = {}
        self.digests: dict[str, list[ColumnDigest] | None] = {}
        self.jobs: dict[str, PartJob] = {}
        # Parts that were in before, which are not handed over again.
        self.before: set[str] = set()
        self.loaded: dict[str, PartResult] = {}

    def carry_out(self, pool: Pool) -> Handed:
        """Until all parts have come and are in."""
        feed, verify = self.arrivals.feed, self.request.verify
        run = read_part if verify else _unread
        ahead = max(A_STREAM * pool.workers, feed.room)
        # So many are with the engine, or read here, before it is waited for.
        most = ahead + pool.workers
        for entry, digest in pool.as_fed(run, feed, self._hand, None, ahead):
            self.digests[entry.part_id] = digest
            self._settle(entry.part_id)
            self._hear(False)
            while len(self.entries) - len(self.loaded) - len(self.before) >= most:
                self._hear()
            if (self.course.streams, self.course.tier) != self._with:
                self._turn()
        while len(self.loaded) + len(self.before) < len(self.entries):
            self._hear()
        answer = self.order.end()
        ended = {job.part_id: job for job in answer.jobs if job.part_id in self.jobs}
        self._recall({job.part_id: job for job in answer.jobs})
        self.watch.finish()
        noted = {note.part_id: note for note in self.session.notes.parts([self._load_id])}
        results = [
            (self.entries[part_id], self._told(result, noted[part_id], ended.get(part_id)))
            for part_id, result in self.loaded.items()
        ]
        first, last = first_and_last(list(ended.values()))
        loading = 0.0 if first is None or last is None else _union(list(ended.values()))
        arrived = in_order(results, self.arrivals, self.tally, loading)
        waited = max(min((job.begun for job in ended.values()), default=0.0)
                     - min((job.waiting for job in ended.values()), default=0.0), 0.0)  # fmt: skip
        return Handed(arrived.inputs, arrived.results, first, last, answer.sending, loading, waited)

    def _begin(self) -> OpenOrder:
        """An order without parts, with what the course says at this moment."""
        assert self.session.files is not None, "this engine reads files"
        self._with = (self.course.streams, self.course.tier)
        order = order_of(self.request, self.opened, self.course.streams, ())
        return self.session.files.open_order(order)

    def _turn(self) -> None:
        """Ends what is with the engine, and goes on as the course says now."""
        tier = self.course.tier
        answer = self.order.end()
        unheard = self.entries.keys() - self.before - self.jobs.keys()
        self._take([one for one in answer.jobs if one.part_id in unheard])
        self.busy = _union([job for job in answer.jobs if job.part_id in self.entries])
        self.timer.catch_up(self.session.files)
        if tier is not None and tier != self._with[1]:
            self.sizing.change(self.opened.note, tier)
        self.order = self._begin()
        self.course.turns = (self.course.turns or 0) + 1

    @property
    def _load_id(self) -> str:
        return self.opened.note.load_id

    def _hand(self, entry: Input) -> ReadTask:
        """Hands a part over that has arrived; the task of reading it here."""
        note = note_of(self.request, self.opened, entry)
        self.entries[entry.part_id], self.notes[entry.part_id] = entry, note
        self.arrivals.loads.begin()
        if note.state == "done":
            self.before.add(entry.part_id)
        else:
            self.timer.catch_up(self.session.files)
            new = [] if entry.part_id in self.opened.parts else [note]
            self.order.add([handed_part(entry)], new)
        self.course.settled += entry.raw_bytes or 0
        return read_task(self.request, entry, self.opened.note.details.names)

    def _hear(self, wait: bool = True) -> None:
        """Takes in what has become of parts, and how far they are by the engine's clock."""
        news = self.order.news(wait)
        if (standing := self.order.standing) is not None:
            elapsed = standing.until - self.timer.begun
            self.arrivals.clocked(elapsed, self.busy + standing.busy)
        self._take(news)

    def _take(self, news: Sequence[PartJob]) -> None:
        for job in news:
            entry = self.entries[job.part_id]
            self.jobs[job.part_id] = job
            self.watch.advance(entry.raw_bytes or 0)
            keep_rejects(self.rejects, rejects_file(entry), entry, self.jobs)
            refuse_failed(self.request, entry, job, f"{len(self.loaded)}")
            self._settle(job.part_id)

    def _settle(self, part_id: str) -> None:
        """A part is in once the engine says so, and known once it was read here too."""
        job = self.jobs.get(part_id)
        if part_id not in self.digests or job is None:
            return
        note = replace(
            self.notes[part_id], state="done", position=job.bytes, rows=job.rows,
            refused=job.refused,
        )  # fmt: skip
        self._is_in(part_id, note, job)

    def _recall(self, jobs: Mapping[str, PartJob]) -> None:
        """Takes in parts that were in before: whoever loaded them may not have heard of it."""
        for part_id in self.before:
            entry = self.entries[part_id]
            if part_id in jobs:
                keep_rejects(self.rejects, rejects_file(entry), entry, jobs)
            self.watch.advance(entry.raw_bytes or 0)
            self._is_in(part_id, self.notes[part_id], jobs.get(part_id))

    def _is_in(self, part_id: str, note: PartNote, job: PartJob | None) -> None:
        entry = self.entries[part_id]
        result = result_of(
            entry, note, job, self.digests[part_id], self.rejects, rejects_file(entry)
        )
        self.loaded[part_id] = result
        self.arrivals.loads.end()
        self.arrivals.loaded(entry, result)
        self.tally.add(result, self.arrivals.set_aside())

    def _told(self, result: PartResult, note: PartNote, job: PartJob | None) -> PartResult:
        """With the note as the engine keeps it, and how long it says that the part took."""
        seconds = result.seconds if job is None else job.ended - job.begun
        return replace(result, note=note, seconds=seconds)


def _unread(task: ReadTask) -> list[ColumnDigest] | None:
    """In place of reading a part that nothing is held against."""
    return None


def _union(jobs: list[PartJob]) -> float:
    """For how long at least one was at work."""
    total, until = 0.0, float("-inf")
    for job in sorted(jobs, key=lambda one: one.begun):
        total += max(job.ended - max(job.begun, until), 0.0)
        until = max(until, job.ended)
    return total
