"""Parts handed to a described engine, each by one statement on one of several connections."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import replace

from splarn.core.errors import OutsideError, ShortfallError, SplarnError
from splarn.core.reading.faults import Fault
from splarn.core.target.handover import (
    HandedPart,
    PartJob,
    PartsLoaded,
    PartsOrder,
    Standing,
    Watch,
)
from splarn.core.target.notes import PartNote
from splarn.engines.described.bringing import Bringing, await_statement
from splarn.engines.described.compute import DescribedClock, DescribedCompute
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.notes import DescribedNotes
from splarn.engines.described.rows import marks_of
from splarn.engines.described.tables import DescribedTables
from splarn.engines.sql.link import Concern
from splarn.engines.sql.notes import SqlNotes

# The position of a part whose statement was begun where nothing commits with it.
BEGUN = 1


class DescribedFiles(Concern):
    """See WholeFiles. Files are read where they lie."""

    link: DescribedLink

    def __init__(self, link: DescribedLink, notes: SqlNotes, clock: DescribedClock) -> None:
        super().__init__(link)
        self.notes, self.clock = notes, clock
        self._orders: list[DescribedOrder] = []
        self._opening = threading.Lock()

    def load_parts(self, order: PartsOrder, watch: Watch) -> PartsLoaded:
        """See WholeFiles."""
        begun = self.open_order(order)
        jobs: list[PartJob] = []
        try:
            earlier = [begun.recalled(part) for part in order.parts if begun.is_in(part.part_id)]
            wanted = [part for part in order.parts if not begun.is_in(part.part_id)]
            begun.add(wanted, [])
            while len(jobs) < len(wanted) and not any(job.state == "failed" for job in jobs):
                jobs += begun.news()
                watch(len(order.parts) - len(wanted) + len(jobs))
        finally:
            begun.close()
        return PartsLoaded((*filter(None, earlier), *jobs), None)

    def open_order(self, order: PartsOrder) -> DescribedOrder:
        """See WholeFiles."""
        with self._opening:
            notes = {note.part_id: note for note in self.notes.parts([order.load_id])}
            self.link.commit()
            DescribedCompute(self.link).start()
            self._orders.append(DescribedOrder(self, order, notes))
            return self._orders[-1]

    def break_off(self) -> None:
        """Ends all orders: what is at work comes to its end, and nothing further begins."""
        with self._opening:
            for order in self._orders:
                order.close()
            self._orders.clear()

    def send(self, part: HandedPart) -> None:
        """See WholeFiles. It has no inbox: files are read where they lie."""

    def let_pass(self, seconds: float) -> None:
        """See WholeFiles. Its clock goes as ours does."""


class DescribedOrder:
    """An order that is open; see OpenOrder."""

    standing: Standing | None = None

    def __init__(
        self, files: DescribedFiles, order: PartsOrder, notes: dict[str, PartNote]
    ) -> None:
        self._description = files.link.description
        self._ahead = files.clock.ahead
        self.order = order
        self._bringing = Bringing(self._description, order.table, order.layout, order.names)
        # Whether rows that it cannot take may be left out.
        self._leaving = order.bad_rows.count != 0
        able = self._description.abilities
        self.streams = order.streams if able.streams else 1
        self._links: queue.SimpleQueue[DescribedLink] = queue.SimpleQueue()
        self._opened: list[DescribedLink] = []
        self._lock = threading.Lock()
        self._pool = ThreadPoolExecutor(self.streams)
        self._futures: list[Future[PartJob]] = []
        self._through: queue.SimpleQueue[Future[PartJob]] = queue.SimpleQueue()
        self._notes, self._closed = notes, False
        if not able.transactions:
            self._settle(notes)

    def is_in(self, part_id: str) -> bool:
        """Whether a part is noted as in, by what was found out when the order was opened."""
        return self._notes[part_id].state == "done"

    def add(self, parts: Sequence[HandedPart], notes: Sequence[PartNote]) -> None:
        """See OpenOrder."""
        if notes:
            with self._link() as link:
                own = DescribedNotes(link, DescribedTables(link))
                own.put_parts(notes)
                self._notes.update({note.part_id: note for note in notes})
                link.commit()
        for part in parts:
            self._futures.append(self._pool.submit(self.load, part, self._notes[part.part_id]))
            self._futures[-1].add_done_callback(self._through.put)

    def news(self, wait: bool = True) -> list[PartJob]:
        """See OpenOrder."""
        through: list[Future[PartJob]] = []
        with suppress(queue.Empty):
            if wait:
                through.append(self._through.get(timeout=1.0))
            while True:
                through.append(self._through.get_nowait())
        found = [one.result() for one in through if not one.cancelled()]
        if not found and self._closed:
            raise OutsideError(f"The load into {self.order.table} was broken off.")
        return found

    def end(self) -> PartsLoaded:
        """See OpenOrder."""
        jobs = tuple(one.result() for one in self._futures)
        self.close()
        return PartsLoaded(jobs, None)

    def close(self) -> None:
        """Lets nothing further begin, and lets go of all connections once parts at work are in."""
        self._closed = True
        self._pool.shutdown(cancel_futures=True)
        for link in self._opened:
            link.close()

    @contextmanager
    def _link(self) -> Iterator[DescribedLink]:
        """A connection that nobody else has meanwhile; one that failed is not used again."""
        try:
            link = self._links.get_nowait()
        except queue.Empty:
            link = DescribedLink(self._description)
            with self._lock:
                self._opened.append(link)
        try:
            yield link
        except BaseException:
            link.rollback()
            link.close()
            with self._lock:
                self._opened.remove(link)
            raise
        self._links.put(link)

    def load(self, part: HandedPart, note: PartNote) -> PartJob:
        """Brings one part in and notes it; what failed is told by the job."""
        begun = self._now()
        refused: tuple[Fault, ...] = ()
        try:
            times, rows = (begun, begun, begun), note.rows
            if note.state != "done":
                with self._link() as link:
                    rows, refused = self._bring_in(link, part, note)
                    told = self._bringing.times(link, part, self.order.load_id)
                    times = told or (begun, begun, self._now())
                    link.commit()
        except _TooManyBad as error:
            refused, ended = error.refused, self._now()
            return _job(part, "failed", (begun, begun, ended), 0, refused, "too many bad rows")
        except SplarnError as error:
            return _job(part, "failed", (begun, begun, self._now()), 0, (), str(error))
        return _job(part, "ended", times, rows, refused)

    def recalled(self, part: HandedPart) -> PartJob | None:
        """What is told again of a part that was in before: the rows that were left out of it."""
        note = self._notes[part.part_id]
        if not note.refused:
            return None
        with self._link() as link:
            refused = self._bringing.refused(link, part, self.order.load_id)
            link.commit()
        now = self._now()
        return _job(part, "ended", (now, now, now), note.rows, refused)

    def _now(self) -> float:
        return time.perf_counter() + self._ahead

    def _bring_in(
        self, link: DescribedLink, part: HandedPart, note: PartNote
    ) -> tuple[int, tuple[Fault, ...]]:
        """The rows that came in, and those that were left out."""
        own = DescribedNotes(link, DescribedTables(link))
        load_id, able = self.order.load_id, self._description.abilities
        # What tells the rows of a load is the same number for all of its parts.
        marks = marks_of(self._description, load_id)
        done = replace(note, state="done", position=BEGUN, marks=marks)
        if not able.transactions:
            doubtful = in_doubt(note)
            if doubtful:
                await_statement(link, note, self.order.table)
            rows = self._came_in(link, part) if doubtful else 0
            if rows:
                refused = self._left_out(link, part)
                own.advance(note, replace(done, rows=rows, refused=len(refused)))
                link.commit()
                return rows, refused
            if not doubtful:
                # That it was begun is known before anything comes, so that a break is seen.
                begun = replace(note, position=BEGUN, marks=marks)
                own.advance(note, begun)
                link.commit()
                note = begun
        rows = self._bringing.bring(link, part, load_id, self._leaving)
        refused = self._left_out(link, part)
        if not rows and able.once_by_file and in_doubt(note):
            # It was in already, and the engine tells of none. All of it is looked at in the end.
            rows = part.rows - len(refused)
        if able.transactions and not self.order.bad_rows.allows(len(refused), rows + len(refused)):
            raise _TooManyBad(refused)
        own.advance(note, replace(done, rows=rows, refused=len(refused)))
        link.commit()
        return rows, refused

    def _left_out(self, link: DescribedLink, part: HandedPart) -> tuple[Fault, ...]:
        """The rows of a part that were left out, where that was allowed."""
        if not self._leaving:
            return ()
        return self._bringing.refused(link, part, self.order.load_id)

    def _came_in(self, link: DescribedLink, part: HandedPart) -> int:
        """The rows that the engine's history knows of a part; none where it keeps no history."""
        statement = self._description.statements.came_in
        if not statement:
            return 0
        answer = self._bringing.asked(link, statement, part, self.order.load_id)
        return link.number("statements.came_in", answer)

    def _settle(self, notes: dict[str, PartNote]) -> None:
        """Finds out by counting what came in of parts whose statement was never heard of.

        Where the engine keeps a history, or takes no file twice, each part is asked of it when its
        turn comes. Raises OutsideError where counting does not tell.
        """
        able, statements = self._description.abilities, self._description.statements
        doubtful = [one for one in notes.values() if in_doubt(one)]
        if not doubtful or statements.came_in or able.once_by_file:
            return
        with self._link() as link:
            for note in doubtful:
                await_statement(link, note, self.order.table)
            done = sum(one.rows for one in notes.values() if one.state == "done")
            before = 0 if statements.brought else self.order.rows_before
            extra = self._bringing.count(link, self.order.load_id) - done - before
            # How many rows it has is known where the part comes out of a manifest.
            sizes = {part.part_id: part.rows for part in self.order.parts}
            whole = sizes.get(doubtful[0].part_id) or extra
            if extra and not (
                len(doubtful) == 1
                and able.whole_parts
                and (extra == whole > 0 or (self._leaving and 0 < extra < whole))
            ):
                raise OutsideError(
                    f"Whether {doubtful[0].name} came into {self.order.table} of {link.place} "
                    "before the reply was lost cannot be known: nothing there tells. Look at the "
                    f"table, take the load back with `splarn undo {self.order.load_id}` where "
                    "nothing else is in it, and load again."
                )
            own = DescribedNotes(link, DescribedTables(link))
            marks = marks_of(self._description, self.order.load_id)
            for note in doubtful:
                now = replace(note, position=0)
                if extra:
                    now = replace(note, state="done", rows=extra, marks=marks)
                own.advance(note, now)
                notes[note.part_id] = now
            link.commit()


def in_doubt(note: PartNote) -> bool:
    """Whether the statement of a part was begun, and nothing was heard of it."""
    return note.state == "open" and note.position == BEGUN


class _TooManyBad(ShortfallError):
    """More rows of a part were left out than may be."""

    def __init__(self, refused: tuple[Fault, ...]) -> None:
        super().__init__("too many bad rows")
        self.refused = refused


def _job(
    part: HandedPart,
    state: str,
    times: tuple[float, float, float],
    rows: int,
    refused: tuple[Fault, ...],
    error: str = "",
) -> PartJob:
    size = part.raw_bytes if state == "ended" else 0
    return PartJob(part.part_id, state, *times, size, rows, len(refused), error, refused)
