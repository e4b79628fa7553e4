"""The stages before a load, at work while it is: parts made, and shipped as soon as they are whole.

Between two stages waits only so much, so that a slow one holds up those before it and no disk
fills; a part goes as soon as it is in.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from splarn.core.check.limit import BadRows, too_many_bad
from splarn.core.errors import OutsideError, RequestError
from splarn.core.flow.journal import Journal
from splarn.core.flow.watching import PartDone, Watching
from splarn.core.layout import Layout
from splarn.core.load.arriving import Course
from splarn.core.load.inbox import ByWayOf, Inbox
from splarn.core.load.landing import Landing, Sender, SendTask, run_send_task
from splarn.core.load.pieces import pieces_of
from splarn.core.load.request import Input
from splarn.core.load.task import PartResult
from splarn.core.reading.faults import Fault, replace_rejects
from splarn.core.shape.fitting import Fitting
from splarn.core.shape.manifest import Part
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import Handing, Shaped, shape
from splarn.core.shape.task import Cut
from splarn.core.ship.record import Sent
from splarn.core.source.content import Identity
from splarn.core.source.places import Place, place
from splarn.core.source.source import Source, look
from splarn.core.target.notes import PartNote
from splarn.core.target.session import OpenEngine
from splarn.core.work.activity import Activity
from splarn.core.work.feed import Feed, StoppedError
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress

# So many parts wait before a stage for each that it works on at once, and so many more.
A_WORKER, MORE = 1, 2


@dataclass(frozen=True)
class Making:
    """How parts are made of a delivery, or of its files of one kind, in `folder`, by a pool.

    Where its rows go into another layout, `fitting` is how, and `name` what its parts are called.
    """

    paths: tuple[Place, ...]
    layout: Layout
    output: PartsFormat
    folder: Path
    pool: Pool
    bad_rows: BadRows
    keep_parts: bool = False
    fitting: Fitting | None = None
    name: str | None = None

    @property
    def made(self) -> Layout:
        """What the parts are read by."""
        return self.output.layout(self.layout) if self.fitting is None else self.fitting.into

    @property
    def size(self) -> float:
        """The bytes that parts are made of, by which it is told how far they are."""
        return float(sum(path.stat().st_size for path in self.paths))

    def make(self, handing: Handing, watch: Progress) -> Shaped:
        """Makes the parts and hands each on. Raises what `shape` does."""
        return shape(
            self.paths, self.layout, self.folder, self.output, self.pool,
            keep=0 if self.bad_rows.count == 0 else None, progress=watch, handing=handing,
            fitting=self.fitting, name=self.name,
        )  # fmt: skip


def landing_of(reads_parts: bool, open_engine: OpenEngine, depot: Landing | None) -> Landing | None:
    """Where parts are sent: a depot, the inbox of an engine that reads parts itself, or nowhere."""
    if not reads_parts:
        return depot
    return Inbox(open_engine) if depot is None else ByWayOf(depot, open_engine)


@dataclass
class _Counts:
    """Rows read and set aside while parts were made, and the last that was."""

    rows: int = 0
    faults: int = 0
    last: Fault | None = None
    lock: threading.Lock = field(default_factory=threading.Lock)


class Bringing:
    """Makes parts and ships them where there is a `landing`, by so many `senders`; see Arrivals.

    `makes` and `ships` tell how long each of the two was at work; `watching` is told of all.
    """

    def __init__(
        self,
        makings: Sequence[Making],
        landing: Landing | None,
        senders: int,
        course: Course,
        watching: Watching,
        enough: Callable[[], bool] | None = None,
        room: int | None = None,
        rejects: Path | None = None,
        shipping: Callable[[int], Pool] | None = None,
    ) -> None:
        """`enough` says whether enough has arrived, `room` how many parts may wait to be loaded.
        `shipping` gives each sender, by its number, a pool that sends where it is not from here.

        Rows that were no good as parts are in `rejects` before the load can be done, so that they
        are there whatever happens then.
        """
        self.makings, self.landing, self.course = tuple(makings), landing, course
        # What all of them have in common.
        self.making = self.makings[0]
        self._shipping = shipping
        self._senders = max(senders, 1) if landing is not None else 0
        self._watching, self._enough, self.rejects = watching, enough, rejects
        self.makes, self.ships, self.loads = Activity(), Activity(), Activity()
        self.feed: Feed[Input] = Feed(room or A_WORKER * course.most + MORE)
        self.made: Feed[Part] = Feed(A_WORKER * self._senders + MORE)
        self.shaped: list[Shaped] = []
        self.sent: list[Sent] = []
        self._counts = _Counts()
        self._in: list[tuple[Input, PartResult]] = []
        # Where each part lies while it is here, by its name.
        self._places: dict[str, Path] = {}
        self._threads: list[threading.Thread] = []
        self._sending = self._senders
        self._lock = threading.Lock()
        self._journal: Journal | None = None
        self._noted: dict[str, str] = {}
        # For how long rows came in by the target's own clock, where it has one.
        self._busy: float | None = None
        self._shipped: frozenset[str] | None = None
        watching.active |= {
            "shape": lambda: self.makes.seconds,
            "ship": lambda: self.ships.seconds,
            "load": lambda: self.loads.seconds if self._busy is None else self._busy,
        }
        watching.waiting["load"] = lambda: self.feed.waiting
        if self._senders:
            watching.waiting["ship"] = lambda: self.made.waiting
        self._going: Feed[Input] = Feed(1 << 30)

    def begin(self, load_id: str, parts: Mapping[str, PartNote]) -> None:
        """See Arrivals."""
        self._journal = Journal(self.making.folder, load_id, parts)
        # What earlier tries noted by the names of parts, which are the same for the same files.
        self._noted = {note.name: note.part_id for note in parts.values()}
        senders = [partial(self._send, number) for number in range(self._senders)]
        work: list[Callable[[], None]] = [self._make, *senders, self._remove]
        self._threads = [threading.Thread(target=one, daemon=True) for one in work]
        for thread in self._threads:
            thread.start()

    def clocked(self, elapsed: float, busy: float) -> None:
        """See Arrivals."""
        self._watching.by_target, self._busy = elapsed, busy

    def await_enough(self) -> None:
        """See Arrivals."""
        change = threading.Event()
        self.feed.listen(change.set)
        while self._enough is not None and not self.feed.closed:
            change.clear()
            full = self.feed.waiting >= self.feed.room
            if full or self._enough():
                return
            change.wait()

    def loaded(self, entry: Input, result: PartResult) -> None:
        """See Arrivals."""
        assert self._journal is not None, "a load has begun"
        self._journal.add(result)
        self._watching.through(
            PartDone(
                "load", entry.path.name, entry.source.size,
                result.note.rows + result.note.refused, result.seconds,
            )
        )  # fmt: skip
        if not self.making.keep_parts:
            self._going.put(entry)

    @property
    def faults(self) -> list[Fault]:
        """Rows that were no good as parts, of all that has been made."""
        return [fault for shaped in self.shaped for fault in shaped.faults]

    def set_aside(self) -> int:
        """See Arrivals."""
        return self._counts.faults

    def already_in(self) -> list[tuple[Input, PartResult]]:
        """See Arrivals."""
        return self._in

    def contents(self) -> Mapping[str, Identity]:
        """See Arrivals."""
        assert len(self.shaped) == len(self.makings), "all has been made"
        return {
            str(place(path)): one
            for shaped in self.shaped
            for path, one in shaped.manifest.contents.items()
        }

    def phases(self, of_load: Mapping[str, float]) -> dict[str, float]:
        """Seconds that each stage was at work, beside those of a load."""
        phases = {"shape": self.makes.seconds, **of_load}
        if self.landing is not None:
            phases["ship"] = phases.get("ship", 0.0) + self.ships.seconds
        return phases

    def stop(self) -> None:
        """Ends all stages and waits for them; what they have made stays."""
        self._going.close()
        for one in (self.made, self.feed):
            one.stop()
        for thread in self._threads:
            thread.join()
        if self._journal is not None:
            self._journal.close()

    def _make(self) -> None:
        out: Feed[Part] | Feed[Input] = self.made if self.landing is not None else self.feed
        total = sum(one.size for one in self.makings)
        watch = _Stoppable(self._watching.stage("shape"), total, self.made, self.feed)
        try:
            for making in self.makings:
                stands = partial(self._stands, making.folder)
                hand = partial(self._hand_on, making.folder)
                handing = Handing(hand, stands, self._judge, self.makes)
                self.shaped.append(making.make(handing, watch))
            self._watching.stage("shape").finish()
            if self.rejects is not None and self.faults:
                replace_rejects(self.rejects, self.faults)
        except StoppedError:
            return
        except BaseException as error:
            out.close(error)
            return
        out.close()

    def _judge(self, cut: Cut) -> None:
        counts = self._counts
        faults = [fault for one in cut.counts for fault in one.faults]
        with counts.lock:
            counts.rows += sum(one.rows for one in cut.counts)
            counts.faults += len(faults)
            counts.last = faults[-1] if faults else counts.last
            if counts.last and not self.making.bad_rows.allows(counts.faults, counts.rows):
                raise too_many_bad(self.making.bad_rows, counts.last)

    def _stands(self, folder: Path, part: Part) -> bool:
        """Whether a part of an earlier try need not be made again."""
        assert self._journal is not None, "a load has begun"
        path = folder / part.path
        if (part.content or part.hash) in self._journal.found:
            return True
        if path.is_file() and path.stat().st_size == part.bytes:
            return True
        if self.landing is None:
            return False
        if self._shipped is None:
            self._shipped = frozenset(self.landing.names())
        return path.name in self._shipped

    def _hand_on(self, folder: Path, part: Part) -> None:
        assert self._journal is not None, "a load has begun"
        path = folder / part.path
        self._places[path.name] = path
        part_id = part.content or part.hash
        if self._noted.get(path.name, part_id) != part_id:
            raise RequestError(
                f"The delivery is not what it was: {path.name} of the unfinished load "
                f"{self._journal.load_id} held other records, and some of them are in. Bring back "
                "what it began with and run again, or take it back with `splarn undo "
                f"{self._journal.load_id}`."
            )
        found = self._journal.found.get(part_id)
        if found is not None:
            entry = self._input(part, Source(path, part.bytes, (0, 0, 0), part.codec, ""))
            with self._lock:
                self._in.append((entry, found))
            for stage in ("ship", "load") if self._senders else ("load",):
                self._watching.stage(stage).advance(part.raw_bytes)
            if not self.making.keep_parts:
                self._going.put(entry)
            return
        self._through("shape", part, part.seconds)
        with self.makes.resting():
            if self.landing is not None:
                self.made.put(part)
            else:
                self.feed.put(self._input(part, _source(path, part, self.making)))

    def _through(self, stage: str, part: Part, seconds: float) -> None:
        name = Path(part.path).name
        self._watching.through(PartDone(stage, name, part.bytes, part.rows, seconds))

    def _input(self, part: Part, source: Source) -> Input:
        whole = part.content or part.hash
        pieces = pieces_of(part, self.making.made)
        return Input(
            source, whole, Identity("", whole), part.raw_bytes, part.rows, part.hash, (), pieces
        )

    def _send(self, number: int) -> None:
        assert self.landing is not None, "only what has somewhere to go is sent"
        pool = None if self._shipping is None else self._shipping(number)
        try:
            with self.landing.sender() as sender:
                while (part := self.made.await_next()) is not None:
                    begun = time.perf_counter()
                    with self.ships.working():
                        source = self._sent_source(sender, part, pool)
                    self._through("ship", part, time.perf_counter() - begun)
                    self._watching.stage("ship").advance(part.raw_bytes)
                    self.feed.put(self._input(part, source))
        except StoppedError:
            return
        except BaseException as error:
            self.feed.close(error)
            self.made.stop()
            return
        with self._lock:
            self._sending -= 1
            last = not self._sending
        if last:
            self.feed.close()

    def _sent_source(self, sender: Sender, part: Part, pool: Pool | None) -> Source:
        """Sends a part where it has not arrived yet; it is gone from here then."""
        path, making = self._places[Path(part.path).name], self.making
        assert self.landing is not None, "only what has somewhere to go is sent"
        part_id = part.content or part.hash
        if path.exists():
            if pool is not None and pool.apart:
                (sent,) = pool.map(run_send_task, [SendTask(self.landing, path, part_id)])
            else:
                sent = sender.send(path, part_id)
            with self._lock:
                self.sent.append(sent)
            if not making.keep_parts and not self.landing.read_here:
                path.unlink()
        return sender.source(path, part_id, part.codec, making.output.format)

    def _remove(self) -> None:
        """Removes parts that are in, here and where they were shipped to."""
        with ExitStack() as open_ones:
            sender: Sender | None = None
            landing = self.landing
            while (entry := self._going.await_next()) is not None:
                self._places.pop(entry.path.name).unlink(missing_ok=True)
                if landing is None:
                    continue
                try:
                    sender = sender or open_ones.enter_context(landing.sender())
                    sender.remove(entry.path.name)
                except OutsideError:
                    # What the depot does not let go now is removed with its folder in the end.
                    landing = None


class _Stoppable:
    """A watcher through whom work learns that it is no longer wanted."""

    def __init__(self, watch: Progress, total: float, *feeds: Feed) -> None:  # type: ignore[type-arg]
        """`total` is that of all kinds of files, one after the other."""
        self._watch, self._total, self._feeds = watch, total, feeds
        self.lanes, self.tell, self.status = watch.lanes, watch.tell, watch.status

    def start(self, label: str, total: float | None, unit: str) -> None:
        """See Progress."""
        self._watch.start(label, self._total, unit)

    def finish(self) -> None:
        """See Progress. Another kind may follow."""

    def advance(self, amount: float) -> None:
        """See Progress."""
        if any(one.stopped for one in self._feeds):
            raise StoppedError
        self._watch.advance(amount)


def _source(path: Path, part: Part, making: Making) -> Source:
    size, stamp = look(path)
    return Source(path, size, stamp, part.codec, making.output.format)
