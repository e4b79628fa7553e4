"""One part into one table over one connection: the task that every stream runs."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.check.limit import too_many_bad
from splarn.core.errors import OutsideError, RefusedError
from splarn.core.load.pieces import in_delivery
from splarn.core.load.prefix import Prefix
from splarn.core.load.sampling import Sampling
from splarn.core.load.task import LoadTask, PartResult
from splarn.core.reading import read_parsed
from splarn.core.reading.faults import ENGINE, Fault, count_rejects, read_rejects, write_rejects
from splarn.core.reading.parsed import Parsed, without_rows
from splarn.core.source.content import Identity
from splarn.core.source.places import Place
from splarn.core.source.source import Proof
from splarn.core.target.digest import ColumnDigest, add_digests, digest_table
from splarn.core.target.hashing import RowSum
from splarn.core.target.marks import joined
from splarn.core.target.notes import PartNote
from splarn.core.target.session import Session
from splarn.core.target.tables import Writer
from splarn.core.units import plural
from splarn.core.work.lanes import report
from splarn.core.work.read_ahead import ahead
from splarn.core.work.stages import Stages, stage

KEPT_FAULTS = 20
# The rows of a larger batch are not kept, so what the engine refuses there is not narrowed down.
HELD_BYTES = 512 << 20


def run_load_task(task: LoadTask) -> PartResult:
    """Loads one part, from where its note says an earlier try stopped.

    Rows already in are read again for their digests but not written.
    Raises ShortfallError when more rows are bad than allowed; what was committed stays.
    """
    stages = Stages()
    with stages.entered(), stage("other"):
        result = _load_part(task, stages)
    return replace(result, stages=stages.seconds)


def _load_part(task: LoadTask, stages: Stages) -> PartResult:
    begun = time.perf_counter()
    session = task.open_engine().connect()
    try:
        if task.relaxed:
            session.relax()
        if task.follows:
            task = task.followed(session)
        stream = _Stream(task, session)
        source = task.source
        proof = Proof(source, task.layout, task.content, task.packed_hash)

        def blocks(place: Place, codec: str, start: int, end: int | None) -> Iterator[bytes]:
            return stages.drawn("read", proof.read(place, codec, start, end))

        read = read_parsed(source.place, source.codec, task.layout, read=blocks)
        with ahead(stages.drawn("judge", read)) as chunks:
            for parsed in chunks:
                stream.take(parsed)
        try:
            content = proof.check()
        except OutsideError as error:
            if not stream.note.rows:
                raise
            raise OutsideError(
                f"{error} {plural(stream.note.rows, 'row')} of it are in: `splarn undo "
                f"{task.note.load_id}` takes them out."
            ) from None
        stream.finish(content)
    except BaseException:
        session.rollback()
        raise
    finally:
        session.close()
    return PartResult(
        path=str(task.source),
        note=stream.note,
        seconds=time.perf_counter() - begun,
        raw_bytes=stream.raw_bytes,
        commits=stream.commits,
        digests=stream.digests,
        row_sum=stream.row_sum,
        faults=stream.faults,
        kept=None if task.rejects is None else count_rejects(task.rejects),
        sample=stream.sample.rows(),
    )


@dataclass(frozen=True)
class _Piece:
    """Good rows `first` to `last` of a parsed chunk, on their way into the table."""

    parsed: Parsed
    first: int
    last: int

    @property
    def reached(self) -> int:
        """Records of the file up to and with this piece, bad ones behind it included."""
        good = self.parsed.good
        inside = self.parsed.rows if self.last >= len(good) else int(good[self.last])
        return self.parsed.row + inside

    def halves(self) -> tuple[_Piece, _Piece]:
        """The piece as two."""
        middle = (self.first + self.last) // 2
        return replace(self, last=middle), replace(self, first=middle)


class _Stream:
    """Turns parsed chunks into batches and commits, and keeps count.

    The rows of an open batch are kept until it is committed: when the engine refuses some of them,
    the batch is taken back and its halves are tried apart, down to the rows that are to blame.
    """

    def __init__(self, task: LoadTask, session: Session) -> None:
        self.task = task
        self.session = session
        self.note = task.note
        self._noted = task.noted
        self.digests: list[ColumnDigest] | None = None
        self._hasher = session.digests.hasher(task.table, task.names) if task.verify else None
        self.row_sum = None if self._hasher is None else RowSum()
        self.faults: list[Fault] = []
        self.raw_bytes = 0
        self.commits = 0
        self.sample = Sampling(task.names)
        self._fields = [field for field in task.layout.fields if field.name in task.names]
        self._writer: Writer | None = None
        self._batch: list[_Piece] = []
        self._in_batch = self._held = 0
        self._too_large = self._held_to = False
        self._last: Parsed | None = None
        # Records seen so far, and what the next commit will note: rows in, records read, position.
        self._read = 0
        self._content = task.content
        self._rows = task.note.rows
        self._reached = task.note.rows + task.note.refused
        self._position = self._end = task.note.position
        self._prefix = Prefix()
        # The chunk that the position is in; None where it is that of the note.
        self._at: Parsed | None = None
        self._waiting: list[Fault] = []
        self._aside_for: PartNote | None = None
        if task.rejects is not None and task.rejects.exists():
            _drop_uncommitted(task.rejects, task.note)
        self._refused = _refused_before(task)

    def take(self, parsed: Parsed) -> None:
        """Writes a chunk's good rows, committing wherever a batch is full."""
        self.raw_bytes += parsed.size
        self._prefix.pass_on(parsed)
        self._hold_to_note(parsed)
        parsed = without_rows(parsed, self._refused)
        known = self.task.note.rows + self.task.note.refused
        already = min(max(known - self._read, 0), parsed.rows)
        self._read += parsed.rows
        first = int(parsed.good.searchsorted(already))
        if first:
            self._count(_Piece(parsed, 0, first))
        self._set_aside([fault for fault in parsed.faults if fault.row > parsed.row + already])
        total = len(parsed.good)
        while first < total:
            room = self.task.batch_rows - self._in_batch if self.task.batch_rows else total
            piece = _Piece(parsed, first, min(first + room, total))
            first = piece.last
            self._put(piece)
            if self.task.batch_rows and self._in_batch >= self.task.batch_rows:
                self._commit("open")
        if already < parsed.rows:
            self._reached = parsed.row + parsed.rows
            self._position, self._at = parsed.end, parsed
        self._end, self._last = parsed.end, parsed
        report(parsed.size, parsed.rows)

    def _hold_to_note(self, parsed: Parsed) -> None:
        """Raises OutsideError when the bytes that an earlier try loaded were others than these."""
        note = self.task.note
        if not note.proof or not parsed.offset <= note.position <= parsed.end or self._held_to:
            return
        self._held_to = True
        same = self._prefix.at(parsed, note.position) == note.proof
        # A file that ended within a record then may go on there now.
        if not same or not self._prefix.divides(parsed, note.position):
            raise self._another()

    def _another(self) -> OutsideError:
        note = self.task.note
        return OutsideError(
            f"{self.task.source} is not what it was when {plural(note.rows, 'row')} of it were "
            f"loaded: `splarn undo {note.load_id}` takes them out, then run the same command again."
        )

    def finish(self, content: Identity) -> None:
        """Commits the last batch and notes the part as done, with what it turned out to hold."""
        if self.task.note.proof and not self._held_to:
            # It ended before what was loaded of it did.
            raise self._another()
        self._content = content
        if self.note.state != "done":
            self._commit("done")

    def _put(self, piece: _Piece) -> None:
        self._keep(piece)
        self._in_batch += piece.last - piece.first
        try:
            self._write(piece)
        except RefusedError as refusal:
            self._narrow(refusal)

    def _keep(self, piece: _Piece) -> None:
        self._held += piece.parsed.size if piece.first == 0 else 0
        self._batch.append(piece)
        self._too_large |= self._held > HELD_BYTES or not self.session.rows.refuses_rows
        if self._too_large:
            for kept in self._batch:
                self._count(kept)
            self._batch = []

    def _write(self, piece: _Piece) -> None:
        if self._writer is None:
            self._writer = self.session.rows.writer(
                self.task.table, self.task.layout, self.task.names
            )
        with stage("send"):
            self._writer.put(piece.parsed, piece.first, piece.last)
        self._rows += piece.last - piece.first
        self._reached = piece.reached
        self._position, self._at = piece.parsed.end_offset(piece.last), piece.parsed

    def _narrow(self, refusal: RefusedError) -> None:
        """Finds the rows of the open batch that the engine refuses, and commits the others."""
        if self._too_large:
            raise RefusedError(
                f"{str(refusal).rstrip('.')}; the batch is too large to find the rows that are to "
                "blame, so give smaller --batch-rows.",
                refusal.reason,
            )
        left = self._take_back()
        while left:
            piece = left.pop(0)
            self._batch = [piece]
            try:
                self._write(piece)
                self._close("open")
            except RefusedError as again:
                self._take_back()
                if piece.last - piece.first == 1:
                    self._refuse(piece, again)
                else:
                    left[:0] = piece.halves()

    def _take_back(self) -> list[_Piece]:
        """Rolls the open batch back; returns what was in it."""
        self.session.rollback()
        taken, self._batch, self._writer = self._batch, [], None
        self._in_batch = self._held = 0
        if self._aside_for is not None and self.task.rejects is not None:
            _drop_uncommitted(self.task.rejects, self._aside_for)
            self._aside_for = None
        self._rows = self.note.rows
        self._reached = self.note.rows + self.note.refused
        self._position, self._at = self.note.position, None
        return taken

    def _refuse(self, piece: _Piece, refusal: RefusedError) -> None:
        """Sets one row aside that the engine does not take; noted with the next commit."""
        parsed, index = piece.parsed, int(piece.parsed.good[piece.first])
        number = parsed.row + index + 1
        raw, line = "", number
        if parsed.chunk is not None:
            chunk = parsed.chunk
            data = chunk.data[int(chunk.starts[index]) : int(chunk.ends[index])]
            raw = data.decode(self.task.layout.as_read.dialect.encoding, errors="backslashreplace")
            line = chunk.line_of(index)
        else:
            (record,) = parsed.table.slice(piece.first, 1).to_pylist()
            raw = json.dumps(record, ensure_ascii=False, default=str)
        reason = f"refused by the engine: {refusal.reason}"
        fault = Fault(
            path=str(self.task.source),
            line=line,
            row=number,
            field=None,
            kind=ENGINE,
            value=None,
            message=reason,
            raw=raw,
        )
        self._set_aside([fault])
        self._close("open", piece)

    def _set_aside(self, faults: list[Fault]) -> None:
        faults = [in_delivery(fault, self.task.pieces) for fault in faults]
        self._waiting += faults
        self.faults += faults[: KEPT_FAULTS - len(self.faults)]
        limit = self.task.bad_rows
        if faults and not limit.allows(self.note.refused + len(self._waiting), self._read):
            raise too_many_bad(limit, faults[0])

    def _commit(self, state: str) -> None:
        try:
            self._close(state)
        except RefusedError as refusal:
            self._narrow(refusal)
            if state != "open":
                self._reached, self._position, self._at = self._read, self._end, self._last
                self._close(state)

    def _close(self, state: str, passed: _Piece | None = None) -> None:
        """Commits what was written, and the note of it; `passed` was read but is not in."""
        if passed is not None:
            self._reached = passed.reached
            self._position, self._at = passed.parsed.end_offset(passed.last), passed.parsed
        marks = self.note.marks
        if self._writer is not None:
            marks = joined((marks, self._writer.close()))
            self._writer = None
        now = replace(
            self.note,
            state=state,
            position=self._position,
            rows=self._rows,
            refused=self._reached - self._rows,
            marks=marks,
            proof=self._prefix.at(self._at, self._position) if self._at else self.note.proof,
            begins=self._content.begins,
            whole=self._content.whole,
        )
        # Rejects go to disk before the commit: on resuming, those past the note are dropped.
        self._waiting.sort(key=lambda fault: fault.loaded_row)
        ready = [fault for fault in self._waiting if fault.loaded_row <= self._reached]
        if ready and self.task.rejects is not None:
            self._aside_for = self.note
            write_rejects(self.task.rejects, ready)
        if self._noted:
            self.session.notes.advance(self.note, now)
        else:
            self.session.notes.put_parts([now])
        self.session.commit()
        self._noted = True
        self._waiting = self._waiting[len(ready) :]
        self._aside_for = None
        self.note = now
        self._prefix.forget(now.position)
        self.commits += 1
        for piece in self._batch:
            if piece is not passed:
                self._count(piece)
        self._batch = []
        self._in_batch = self._held = 0
        self._too_large = False

    def _count(self, piece: _Piece) -> None:
        with stage("digest"):
            rows = piece.parsed.table.slice(piece.first, piece.last - piece.first)
            self.digests = add_digests(self.digests, digest_table(rows, self._fields))
            if self._hasher is not None and self.row_sum is not None:
                more = self._hasher.sum_of(rows)
                self.row_sum = None if more is None else self.row_sum.plus(more)
            self.sample.take(rows)


def _drop_uncommitted(path: Path, note: PartNote) -> None:
    """Takes rejects back that were written for a batch that was never committed."""
    reached = note.rows + note.refused
    kept = [fault for fault in read_rejects(path) if fault.loaded_row <= reached]
    path.unlink()
    write_rejects(path, kept)


def _refused_before(task: LoadTask) -> frozenset[int]:
    """Rows that the engine refused in an earlier try; they are in the rejects and in no table."""
    if task.rejects is None or not task.note.refused or not task.rejects.exists():
        return frozenset()
    rejects = read_rejects(task.rejects)
    return frozenset(fault.loaded_row for fault in rejects if fault.kind == ENGINE)
