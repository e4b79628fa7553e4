"""The table that trials load into: made, emptied, and removed also after a sweep was killed."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, datetime
from types import TracebackType
from typing import TypeVar

from splarn.core.errors import OutsideError
from splarn.core.load.landing import Landing
from splarn.core.target.notes import LoadNote
from splarn.core.target.session import OpenEngine, Session
from splarn.core.target.tables import Likeness
from splarn.core.units import plural

# How tables of trials begin, and the state of the note that tells whose one is.
TRIAL_TABLE = "splarn_trial_"
TRIAL = "trial"
Place = TypeVar("Place", bound=Landing)


def trial_table(sweep_id: str) -> str:
    """The table of a sweep's trials, which no other sweep uses."""
    return TRIAL_TABLE + sweep_id.removeprefix("sweep-").replace("-", "_")


def depot_of_trials(sweep_id: str, landing: Callable[[str], Place] | None) -> Place | None:
    """The folder in the depot that is this sweep's own."""
    return None if landing is None else landing(f"splarn-trials-{sweep_id}")


@dataclass
class TrialTable:
    """The table of that name in a target, which a note says is the sweep's.

    Where there is a table `like`, it is made with its rules and indexes. It is removed, and made
    anew, by a thread and a session of its own, since the next trial is chosen meanwhile.
    """

    open_engine: OpenEngine
    name: str
    sweep_id: str
    like: str | None = None

    def __post_init__(self) -> None:
        self._session: Session | None = None
        self._thread = ThreadPoolExecutor(1, "trial-table")
        self._made: Future[None] | None = None

    def make(self) -> None:
        """Has it there and empty, or absent where a load makes it. Raises OutsideError."""
        if self._made is None:
            self.remove()
        made, self._made = self._made, None
        assert made is not None, "just begun"
        made.result()

    def remove(self) -> None:
        """Begins to remove it, with what loads have left beside it, and to make it anew."""
        self._made = self._thread.submit(self._tried, self._anew)

    def __enter__(self) -> TrialTable:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        """Removes it with its note. Raises OutsideError when the target does not answer."""
        try:
            self._thread.submit(self._tried, self._end).result()
        finally:
            self._thread.submit(self._close).result()
            self._thread.shutdown()

    def _tried(self, act: Callable[[Session], None]) -> None:
        """Does it in the session; whatever goes wrong, the next one begins with a new session."""
        try:
            if self._session is None:
                self._session = self.open_engine().connect()
            act(self._session)
        except BaseException:
            self._close()
            raise

    def _close(self) -> None:
        session, self._session = self._session, None
        if session is not None:
            session.close()

    def _anew(self, session: Session) -> None:
        self._remove(session)
        like = None if self.like is None else session.tables.canonical(self.like)
        if like is not None and session.tables.kind(like) == "table":
            session.tables.clone(like, self.name, Likeness(indexes=True))
            session.commit()
        there = session.tables.columns(self.name) is not None
        rows = session.rows.count(self.name) if there else 0
        # What was read must not keep others from writing.
        session.rollback()
        if rows:
            raise OutsideError(
                f"The trials' table {self.name} could not be emptied: it holds "
                f"{plural(rows, 'row')} before a trial."
            )

    def _remove(self, session: Session) -> None:
        session.claims.take_turn(self.name)
        for note in session.notes.loads(self.name):
            if note.details.side_table:
                session.tables.drop(note.details.side_table)
        session.tables.drop(self.name)
        session.notes.forget(self.name)
        now = datetime.now(UTC).isoformat(timespec="milliseconds")
        session.notes.put_load(LoadNote(self.sweep_id, self.name, TRIAL, "sweep", now))
        session.commit()
        session.claims.end_turn(self.name)

    def _end(self, session: Session) -> None:
        self._remove(session)
        session.claims.take_turn(self.name)
        session.notes.forget(self.name)
        session.commit()
        session.claims.end_turn(self.name)


def left_tables(keeper: Session) -> list[LoadNote]:
    """The notes of trials' tables whose sweep was killed; those of living ones are left out.

    `keeper` is the session by which claims are asked for, which it keeps. Raises OutsideError.
    """
    trials = [note for note in keeper.notes.loads() if note.state == TRIAL]
    left = [note for note in trials if keeper.claims.claim(note.load_id)]
    # What was read must not keep others from writing.
    keeper.rollback()
    return left


def remove_table(
    open_engine: OpenEngine, note: LoadNote, landing: Callable[[str], Landing] | None = None
) -> None:
    """Removes a table of trials, its note, and its parts in a depot. Raises OutsideError."""
    if (depot := depot_of_trials(note.load_id, landing)) is not None:
        depot.clear()
    with TrialTable(open_engine, note.table, note.load_id):
        # Leaving it removes it.
        pass
