"""One part into one table over one connection: the task that every stream runs."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from pathlib import Path

from splarn.core.digest import ColumnDigest, add_digests, digest_table
from splarn.core.engine import OpenEngine, PartNote, Session, Writer
from splarn.core.errors import ShortfallError
from splarn.core.faults import Fault, write_rejects
from splarn.core.layout import Layout
from splarn.core.places import Place
from splarn.core.pool import report
from splarn.core.reading import read_parsed
from splarn.core.reading.parsed import Parsed

KEPT_FAULTS = 20


@dataclass(frozen=True)
class LoadTask:
    """One part and where it goes; picklable. `batch_rows` 0 means one commit a part.

    `bad_limit` is how many rows may be set aside in this part; None means any number.
    """

    open_engine: OpenEngine
    table: str
    layout: Layout
    path: Place
    codec: str
    note: PartNote
    batch_rows: int
    bad_limit: int | None
    rejects: Path | None


@dataclass
class PartResult:
    """What came of a part. `rows` and `refused` include what an earlier try had loaded."""

    path: str
    note: PartNote
    seconds: float
    raw_bytes: int
    commits: int
    digests: list[ColumnDigest] | None
    faults: list[Fault] = field(default_factory=list)


def run_load_task(task: LoadTask) -> PartResult:
    """Loads one part, from where its note says an earlier try stopped.

    Rows already in are read again for their digests but not written.
    Raises ShortfallError when more rows are bad than allowed; what was committed stays.
    """
    begun = time.perf_counter()
    session = task.open_engine().connect()
    try:
        stream = _Stream(task, session)
        for parsed in read_parsed(task.path, task.codec, task.layout):
            stream.take(parsed)
        stream.finish()
    except BaseException:
        session.rollback()
        raise
    finally:
        session.close()
    return PartResult(
        str(task.path),
        stream.note,
        time.perf_counter() - begun,
        stream.raw_bytes,
        stream.commits,
        stream.digests,
        stream.faults,
    )


class _Stream:
    """Turns parsed chunks into batches and commits, and keeps count."""

    def __init__(self, task: LoadTask, session: Session) -> None:
        self.task = task
        self.session = session
        self.note = task.note
        self.digests: list[ColumnDigest] | None = None
        self.faults: list[Fault] = []
        self.raw_bytes = 0
        self.commits = 0
        self._writer: Writer | None = None
        self._in_batch = 0
        # Rows seen so far, and what the next commit will note.
        self._read = 0
        self._rows = task.note.rows
        self._refused = task.note.refused
        self._position = task.note.position
        self._waiting: list[Fault] = []

    def take(self, parsed: Parsed) -> None:
        """Writes a chunk's good rows, committing wherever a batch is full."""
        self.raw_bytes += parsed.size
        self.digests = add_digests(
            self.digests, digest_table(parsed.table, self.task.layout.fields)
        )
        known = self.task.note.rows + self.task.note.refused
        already = min(max(known - self._read, 0), parsed.rows)
        self._read += parsed.rows
        first = int(parsed.good.searchsorted(already))
        refused_before = already - first
        faults = [fault for fault in parsed.faults if fault.row > parsed.row + already]
        self._set_aside(faults)
        base = self._refused - refused_before
        total = len(parsed.good)
        while first < total:
            room = self.task.batch_rows - self._in_batch if self.task.batch_rows else total
            last = min(first + room, total)
            if self._writer is None:
                self._writer = self.session.writer(self.task.table, self.task.layout)
            self._writer.put(parsed, first, last)
            self._in_batch += last - first
            self._rows += last - first
            reached = parsed.rows if last == total else int(parsed.good[last])
            self._refused = base + reached - last
            self._position = parsed.end_offset(last)
            first = last
            if self.task.batch_rows and self._in_batch >= self.task.batch_rows:
                self._commit("open")
        if already < parsed.rows:
            self._refused = base + parsed.rows - total
            self._position = parsed.end
        report(parsed.size)

    def finish(self) -> None:
        """Commits the last batch and notes the part as done."""
        if self.note.state != "done":
            self._commit("done")

    def _set_aside(self, faults: list[Fault]) -> None:
        self._waiting += faults
        self.faults += faults[: KEPT_FAULTS - len(self.faults)]
        limit = self.task.bad_limit
        if limit is None or not faults:
            return
        if self.task.note.refused + len(self._waiting) + self._kept_before() > limit:
            raise too_many_bad(faults[0], limit)

    def _kept_before(self) -> int:
        return self.note.refused - self.task.note.refused

    def _commit(self, state: str) -> None:
        if self._writer is not None:
            self._writer.close()
            self._writer = None
        now = replace(
            self.note,
            state=state,
            position=self._position,
            rows=self._rows,
            refused=self._refused,
        )
        # Rejects go to disk before the commit: on resuming, those past the note are dropped.
        done = self._rows + self._refused
        ready = [fault for fault in self._waiting if fault.row <= done]
        self._waiting = self._waiting[len(ready) :]
        if ready and self.task.rejects is not None:
            write_rejects(self.task.rejects, ready)
        self.session.advance(self.note, now)
        self.session.commit()
        self.note = now
        self.commits += 1
        self._in_batch = 0


def too_many_bad(fault: Fault, limit: int) -> ShortfallError:
    """The error for a bad row over the limit, naming that row."""
    where = f"{fault.path}, line {fault.line}"
    what = f"field {fault.field}: {fault.value!r} is {fault.message}"
    if fault.field is None or fault.value is None:
        what = f"field {fault.field}: {fault.message}" if fault.field else fault.message
    if limit == 0:
        return ShortfallError(
            f"The load stopped at a bad row ({where}: {what}); mend it, or give --bad-rows "
            "set-aside, and run the same command again to go on."
        )
    return ShortfallError(
        f"The load stopped because more than {limit:,} rows are bad, the last one at {where} "
        f"({what}); raise --bad-row-limit or mend the files, then run the same command to go on."
    )
