"""What the core asks of an engine; `splarn.engines` answers, and is handed in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from splarn.core.details import LoadDetails
from splarn.core.digest import ColumnDigest
from splarn.core.handover import Carried, Order, Size, Watch
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.core.reading.parsed import Parsed


@dataclass(frozen=True)
class TableColumn:
    """One column of an existing table, in our field types.

    `optional` says that a row may be stored without a value for it, `identity` that the engine
    numbers it, `computed` that no value may be stored in it.
    """

    name: str
    type: str
    optional: bool = False
    identity: bool = False
    computed: bool = False


@dataclass(frozen=True)
class TableIndex:
    """An index that is not part of its table's own statement; `statement` makes it again."""

    name: str
    statement: str
    unique: bool


@dataclass(frozen=True)
class LoadNote:
    """The target's own record of one load into one table.

    `table` is the canonical name. `state` is open, done, emptied (its rows went with a later load),
    undone, or lost (its notes are incomplete); `mode` the table mode it was begun with.
    """

    load_id: str
    table: str
    state: str
    mode: str
    started: str
    details: LoadDetails = field(default_factory=LoadDetails)


@dataclass(frozen=True)
class PartNote:
    """How far one part of a load is in: unpacked bytes, rows stored, rows refused.

    `marks` tell the engine which rows those are; None when it cannot tell them from others.
    `table` is that of the load. `proof` is a hash of the file's bytes up to the position, empty
    where nothing was read or the file is columnar.
    """

    load_id: str
    part_id: str
    name: str
    state: str
    position: int
    rows: int
    refused: int
    marks: Marks | None = ()
    table: str = ""
    proof: str = ""


@dataclass(frozen=True)
class ReadBack:
    """How many rows were looked for in a table, and those of them that are not there."""

    looked_for: int = 0
    absent: tuple[dict[str, Any], ...] = ()


class Writer(Protocol):
    """One batch on its way into a table."""

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """Adds the good rows `start` to `stop` of a parsed chunk."""

    def close(self) -> Marks | None:
        """The batch is whole; its rows are in the open transaction when this returns.

        Returns what tells these rows from others, or None when the engine has no such thing.
        """


