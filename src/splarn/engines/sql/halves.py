"""Digests of a large table by two connections at once, each reading one half of the rows."""

from __future__ import annotations

from abc import ABC
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest, add_digests
from splarn.core.target.tables import Tables
from splarn.engines.sql.digests import SqlDigests
from splarn.engines.sql.link import Link
from splarn.engines.sql.rows import SqlRows


class HalvedDigests(SqlDigests, ABC):
    """For engines that give each statement one core; `reconnect` gives another connection."""

    # Rows from which on two connections read a table's digests in less time than one.
    worth_two = 200_000

    def __init__(
        self, link: Link, tables: Tables, rows: SqlRows, reconnect: Callable[[], Link]
    ) -> None:
        super().__init__(link, tables, rows)
        self.reconnect = reconnect

    def _halved(
        self, table: str, fields: Sequence[Field], one: str, other: str
    ) -> list[ColumnDigest]:
        """Digests of all rows, which two conditions divide; both connections must see the same."""
        with ThreadPoolExecutor(1) as beside:
            found = beside.submit(self._elsewhere, table, fields, one)
            return add_digests(self.where(table, fields, other), found.result())

    def _elsewhere(self, table: str, fields: Sequence[Field], where: str) -> list[ColumnDigest]:
        link = self.reconnect()
        try:
            return type(self)(link, self.tables, self.rows, self.reconnect).where(
                table, fields, where
            )
        finally:
            link.close()
