"""What Millrace does with parts: fetches, reads and stores them, and asks its clock how long."""

from __future__ import annotations

import json
import sqlite3
import threading
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import closing
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from splarn.core.check.limit import BadRows
from splarn.core.errors import SplarnError
from splarn.core.layout import Field, Layout
from splarn.core.layout.descriptor import from_descriptor
from splarn.core.reading import read_parsed
from splarn.core.reading.faults import Fault
from splarn.core.ship.fetch import fetch
from splarn.core.source.files import content_hash
from splarn.core.target.marks import marks_text
from splarn.depots import depot_of
from splarn.standin.millrace.clock import SimulatedCompute, Times, Work
from splarn.standin.millrace.physics import EnginePhysics
from splarn.standin.millrace.store import NoSuch, Store

INBOX = "inbox:"
# Faults that a job's record keeps; whoever wants more mends these first.
MOST_FAULTS = 100_000


class Wrong(Exception):
    """A part that cannot be loaded; the message says why."""


@dataclass(frozen=True)
class Order:
    """Parts to be loaded into a table. `limit` is the most bad rows, None for any number."""

    load_id: str
    table: str
    layout: Layout
    names: tuple[str, ...]
    parts: tuple[dict[str, str], ...]
    streams: int
    batch_rows: int
    limit: BadRows

    @classmethod
    def read(cls, document: dict[str, Any]) -> Order:
        """An order as it comes in. Raises KeyError, TypeError, ValueError or RequestError."""
        return cls(
            str(document["load_id"]),
            str(document["table"]),
            from_descriptor(document["layout"], "the order"),
            tuple(document["names"]),
            parts_of(document),
            max(int(document["streams"]), 1),
            int(document["batch_rows"]),
            BadRows.read(document["limit"]),
        )


def parts_of(document: dict[str, Any]) -> tuple[dict[str, str], ...]:
    """The parts that a request names. Raises KeyError or TypeError."""
    keys = ("part_id", "name", "codec", "place", "hash")
    return tuple({key: str(part[key]) for key in keys} for part in document["parts"])


@dataclass
class _Outcome:
    """What really happened to a part, before the clock has judged how long it took."""

    number: int
    part: dict[str, str]
    state: str = "ended"
    packed: int = 0
    unpacked: int = 0
    rows: int = 0
    faults: list[Fault] = field(default_factory=list)
    error: str = ""