class Session(Protocol):
    """One connection. Changes wait for `commit`. Errors of the engine come as OutsideError."""

    marks_changes: bool  # Whether a row that was changed loses its mark.

    # What a table looks like, and changes to tables as wholes.

    def canonical(self, table: str) -> str:
        """The one name that the table has by the engine's rules, however it was written.

        Raises RequestError for a name that can be none.
        """

    def kind(self, table: str) -> str:
        """`table`, or what else has the name, as `a view`; empty where nothing has it."""

    def longest_name(self) -> tuple[int, str] | None:
        """The longest name that a table or a column may have, and its unit: characters or bytes."""

    def against_name(self, name: str) -> str:
        """Why the engine cannot have a name that is not too long, empty where it can."""

    def columns_text(self, table: str) -> str:
        """Names and types of the table's columns as JSON pairs, to see whether they changed."""

    def fingerprint(self, table: str, marks: Marks | None = None) -> str:
        """A figure of all rows, or of marked ones, that a change of any cell changes."""

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """Looks for rows (a pyarrow Table with these columns), value by value, in the table.

        Rows that no field can find are not looked for, nor any where the engine cannot be asked.
        """

    def columns(self, table: str) -> list[TableColumn] | None:
        """The table's columns, or None when there is no such table."""

    def create(self, table: str, layout: Layout) -> None:
        """Makes the table from the layout."""

    def clone(
        self,
        table: str,
        copy: str,
        *,
        logged: bool = True,
        indexes: bool = False,
        twin: bool = False,
    ) -> None:
        """Makes an empty table like another with the rules of that one; without the log if asked.

        Its unique indexes come along, the others only with `indexes`. A `twin` is to take its
        place, so that it also gets the owner, rights and whatever else belongs to a table there.
        """

    def shell(self, table: str, copy: str) -> None:
        """Makes an empty table with the columns of another and no rules, to keep its rows in."""

    def drop(self, table: str) -> None:
        """Removes the table if it is there."""

    def swap(self, table: str, aside: str, before: str) -> None:
        """Gives `table` the name `before` and `aside` the name `table`, both or neither.

        Indexes of the old table that the new one lacks are made on it.
        """

    def bound(self, table: str) -> list[str]:
        """What would stay with the old table when another took its name, in words."""

    def indexes(self, table: str) -> list[TableIndex]:
        """Indexes that can be dropped and made again."""

    def drop_index(self, table: str, index: TableIndex) -> None:
        """Drops an index if it is there."""

    def restore_index(self, table: str, index: TableIndex) -> None:
        """Makes an index again unless it is there."""

    # Rows.

    def empty(self, table: str) -> None:
        """Removes all rows."""

    def pour(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """Copies all rows of one table into another, only the named columns if given.

        Returns how many, and what tells them from others as `Writer.close` does.
        """

    def remove(self, table: str, marks: Marks) -> int:
        """Removes the marked rows; how many."""

    def count(self, table: str, marks: Marks | None = None) -> int:
        """Rows in the table, or marked ones."""

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """Whether rows of which these columns are stored can be told from others later."""

    def last_mark(self, table: str) -> int | None:
        """The number of the last row, where numbers tell later rows; -1 without rows."""

    def digest(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """Column digests of all rows, or of the marked ones."""

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """Begins a batch of rows as the layout has them, of which the named fields are stored."""

    def follow_identity(self, table: str, column: str) -> str:
        """Lets the engine's own numbers go on behind those that were stored.

        What a person must know where that cannot be done, else nothing.
        """

    # Compute, and files that the engine reads itself.

    def clock(self) -> float:
        """Seconds by which phases are measured: the engine's own, or this machine's."""

    def size(self) -> Size | None:
        """The compute as it is, None where it has no sizes."""

    def resize(self, tier: str) -> None:
        """Gives the compute another size; done when this returns."""

    def carry(self, order: Order, watch: Watch) -> Carried:
        """Lets the engine load files, and waits for it; what it says of each, failed ones too.

        Parts that an earlier call brought in are not loaded again and are among those returned.
        """

    # Notes.

    def lock(self, table: str) -> None:
        """Waits for its turn to begin or end a load into the table."""

    def release(self, table: str) -> None:
        """Lets others have their turn, where a commit does not do that."""

    def checkpoint(self) -> None:
        """Commits where a change of tables would commit anyway; elsewhere all stays open."""

    def claim(self, load_id: str) -> bool:
        """Whether this session may carry the load out; until it closes. True where unknown."""

    def settle(self, load_id: str) -> None:
        """Waits for batches of the load that are about to be committed by others."""

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """Loads noted for the table or for all, oldest first."""

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """Parts noted for the loads."""

    def note_load(self, note: LoadNote) -> None:
        """Notes a load, or its new state and details."""

    def note_part(self, note: PartNote) -> None:
        """Notes a part before its first row."""

    def advance(self, was: PartNote, now: PartNote) -> None:
        """Moves a part's note on from `was` to `now`.

        Raises OutsideError when the note is no longer `was`: another loader is at work on it.
        """

    def forget(self, table: str) -> None:
        """Removes all notes of loads into the table."""

    def notes_whole(self, table: str) -> bool:
        """Whether nobody has removed notes of loads into the table."""

    def renew_notes(self, table: str) -> None:
        """Begins the notes anew where some are lost; loads of which a part is noted end as lost."""

    def relax(self) -> None:
        """Lets commits return before they are safe from a power cut."""

    def commit(self) -> None: ...

    def rollback(self) -> None: ...

    def close(self) -> None: ...


class Engine(Protocol):
    """A kind of target at a place. Picklable as the function that opens it."""

    name: str
    place: str  # The URL as it may be shown, without secrets.
    in_process: bool  # Whether all streams must be threads of one process.
    reads_parts: bool  # Whether it is given files rather than rows.
    levers: Mapping[str, tuple[str, ...]]  # The values that each load lever may take.
    title: str  # What people call this kind of target.

    def connect(self) -> Session:
        """Opens a session. Raises OutsideError when the target cannot be reached."""

    def ddl(self, table: str, layout: Layout) -> str:
        """The statement that makes the table."""


# Opens the engine anew in whichever process calls it.
OpenEngine = Callable[[], Engine]
