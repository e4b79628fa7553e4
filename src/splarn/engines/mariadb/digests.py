"""MariaDB's digests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import ClassVar

from splarn.core import kernel
from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import RowHasher, RowSum
from splarn.core.target.marks import Marks
from splarn.engines.mariadb.hashing import MariadbHasher, can_hash
from splarn.engines.mariadb.tables import MariadbTables
from splarn.engines.sql.digests import OWN
from splarn.engines.sql.halves import HalvedDigests


class MariadbDigests(HalvedDigests):
    """Digests as the server computes them."""

    sums: ClassVar[Mapping[str, str]] = {
        # Days and seconds since the year 0; those of 1970 are taken off.
        "date": "to_days({}) - 719528",
        "datetime": "to_seconds({}) - 62167219200",
        "time": "floor(time_to_sec({}))",
    }

    tables: MariadbTables

    def text_bytes(self, column: str) -> str:
        """See SqlDigests. A column may keep text in another encoding."""
        if column in self.tables.encoded_otherwise:
            column = f"convert({column} USING utf8mb4)"
        return f"length({column})"

    def hash_name(self) -> str:
        """See Digests."""
        return "mariadb-crc32"

    def hashed_cell(self, column: str, declared: str) -> str:
        """See SqlDigests. A null is written as a byte that no UTF-8 has."""
        return f"ifnull(cast({column} AS BINARY), 0xFE)"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See Digests. Between cells is a byte that no UTF-8 has."""
        return f"crc32(concat_ws(0xFF, {', '.join(columns)}))"

    def hasher(self, table: str, names: Sequence[str]) -> RowHasher | None:
        """See Digests."""
        declared = dict(self.declared(table))
        self.tables.look_at_encodings(table)
        known = all(
            can_hash(declared.get(name, ""))
            and self.link.quoted(name, dotted=False) not in self.tables.encoded_otherwise
            for name in names
        )
        if not kernel.available() or not known:
            return None
        return MariadbHasher({name: declared[name] for name in names})

    def row_sum(
        self,
        table: str,
        names: Sequence[str],
        marks: Marks | None = None,
        uncommitted: bool = False,
    ) -> RowSum | None:
        """See Digests."""
        declared = dict(self.declared(table))
        chosen = [(name, declared[name]) for name in names]
        if marks is not None:
            return self.summed(table, chosen, self.rows.within(table, marks))
        whole = [Field(name, "integer") for name, kind in chosen if "int" in kind]
        # Another connection would not see what this one has changed.
        halves = None if uncommitted else self.halves(table, whole)
        if halves is None:
            return self.summed(table, chosen, None)
        one, other = halves
        return self._both(
            lambda digests: digests.summed(table, chosen, one),
            lambda: self.summed(table, chosen, other),
            RowSum.plus,
        )

    def sum_as_fingerprint(self, table: str, names: Sequence[str], found: RowSum) -> str | None:
        """See Digests."""
        declared = [name for name, _ in self.declared(table)]
        return f"{self.hash_name()}:{found.total}" if declared == list(names) else None

    def as_text(self, column: str) -> str:
        """See Digests."""
        return f"cast({column} AS BINARY)"

    def own_table(self, query: str, key: Field) -> str:
        """See Digests. Without an index each row would be held against each."""
        column = f"{self.link.quoted(key.name, dotted=False)}{'(60)' if key.is_text else ''}"
        return f"CREATE TEMPORARY TABLE {self.link.quoted(OWN)} (INDEX ({column})) AS {query}"

    def drop_own(self) -> None:
        """See Digests."""
        with suppress(Exception):
            self.link.run(f"DROP TEMPORARY TABLE IF EXISTS {self.link.quoted(OWN)}")

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests."""
        self.tables.look_at_encodings(table)
        return super().of_columns(table, fields, marks)

    def halves(self, table: str, fields: Sequence[Field]) -> tuple[str, str] | None:
        """See HalvedDigests. Rows of even and of odd numbers.

        The server gives each statement one core, and most of the time goes into its expressions.
        """
        whole = next((field.name for field in fields if field.type == "integer"), None)
        if whole is None or self.tables.about(table) < self.worth_two:
            return None
        even = f"(mod({self.link.quoted(whole, dotted=False)}, 2) = 0)"
        return f"{even} IS TRUE", f"{even} IS NOT TRUE"
