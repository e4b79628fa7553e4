"""What the core asks of an engine; `splarn.engines` answers, and is handed in."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from splarn.core.digest import ColumnDigest
from splarn.core.layout import Field, Layout
from splarn.core.reading.parsed import Parsed


@dataclass(frozen=True)
class TableColumn:
    """One column of an existing table, in our field types.

    `optional` says that a row may be stored without a value for it.
    """

    name: str
    type: str
    optional: bool = False


@dataclass(frozen=True)
class LoadNote:
    """The target's own record of one load into one table.

    `state` is open, done or emptied; `mode` the table mode it was begun with.
    """

    load_id: str
    table: str
    state: str
    mode: str
    started: str


@dataclass(frozen=True)
class PartNote:
    """How far one part of a load is in: unpacked bytes, rows stored, rows refused."""

    load_id: str
    part_id: str
    name: str
    state: str
    position: int
    rows: int
    refused: int


class Writer(Protocol):
    """One batch on its way into a table."""

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """Adds the good rows `start` to `stop` of a parsed chunk."""

    def close(self) -> None:
        """The batch is whole; its rows are in the open transaction when this returns."""


class Session(Protocol):
    """One connection. Changes wait for `commit`. Errors of the engine come as OutsideError."""

    def columns(self, table: str) -> list[TableColumn] | None:
        """The table's columns, or None when there is no such table."""

    def create(self, table: str, layout: Layout) -> None:
        """Makes the table from the layout."""

    def empty(self, table: str) -> None:
        """Removes all rows."""

    def drop(self, table: str) -> None:
        """Removes the table if it is there, and what was noted of loads into it."""

    def count(self, table: str) -> int:
        """Rows in the table."""

    def digest(self, table: str, fields: Sequence[Field]) -> list[ColumnDigest]:
        """Column digests of all rows."""

    def writer(self, table: str, layout: Layout) -> Writer:
        """Begins a batch."""

    def loads(self, table: str) -> list[LoadNote]:
        """Loads noted for the table, oldest first."""

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """Parts noted for the loads."""

    def note_load(self, note: LoadNote) -> None:
        """Notes a load, or its new state."""

    def note_part(self, note: PartNote) -> None:
        """Notes a part before its first row."""

    def advance(self, was: PartNote, now: PartNote) -> None:
        """Moves a part's note on from `was` to `now`.

        Raises OutsideError when the note is no longer `was`: another loader is at work on it.
        """

    def commit(self) -> None: ...

    def rollback(self) -> None: ...

    def close(self) -> None: ...


class Engine(Protocol):
    """A kind of target at a place. Picklable as the function that opens it."""

    name: str
    place: str  # The URL as it may be shown, without secrets.
    in_process: bool  # Whether all streams must be threads of one process.

    def connect(self) -> Session:
        """Opens a session. Raises OutsideError when the target cannot be reached."""

    def ddl(self, table: str, layout: Layout) -> str:
        """The statement that makes the table."""


# Opens the engine anew in whichever process calls it.
OpenEngine = Callable[[], Engine]
