"""Parts handed to a described engine, each by one statement on one of several connections."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace

from splarn.core.errors import OutsideError, SplarnError
from splarn.core.target.handover import (
    HandedPart,
    PartJob,
    PartsLoaded,
    PartsOrder,
    Standing,
    Watch,
)
from splarn.core.target.notes import PartNote
from splarn.engines.described.bringing import Bringing, tag_of
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.notes import DescribedNotes
from splarn.engines.described.tables import DescribedTables, table_values
from splarn.engines.sql.link import Concern
from splarn.engines.sql.notes import SqlNotes

# The position of a part whose statement was begun where nothing commits with it.
BEGUN = 1


class DescribedFiles(Concern):
    """See WholeFiles. Files are read where they lie."""

    link: DescribedLink

    def __init__(self, link: DescribedLink, notes: SqlNotes) -> None:
        super().__init__(link)
        self.notes = notes

    def load_parts(self, order: PartsOrder, watch: Watch) -> PartsLoaded:
        """See WholeFiles."""
        begun = self.open_order(order)
        jobs: list[PartJob] = []
        try:
            wanted = [part for part in order.parts if not begun.is_in(part.part_id)]
            begun.add(wanted, [])
            while len(jobs) < len(wanted):
                jobs += begun.news()
                watch(len(order.parts) - len(wanted) + len(jobs))
        finally:
            begun.close()
        return PartsLoaded(tuple(jobs), None)

    def open_order(self, order: PartsOrder) -> DescribedOrder:
        """See WholeFiles."""
        notes = {note.part_id: note for note in self.notes.parts([order.load_id])}
        self.link.commit()
        return DescribedOrder(self, order, notes)

    def send(self, part: HandedPart) -> None:
        """See WholeFiles. It has no inbox: files are read where they lie."""

    def let_pass(self, seconds: float) -> None:
        """See WholeFiles. Its clock is ours."""


class DescribedOrder:
    """An order that is open; see OpenOrder."""

    standing: Standing | None = None

    def __init__(
        self, files: DescribedFiles, order: PartsOrder, notes: dict[str, PartNote]
    ) -> None:
        self._description = files.link.description
        self.order = order
        self._bringing = Bringing(self._description, order.table, order.layout, order.names)
        able = self._description.abilities
        self.streams = order.streams if able.streams else 1
        self._links: queue.SimpleQueue[DescribedLink] = queue.SimpleQueue()
        self._opened: list[DescribedLink] = []
        self._lock = threading.Lock()
        self._pool = ThreadPoolExecutor(self.streams)
        self._futures: list[Future[PartJob]] = []
        self._heard = 0
        self._notes = notes
        self._done = threading.Condition()
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
                for note in notes:
                    own.put_part(note)
                    self._notes[note.part_id] = note
                link.commit()
        for part in parts:
            self._futures.append(self._pool.submit(self.load, part, self._notes[part.part_id]))
            self._futures[-1].add_done_callback(self._tell)

    def _tell(self, _: object) -> None:
        with self._done:
            self._done.notify_all()

    def news(self, wait: bool = True) -> list[PartJob]:
        """See OpenOrder."""
        with self._done:
            if wait and not any(one.done() for one in self._futures[self._heard :]):
                self._done.wait(1.0)
        found = []
        while self._heard < len(self._futures) and self._futures[self._heard].done():
            found.append(self._futures[self._heard].result())
            self._heard += 1
        return found

    def end(self) -> PartsLoaded:
        """See OpenOrder."""
        jobs = tuple(one.result() for one in self._futures)
        self.close()
        return PartsLoaded(jobs, None)

    def close(self) -> None:
        """Lets go of all connections, once what is at work on them has ended."""
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
        begun = time.perf_counter()
        try:
            rows = note.rows
            if note.state != "done":
                with self._link() as link:
                    rows = self._bring_in(link, part, note)
        except SplarnError as error:
            ended = time.perf_counter()
            return PartJob(part.part_id, "failed", begun, begun, ended, 0, 0, 0, str(error), ())
        ended = time.perf_counter()
        return PartJob(part.part_id, "ended", begun, begun, ended, part.raw_bytes, rows, 0, "", ())

    def _bring_in(self, link: DescribedLink, part: HandedPart, note: PartNote) -> int:
        own = DescribedNotes(link, DescribedTables(link))
        if not self._description.abilities.transactions:
            rows = self._came_in(link, part) if _in_doubt(note) else 0
            if rows:
                own.advance(note, replace(note, state="done", rows=rows, marks=None))
                link.commit()
                return rows
            if not _in_doubt(note):
                # That it was begun is known before anything comes, so that a break is seen.
                begun = replace(note, position=BEGUN)
                own.advance(note, begun)
                link.commit()
                note = begun
        rows = self._bringing.bring(link, part, self.order.load_id)
        own.advance(note, replace(note, state="done", position=BEGUN, rows=rows, marks=None))
        link.commit()
        return rows

    def _came_in(self, link: DescribedLink, part: HandedPart) -> int:
        """The rows that the engine's history knows of a part; none where it keeps no history."""
        statement = self._description.statements.came_in
        if not statement:
            return 0
        with link.failing("Asking the history of", part.path.name):
            answer = link.say(
                statement, address=self._bringing.address(part), load_id=self.order.load_id,
                part_id=part.part_id, tag=tag_of(self.order.load_id, part.part_id),
                **table_values(self.order.table),
            )  # fmt: skip
        return int(answer.value or 0)

    def _settle(self, notes: dict[str, PartNote]) -> None:
        """Finds out by counting what came in of parts whose statement was never heard of.

        Where the engine keeps a history, or takes no file twice, each part is asked of it when its
        turn comes. Raises OutsideError where counting does not tell.
        """
        able, statements = self._description.abilities, self._description.statements
        doubtful = [one for one in notes.values() if _in_doubt(one)]
        if not doubtful or statements.came_in or able.once_by_file:
            return
        with self._link() as link:
            done = sum(one.rows for one in notes.values() if one.state == "done")
            extra = self._bringing.count(link) - done
            if extra and not (len(doubtful) == 1 and extra > 0 and able.whole_parts):
                raise OutsideError(
                    f"Whether {doubtful[0].name} came into {self.order.table} of {link.place} "
                    "before the reply was lost cannot be known: nothing there tells. Look at the "
                    f"table, take the load back with `splarn undo {self.order.load_id}` where "
                    "nothing else is in it, and load again."
                )
            own = DescribedNotes(link, DescribedTables(link))
            for note in doubtful:
                now = replace(note, position=0)
                if extra:
                    now = replace(note, state="done", rows=extra, marks=None)
                own.advance(note, now)
                notes[note.part_id] = now
            link.commit()


def _in_doubt(note: PartNote) -> bool:
    """Whether the statement of a part was begun, and nothing was heard of it."""
    return note.state == "open" and note.position == BEGUN