class Loading:
    """One load, carried out in threads of the server; `cancel` ends it after the parts at work.

    Parts may be added until `close`. `through` are the parts that are through, as they came to it.
    """

    def __init__(
        self,
        order: Order,
        store: Store,
        compute: SimulatedCompute,
        physics: EnginePhysics,
        folder: Path,
        pool: ThreadPoolExecutor,
    ) -> None:
        self.order, self.store, self.compute = order, store, compute
        self.physics, self.folder, self.pool = physics, folder, pool
        self.through: list[_Outcome] = []
        self.ended = threading.Event()
        self.change = threading.Condition()
        self._stop = threading.Event()
        self._closed = threading.Event()
        self._earlier = {job["part_id"] for job in jobs_of(store, order.load_id)}
        self._futures: list[Future[_Outcome | None]] = []
        # When each part was handed in, by the clock.
        self._since: list[float] = []
        # What was foreseen when so many parts were through.
        self._foreseen: tuple[int, float | None, float | None] = (0, None, None)

    def add(self, parts: Sequence[dict[str, str]]) -> None:
        """Takes further parts. Raises NoSuch once nothing more is taken."""
        if self._closed.is_set() or self._stop.is_set():
            raise NoSuch(f"the load {self.order.load_id} takes no more parts")
        for part in parts:
            number = len(self._futures)
            self._since.append(self.compute.now)
            tried = part["part_id"] in self._earlier
            self._futures.append(self.pool.submit(self._one, number, part, tried))

    def close(self) -> None:
        """Nothing more will come."""
        self._closed.set()

    def cancel(self) -> None:
        """Lets no further part begin."""
        self._stop.set()
        self._closed.set()

    def run(self, turn: threading.Lock) -> None:
        """Waits until all parts are through, and for the clock to judge them; `turn` guards it."""
        try:
            self._closed.wait()
            wait(self._futures)
            told = [future.result() for future in self._futures]
            pairs = [
                (one, since)
                for one, since in zip(told, self._since, strict=True)
                if one is not None
            ]
            with turn:
                self._judge([one for one, _ in pairs], [since for _, since in pairs])
        finally:
            self.ended.set()
            with self.change:
                self.change.notify_all()

    @property
    def done(self) -> int:
        """How many parts are through."""
        return len(self.through)

    def news(self, after: int, patience: float) -> list[dict[str, Any]]:
        """Records of parts that are through, but for the first so many; waits a little for one."""
        with self.change:
            if len(self.through) <= after and not self.ended.is_set():
                self.change.wait(patience)
            return [_job(one) for one in self.through[after:]]

    def _one(self, number: int, part: dict[str, str], tried: bool) -> _Outcome | None:
        """Reads and stores one part; None when it is in already or will not be begun."""
        notes = self.store.steps([{"do": "parts", "load_ids": [self.order.load_id]}], False)
        was = next((note for note in notes if note[1] == part["part_id"]), None)
        if self._stop.is_set() or was is None or was[3] == "done":
            return None
        outcome = _Outcome(number, part)
        try:
            luck = self.physics.luck(-1, number)
            if not tried and luck.random() < self.physics.failure_share:
                raise Wrong("its slot was lost with the machine beneath it; hand it in again")
            self._take(part, was, outcome)
        except (Wrong, SplarnError, NoSuch, pa.ArrowException, OSError) as error:
            outcome.state, outcome.error = "failed", str(error) or type(error).__name__
            self._stop.set()
        with self.change:
            self.through.append(outcome)
            self.change.notify_all()
        return outcome

    def _take(self, part: dict[str, str], was: list[Any], outcome: _Outcome) -> None:
        order = self.order
        table = self.store.layout(order.table)
        if table is None:
            raise Wrong(f"there is no table {order.table}")
        path = self._fetched(part)
        outcome.packed = path.stat().st_size
        if part["hash"] and content_hash(path) != part["hash"]:
            raise Wrong("its bytes are not those that its manifest lists")
        tables = []
        for parsed in read_parsed(path, part["codec"], order.layout):
            outcome.unpacked += parsed.size
            outcome.rows += parsed.table.num_rows
            faults = [Fault(**{**asdict(one), "path": part["name"]}) for one in parsed.faults]
            outcome.faults += faults
            if len(outcome.faults) > MOST_FAULTS:
                raise Wrong(f"more than {MOST_FAULTS:,} bad rows, which no job's record keeps")
            read = parsed.row + parsed.rows
            if not order.limit.allows(len(outcome.faults), read):
                first = outcome.faults[-1]
                reason = f"{first.field}: {first.message}" if first.field else first.message
                raise Wrong(f"line {first.line}: {reason}")
            tables.append(_as_stored(parsed.table, order.layout, order.names, table.fields))
        rows = pa.concat_tables(tables) if tables else None
        file = None
        if rows is not None and rows.num_rows:
            file = self.store.write(f"{order.load_id}-{part['part_id'][-24:]}", rows)
        with self.store.transaction() as catalogue:
            marks: tuple[tuple[int, int], ...] = ()
            if file is not None:
                number = self.store.add(order.table, file, outcome.rows)
                marks = ((number, number),)
            now = [*was[:3], "done", outcome.unpacked, outcome.rows, len(outcome.faults)]
            self.store.advance(was, [*now, marks_text(marks)])
            _note_job(catalogue, order.load_id, outcome, None)
        if part["place"].startswith(INBOX):
            path.unlink(missing_ok=True)

    def _fetched(self, part: dict[str, str]) -> Path:
        """The part's file here, whole: out of the inbox, or fetched from a depot."""
        if part["place"].startswith(INBOX):
            path = self.folder / "inbox" / Path(part["place"].removeprefix(INBOX)).name
            if not path.is_file():
                raise Wrong(f"{path.name} is not in the inbox")
            return path
        path = self.folder / "fetched" / f"{self.order.load_id}-{part['part_id'][-24:]}"
        path.parent.mkdir(exist_ok=True)
        depot, name = depot_of(part["place"])
        with closing(depot):
            fetch(depot, name, path)
        return path

    def standing(self, known: int) -> tuple[float | None, float | None]:
        """When the first so many that were through are over, and how long there was one at work.

        As the clock has it by now: what is still to come changes nothing but the pace of both.
        """
        if self._foreseen[0] != known:
            through = sorted(self.through[:known], key=lambda one: one.number)
            work, admission = self._work(through)
            since = [self._since[one.number] for one in through]
            times = self.compute.foreseen(work, self.order.streams, admission, since)
            busy, until = 0.0, 0.0
            for time in sorted(times, key=lambda one: one.begun):
                busy += max(time.ended - max(time.begun, until), 0.0)
                until = max(until, time.ended)
            self._foreseen = (known, until, busy)
        return self._foreseen[1:]

    def _work(self, outcomes: Sequence[_Outcome]) -> tuple[list[Work], float]:
        """The parts as the clock sees them, and how long they wait to be let in."""
        physics, order, number = self.physics, self.order, self.compute.loads
        luck = physics.luck(number, -1)
        work = []
        for index, one in enumerate(outcomes):
            seconds = physics.work(one.packed, one.unpacked, one.part["codec"], order.layout.format)
            batches = -(-one.rows // order.batch_rows) if order.batch_rows else 1
            factor = physics.factor(physics.luck(number, index))
            work.append(Work(physics.overhead, seconds * factor + max(batches, 1) * physics.commit))
        return work, physics.admission * luck.lognormvariate(0, physics.noise)

    def _judge(self, outcomes: Sequence[_Outcome], since: Sequence[float]) -> None:
        """Lets the clock say when each part was at work, and keeps that with its job."""
        order = self.order
        work, admission = self._work(outcomes)
        self.compute.loads += 1
        times = self.compute.schedule(work, order.streams, admission, since)
        with self.store.transaction() as catalogue:
            for one, time in zip(outcomes, times, strict=True):
                _note_job(catalogue, order.load_id, one, time)
        if times:
            self.compute.reach(max(time.ended for time in times))
        for path in (self.folder / "fetched").glob(f"{order.load_id}-*"):
            path.unlink()


def _job(one: _Outcome) -> dict[str, Any]:
    """A part's record before the clock has judged how long it took."""
    return {
        "part_id": one.part["part_id"], "name": one.part["name"], "state": one.state,
        "waiting": None, "begun": None, "ended": None, "bytes": one.unpacked, "rows": one.rows,
        "refused": len(one.faults), "error": one.error,
        "faults": [asdict(fault) for fault in one.faults],
    }  # fmt: skip


def jobs_of(store: Store, load_id: str | None = None) -> list[dict[str, Any]]:
    """The records of jobs, the newest of each part, in the order they were first handed in."""
    with store.transaction(False) as catalogue:
        rows = catalogue.execute(
            "SELECT load_id, part_id, name, state, waiting, begun, ended, bytes, rows, refused,"
            " error, faults FROM part_jobs WHERE ? IS NULL OR load_id = ? ORDER BY number",
            (load_id, load_id),
        ).fetchall()
    names = (
        "load_id", "part_id", "name", "state", "waiting", "begun", "ended", "bytes", "rows",
        "refused", "error", "faults",
    )  # fmt: skip
    newest = {row[:2]: dict(zip(names, row, strict=True)) for row in rows}
    return [{**job, "faults": json.loads(job["faults"])} for job in newest.values()]


def _note_job(
    catalogue: sqlite3.Connection, load_id: str, one: _Outcome, times: Times | None
) -> None:
    """Keeps a job's record, in the open transaction; before its times are known, without them."""
    catalogue.execute(
        "DELETE FROM part_jobs WHERE load_id = ? AND part_id = ? AND ended IS NULL",
        (load_id, one.part["part_id"]),
    )
    catalogue.execute(
        "INSERT INTO part_jobs (load_id, part_id, name, state, waiting, begun, ended, bytes,"
        " rows, refused, error, faults) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            load_id, one.part["part_id"], one.part["name"], one.state,
            *((times.waiting, times.begun, times.ended) if times else (None,) * 3),
            one.unpacked, one.rows, len(one.faults), one.error,
            json.dumps([asdict(fault) for fault in one.faults], ensure_ascii=False),
        ),
    )  # fmt: skip


def _as_stored(
    rows: pa.Table, layout: Layout, names: Sequence[str], fields: Sequence[Field]
) -> pa.Table:
    """Rows with the columns of a table and their types; what the layout lacks is null."""
    columns = []
    for one in fields:
        if one.name in names:
            columns.append(rows.column(one.name).cast(one.arrow_type()))
        else:
            columns.append(pa.nulls(rows.num_rows, one.arrow_type()))
    return pa.table(columns, names=[one.name for one in fields])
