"""What a target whose tables are files is asked for when small files are to become larger ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from splarn.core.layout.file_layout import FileLayout
from splarn.core.target.marks import Marks


@dataclass(frozen=True)
class SeenFile:
    """A file of a table. `partition` is as people write it, as `taken_month=2031-04`; empty where
    the table has none, and `values` as the target has it. `added` is when it came in, in seconds
    since 1970."""

    path: str
    rows: int
    bytes: int
    partition: str
    added: float
    values: tuple[Any, ...] = ()


@dataclass(frozen=True)
class MergeOrder:
    """Files of one partition whose rows are to be written anew, in files of about `file_bytes`.

    With `sort` in the order of some columns, else in that of the files. `basis` is what the target
    knows of the table, so that whoever merges need not ask again.
    """

    table: str
    files: tuple[SeenFile, ...]
    file_bytes: int
    sort: tuple[str, ...] = ()
    basis: Any = None

    @property
    def way(self) -> str:
        """In what files, and in what order, as one name."""
        return f"{self.file_bytes} {' '.join(self.sort)}"

    @property
    def bytes(self) -> int:
        """What there is to read."""
        return sum(one.bytes for one in self.files)

    @property
    def rows(self) -> int:
        """The rows in all files."""
        return sum(one.rows for one in self.files)


@dataclass(frozen=True)
class Merged:
    """Files that hold the rows of others: the paths of those, and paths, rows and bytes of these.

    `way` is that of the order, and `kept` is where the target notes it until it is committed.
    """

    inputs: tuple[str, ...]
    outputs: tuple[tuple[str, int, int], ...]
    way: str
    kept: str

    @property
    def bytes(self) -> int:
        """Bytes of the new files."""
        return sum(size for _, _, size in self.outputs)


@dataclass(frozen=True)
class Tried:
    """What merging a little of a table took: bytes read and written, seconds, and seconds to open
    one file."""

    read: int
    written: int
    seconds: float
    opening: float


@dataclass(frozen=True)
class Leftover:
    """What may be removed of a table, and what goes with it.

    `snapshots` are numbers of states of the table from before, `files` those that only they have or
    that nothing has. `loads` can no longer be taken back then.
    """

    snapshots: tuple[int, ...]
    oldest: float
    newest: float
    files: tuple[str, ...]
    bytes: int
    loads: tuple[str, ...] = ()


@dataclass(frozen=True)
class TableState:
    """What a table held at one time: since when, in seconds since 1970, and by what.

    `loads` are those that came in or went with it, `what` is `loaded`, `compacted`, `taken back`,
    or what somebody else did. `names` keep it.
    """

    number: int
    since: float
    what: str
    loads: tuple[str, ...]
    rows: int
    files: int
    bytes: int
    names: tuple[str, ...]
    now: bool


class Merging(Protocol):
    """Files of tables. All raise OutsideError when the target fails."""

    def files(self, table: str) -> list[SeenFile]:
        """The files of a table as it is now."""

    def layout(self, table: str) -> FileLayout:
        """How a table's files are laid out."""

    def basis(self, table: str) -> Any:
        """What merging has to know of a table, for other processes too."""

    def merge(self, order: MergeOrder) -> Merged:
        """Writes new files, which are held against the old ones; the table has them not yet."""

    def kept(self, table: str) -> list[Merged]:
        """What was merged before and not committed, of files that are all still there.

        The rest of it is removed.
        """

    def commit(self, table: str, merged: Sequence[Merged]) -> list[Merged]:
        """Puts new files in the place of old ones, by one commit; those for which it did.

        Files of which some are gone meanwhile stay as they are, and so does what others added.
        """

    def try_out(self, order: MergeOrder) -> Tried:
        """Merges a little, and leaves nothing behind."""

    def give_way(self, table: str, side_table: str) -> None:
        """Takes the rows out of a table that are in partitions of which others are to come."""

    def in_the_way(self, table: str, side_table: str) -> int:
        """How many rows that would be."""

    def give_back(self, table: str, before: str, marks: Marks, act: bool) -> int:
        """How many rows marked ones took the place of, by whole partitions; brings them back if
        `act` says so."""

    def history(self, table: str) -> list[TableState]:
        """The states of a table that can still be reached, oldest first."""

    def old_states(self, table: str, before: float) -> Leftover:
        """States of the table that were over by then, but for those that a name keeps."""

    def strays(self, table: str, before: float) -> Leftover:
        """Files in the table's folder that no state of it has, written before then."""

    def remove(self, table: str, leftover: Leftover) -> None:
        """Removes them for good."""
