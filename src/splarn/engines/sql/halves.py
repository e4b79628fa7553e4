"""Figures of a large table by two connections at once, each reading one half of the rows."""

from __future__ import annotations

from abc import ABC
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from splarn.core.layout import Field
from splarn.core.target.digest import ColumnDigest, add_digests
from splarn.core.target.marks import Marks
from splarn.core.target.tables import Tables
from splarn.engines.sql.digests import SqlDigests
from splarn.engines.sql.link import Link
from splarn.engines.sql.rows import SqlRows

Answer = TypeVar("Answer")


class HalvedDigests(SqlDigests, ABC):
    """For engines that give each statement one core; `reconnect` gives another connection."""

    # Rows from which on two connections read a table's digests in less time than one.
    worth_two = 200_000

    def __init__(
        self, link: Link, tables: Tables, rows: SqlRows, reconnect: Callable[[], Link]
    ) -> None:
        super().__init__(link, tables, rows)
        self.reconnect = reconnect

    def halves(self, table: str, fields: Sequence[Field]) -> tuple[str, str] | None:
        """Two conditions that divide a table's rows; None where they had better not be divided.

        Both connections must see the same rows.
        """
        return None

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests."""
        halves = None if marks is not None else self.halves(table, fields)
        if halves is None:
            return super().of_columns(table, fields, marks)
        one, other = halves
        return self._both(
            lambda digests: digests.where(table, fields, one),
            lambda: add_digests(None, self.where(table, fields, other)),
            add_digests,
        )

    def _both(
        self,
        elsewhere: Callable[[HalvedDigests], Answer],
        here: Callable[[], Answer],
        joined: Callable[[Answer, Answer], Answer],
    ) -> Answer:
        """What two connections find at once."""

        def asked() -> Answer:
            link = self.reconnect()
            try:
                return elsewhere(type(self)(link, self.tables, self.rows, self.reconnect))
            finally:
                link.close()

        with ThreadPoolExecutor(1) as beside:
            answer = beside.submit(asked)
            return joined(here(), answer.result())
