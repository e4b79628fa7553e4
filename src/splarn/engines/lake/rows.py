"""Rows of lake tables: into files, counted, and out again by their files."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from splarn.core.lake.columns import LakeColumn, stored
from splarn.core.layout import Layout
from splarn.core.reading.parsed import Parsed
from splarn.core.target.marks import Marks, joined
from splarn.core.target.tables import Writer
from splarn.engines.lake.changes import TableFile
from splarn.engines.lake.reading import count_of, owners_of, without
from splarn.engines.lake.tables import Concern


class LakeRows(Concern):
    """Rows, which are marked by the number of their load."""

    # Files never change: rows are there as they came, or not at all.
    marks_changes = True
    refuses_rows = False

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows."""
        writing, side = self.link.write_into(table)
        return LakeWriter(writing, side.columns, names, side.number)

    def empty(self, table: str) -> None:
        """See Rows."""
        change = self.link.change(table)
        change.empties, change.add = True, []

    def copy(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """See Rows. No row is copied: the files of one become files of the other too."""
        files = self.link.files(source)
        if self.link.before(into) is None:
            self.link.change(into).add += files
        rows = sum(one.file.rows for one in files)
        return rows, self._marks(files)

    def _marks(self, files: Sequence[TableFile]) -> Marks | None:
        owners = {owner for one in files for owner in owners_of(self.link.storage, one)}
        return joined(((owner, owner),) for owner in sorted(owners))

    def remove(self, table: str, marks: Marks) -> int:
        """See Rows."""
        change = self.link.change(table)
        removed = 0
        for one in self.link.files(table):
            mine = count_of(self.link.storage, one, marks)
            if not mine:
                continue
            removed += mine
            if one in change.add:
                change.add.remove(one)
            else:
                change.remove.add(one.file.path)
            if mine < one.file.rows:
                change.add.append(without(self.link.storage, one, marks))
        return removed

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Rows."""
        storage = self.link.storage
        return sum(count_of(storage, one, marks) for one in self.link.files(table))

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows."""
        return True

    def last_mark(self, table: str) -> int | None:
        """See Rows."""
        return None


class LakeWriter:
    """One batch; files go on over batches, and are whole when a part is."""

    def __init__(
        self, writing: Any, columns: Sequence[LakeColumn], names: Sequence[str], number: int
    ) -> None:
        self.writing, self.columns, self.names = writing, columns, list(names)
        self.number, self.rows = number, 0

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        rows = parsed.table.slice(start, stop - start).select(self.names)
        self.writing.put(stored(rows, self.columns))
        self.rows += stop - start

    def close(self) -> Marks | None:
        """See Writer."""
        return ((self.number, self.number),) if self.rows else ()
