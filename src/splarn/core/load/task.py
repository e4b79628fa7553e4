"""One part of a load as a task for a worker, and what comes of it."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from splarn.core.check.limit import BadRows
from splarn.core.errors import OutsideError
from splarn.core.layout import Layout
from splarn.core.load.pieces import Piece
from splarn.core.reading.faults import Fault
from splarn.core.source.content import Identity
from splarn.core.source.source import Source
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import RowSum
from splarn.core.target.notes import PartNote
from splarn.core.target.session import OpenEngine, Session


@dataclass(frozen=True)
class LoadTask:
    """One part and where it goes; picklable. `batch_rows` 0 means one commit a part.

    `names` are the fields stored, `bad_rows` how many rows may be set aside in this part; with
    `relaxed` commits need not be safe from a power cut; without `verify` rows are not hashed;
    without `noted` the part's note comes into the target with its first rows. One that `follows`
    begins where the note in the target says then.
    """

    open_engine: OpenEngine
    table: str
    layout: Layout
    names: tuple[str, ...]
    source: Source
    content: Identity
    packed_hash: str
    pieces: tuple[Piece, ...]
    note: PartNote
    batch_rows: int
    bad_rows: BadRows
    rejects: Path | None
    relaxed: bool = False
    verify: bool = True
    noted: bool = True
    follows: bool = False

    def again(self) -> LoadTask:
        """The same where another one was, or may still be, at work on it."""
        return replace(self, follows=True)

    @property
    def meeting(self) -> str:
        """What `meet` looks at, once for all tasks of a load."""
        return self.note.load_id

    def meet(self) -> None:
        """Looks from where this runs whether the target is the one in which the load was begun.

        Raises OutsideError when it is another, as one behind a name that means this machine.
        """
        engine = self.open_engine()
        with closing(engine.connect()) as session:
            loads = session.notes.loads(self.note.table)
        if not any(note.load_id == self.note.load_id for note in loads):
            raise OutsideError(
                f"A worker finds another {engine.title} at {engine.place} than this machine does, "
                f"without the load {self.note.load_id}: give an address that means the same "
                "everywhere."
            )

    def followed(self, session: Session) -> LoadTask:
        """From where the target's note of the part says that it is now."""
        note = session.notes.part(self.note)
        if note is None:
            return self
        mine = self.content
        content = Identity(mine.begins or note.content.begins, note.content.whole or mine.whole)
        return replace(self, note=note, noted=True, content=content)

    @property
    def label(self) -> str:
        """What a watcher is told."""
        return self.source.name


@dataclass
class PartResult:
    """What came of a part. `rows` and `refused` include what an earlier try had loaded.

    `kept` are the refused rows that are in the rejects, None where none are kept. `row_sum` is that
    of its rows, where the target hashes them too. `sample` are some of its rows as they were read,
    a pyarrow Table. `stages` are core-seconds by stage.
    """

    path: str
    note: PartNote
    seconds: float
    raw_bytes: int
    commits: int
    digests: list[ColumnDigest] | None
    row_sum: RowSum | None = None
    faults: list[Fault] = field(default_factory=list)
    kept: int | None = None
    sample: Any = None
    stages: dict[str, float] = field(default_factory=dict)
