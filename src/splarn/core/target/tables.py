"""What is asked of an engine about tables and their rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from splarn.core.layout import Field, Layout
from splarn.core.reading.parsed import Parsed
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import RowHasher, RowSum
from splarn.core.target.marks import Marks


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
class Likeness:
    """What a copy of a table has besides its columns, rules and unique indexes.

    One that is not `logged` skips the engine's log, with `indexes` the others come along too, and a
    `twin` is to take the table's place, so that it also gets the owner, rights and whatever else
    belongs to a table there.
    """

    logged: bool = True
    indexes: bool = False
    twin: bool = False


LIKE = Likeness()


class Tables(Protocol):
    """What a table looks like, and changes to tables as wholes. Names are canonical ones."""

    def canonical(self, table: str) -> str:
        """The one name that the table has by the engine's rules, however it was written.

        Raises RequestError for a name that can be none.
        """

    def kind(self, table: str) -> str:
        """`table`, or what else has the name, as `a view`; empty where nothing has it."""

    def longest_name(self) -> tuple[int, str] | None:
        """The longest name that a table or a column may have, and its unit: characters or bytes."""

    def name_refusal(self, name: str) -> str:
        """Why the engine cannot have a name that is not too long, empty where it can."""

    def columns(self, table: str) -> list[TableColumn] | None:
        """The table's columns, or None when there is no such table."""

    def columns_text(self, table: str) -> str:
        """Names and types of the table's columns as JSON pairs, to see whether they changed."""

    def create(self, table: str, layout: Layout) -> None:
        """Makes the table from the layout."""

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """Makes an empty table like another with the rules and unique indexes of that one."""

    def make_bare(self, table: str, copy: str) -> None:
        """Makes an empty table with the columns of another and no rules, to keep its rows in."""

    def drop(self, table: str) -> None:
        """Removes the table if it is there."""

    def swap(self, table: str, side_table: str, before: str) -> None:
        """Gives `table` the name `before` and `side_table` the name `table`, both or neither.

        Indexes of the old table that the new one lacks are made on it.
        """

    def ties(self, table: str) -> list[str]:
        """What would stay with the old table when another took its name, in words."""

    def indexes(self, table: str) -> list[TableIndex]:
        """Indexes that can be dropped and made again."""

    def drop_index(self, table: str, index: TableIndex) -> None:
        """Drops an index if it is there."""

    def restore_index(self, table: str, index: TableIndex) -> None:
        """Makes an index again unless it is there."""

    def continue_numbers(self, table: str, column: str) -> str:
        """Lets the engine's own numbers go on behind those that were stored.

        What a person must know where that cannot be done, else nothing.
        """


class Writer(Protocol):
    """One batch on its way into a table."""

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """Adds the good rows `start` to `stop` of a parsed chunk."""

    def close(self) -> Marks | None:
        """The batch is whole; its rows are in the open transaction when this returns.

        Returns what tells these rows from others, or None when the engine has no such thing.
        """


class Rows(Protocol):
    """The rows of tables: brought in, counted, told apart and removed."""

    marks_changes: bool  # Whether a row that was changed loses its mark.
    refuses_rows: bool  # Whether a row that fits its types may still not be taken.

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """Begins a batch of rows as the layout has them, of which the named fields are stored."""

    def empty(self, table: str) -> None:
        """Removes all rows."""

    def copy(
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


@dataclass(frozen=True)
class ReadBack:
    """How many rows were looked for in a table, and those of them that are not there."""

    looked_for: int = 0
    absent: tuple[dict[str, Any], ...] = ()


class Digests(Protocol):
    """Figures of rows, and looks at them, that show what a table holds."""

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """Column digests of all rows, or of the marked ones."""

    def hasher(self, table: str, names: Sequence[str]) -> RowHasher | None:
        """What hashes rows of these columns as the engine does; None where nothing here can."""

    def row_sum(
        self,
        table: str,
        names: Sequence[str],
        marks: Marks | None = None,
        uncommitted: bool = False,
    ) -> RowSum | None:
        """The sum of the hashes of all rows, or of the marked ones, where there is a hasher.

        `uncommitted` says that the open transaction has changed the table.
        """

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """A figure of all rows, or of marked ones, that a change of any cell changes.

        Where there are several ways to it, it comes by the one that made `like`.
        """

    def sum_as_fingerprint(self, table: str, names: Sequence[str], found: RowSum) -> str | None:
        """A sum of row hashes as the fingerprint of the same rows, where it is one."""

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """Looks for rows (a pyarrow Table with these columns), value by value, in the table.

        Rows that no field can find are not looked for, nor any where the engine cannot be asked.
        """
