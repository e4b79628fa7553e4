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
from splarn.engines.described.bringing import Bringing
from splarn.engines.described.link import DescribedLink
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
        notes = {note.part_id: note for note in self.notes.parts([order.load_id])}
        self.link.commit()
        wanted = [part for part in order.parts if notes[part.part_id].state != "done"]
        begun = DescribedOrder(self, order, notes)
        jobs: list[PartJob] = []
        try:
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

    def add(self, parts: Sequence[HandedPart], notes: Sequence[PartNote]) -> None:
        """See OpenOrder."""
        if notes:
            with self._link() as link:
                own = SqlNotes(link, DescribedTables(link))
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
            with self._link() as link:
                rows = self._bring_in(link, part, note)
        except SplarnError as error:
            ended = time.perf_counter()
            return PartJob(part.part_id, "failed", begun, begun, ended, 0, 0, 0, str(error), ())
        ended = time.perf_counter()
        return PartJob(part.part_id, "ended", begun, begun, ended, part.raw_bytes, rows, 0, "", ())

    def _bring_in(self, link: DescribedLink, part: HandedPart, note: PartNote) -> int:
        own = SqlNotes(link, DescribedTables(link))
        if not self._description.abilities.transactions:
            # That it was begun is known before anything comes, so that a break is seen.
            begun = replace(note, position=BEGUN)
            own.advance(note, begun)
            link.commit()
            note = begun
        rows = self._bringing.bring(link, part, self.order.load_id)
        own.advance(note, replace(note, state="done", position=BEGUN, rows=rows, marks=None))
        link.commit()
        return rows

    def _settle(self, notes: dict[str, PartNote]) -> None:
        """Finds out what came in of parts whose statement was begun and never heard of.

        Raises OutsideError where that cannot be known.
        """
        doubtful = [one for one in notes.values() if one.state == "open" and one.position == BEGUN]
        if not doubtful:
            return
        with self._link() as link:
            own = SqlNotes(link, DescribedTables(link))
            found = self._came_in(link, doubtful, notes)
            for note in doubtful:
                rows = found[note.part_id]
                now = replace(note, position=0)
                if rows:
                    now = replace(note, state="done", rows=rows, marks=None)
                own.advance(note, now)
                notes[note.part_id] = now
            link.commit()

    def _came_in(
        self, link: DescribedLink, doubtful: Sequence[PartNote], notes: dict[str, PartNote]
    ) -> dict[str, int]:
        """The rows that came in of each part: by the engine's history, or by counting."""
        able, statements = self._description.abilities, self._description.statements
        if statements.came_in:
            return {one.part_id: self._asked(link, one) for one in doubtful}
        if able.once_by_file:
            # Those that are in come in no second time.
            return {one.part_id: 0 for one in doubtful}
        done = sum(one.rows for one in notes.values() if one.state == "done")
        extra = self._bringing.count(link) - done
        if extra == 0:
            return {one.part_id: 0 for one in doubtful}
        if len(doubtful) == 1 and extra > 0 and able.whole_parts:
            return {doubtful[0].part_id: extra}
        raise OutsideError(
            f"Whether {doubtful[0].name} came into {self.order.table} of {link.place} before the "
            "reply was lost cannot be known: nothing there tells. Look at the table, take the load "
            f"back with `splarn undo {self.order.load_id}` where nothing else is in it, and load "
            "again."
        )

    def _asked(self, link: DescribedLink, note: PartNote) -> int:
        """The rows that the engine's history knows of a part."""
        with link.failing("Asking the history of", note.name):
            answer = link.say(
                self._description.statements.came_in,
                address=note.name, load_id=self.order.load_id, part_id=note.part_id,
                **table_values(self.order.table),
            )  # fmt: skip
        return int(answer.value or 0)
