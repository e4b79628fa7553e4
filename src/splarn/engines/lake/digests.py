"""Figures of rows in a lake's files, read back from them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from splarn.core.lake.columns import LakeColumn, LakeHasher, row_sum, stored
from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest, add_digests, digest_table
from splarn.core.target.hashing import RowHasher, RowSum
from splarn.core.target.marks import Marks, marks_text
from splarn.core.target.tables import ReadBack
from splarn.engines.lake.link import LakeLink
from splarn.engines.lake.reading import count_of, found_in, tables_of
from splarn.engines.lake.tables import Concern


class LakeDigests(Concern):
    """Digests and row hashes, computed here from what the files hold."""

    def __init__(self, link: LakeLink) -> None:
        super().__init__(link)
        # Files never change: what was found of them once is so again.
        self._sums: dict[tuple[str, str, tuple[LakeColumn, ...]], RowSum] = {}

    def _columns(self, table: str, names: Sequence[str]) -> tuple[LakeColumn, ...]:
        known = {one.name: one for one in self.link.columns(table) or ()}
        return tuple(known[name] for name in names)

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests."""
        columns = self._columns(table, [field.name for field in fields])
        total: list[ColumnDigest] | None = None
        for rows in tables_of(self.link.storage, self.link.files(table), columns, marks):
            typed = rows
            for place, field in enumerate(fields):
                kind = field.arrow_type()
                if rows.column(place).type != kind:
                    typed = typed.set_column(place, field.name, rows.column(place).cast(kind))
            total = add_digests(total, digest_table(typed, fields))
        return total or [ColumnDigest(field.name) for field in fields]

    def hasher(self, table: str, names: Sequence[str]) -> RowHasher | None:
        """See Digests."""
        columns = self._columns(table, names)
        return None if any(one.arrow_type is None for one in columns) else LakeHasher(columns)

    def row_sum(
        self,
        table: str,
        names: Sequence[str],
        marks: Marks | None = None,
        uncommitted: bool = False,
    ) -> RowSum | None:
        """See Digests."""
        columns, storage = self._columns(table, names), self.link.storage
        total = RowSum()
        for one in self.link.files(table):
            if marks is not None and not count_of(storage, one, marks):
                continue
            # Rows of one load alone are all of the file's, whatever the marks.
            chosen = "" if marks is None or one.owner is not None else marks_text(marks)
            key = (one.file.path, chosen, columns)
            if key not in self._sums:
                found = RowSum()
                for rows in tables_of(storage, [one], columns, marks if chosen else None):
                    some = row_sum(rows)
                    if some is None:
                        return None
                    found = found.plus(some)
                self._sums[key] = found
            total = total.plus(self._sums[key])
        return total

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """See Digests. Files never change, so how many rows there are says it."""
        files = self.link.files(table)
        return f"rows:{sum(count_of(self.link.storage, one, marks) for one in files)}"

    def sum_as_fingerprint(self, table: str, names: Sequence[str], found: RowSum) -> str | None:
        """See Digests."""
        return None

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Digests. Floats are not looked at here."""
        names = [field.name for field in fields]
        columns = self._columns(table, names)
        wanted = stored(rows, columns)
        there = np.zeros(len(wanted), dtype=bool)
        for some in tables_of(self.link.storage, self.link.files(table), columns):
            there |= found_in(some, wanted, names)
            if there.all():
                break
        absent = wanted.filter(~there).to_pylist()
        return ReadBack(len(wanted), tuple(absent))
