"""One batch for MariaDB, flowing into LOAD DATA LOCAL while it is made."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from splarn.core.errors import RefusedError
from splarn.core.marks import Marks
from splarn.core.reading.parsed import Parsed
from splarn.engines.tabbed import tabbed

if TYPE_CHECKING:
    from splarn.engines.mariadb import MariadbSession


class LoadDataWriter:
    """One batch, flowing into LOAD DATA LOCAL while it is made."""

    def __init__(self, session: MariadbSession, table: str, names: Sequence[str]) -> None:
        self.session = session
        self.table = table
        self.names = list(names)
        self.marked = session.can_mark(table, self.names)
        listed = session.listed(names)
        # NO_BACKSLASH_ESCAPES is about SQL; in the data a backslash escapes, as `tabbed` writes it.
        self.into = (
            f"INTO TABLE {session.quoted(table)} CHARACTER SET utf8mb4 "
            f"FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' ({listed})"
        )
        self.rows = 0

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        rows = parsed.table.slice(start, stop - start)
        data = tabbed(rows.select(self.names), "1", "0")
        with self.session.failing("Writing to", self.table):
            if not self.rows:
                self.session.flow(self.into)
            self.rows += stop - start
            assert self.session.flowing is not None
            self.session.flowing.write(data)

    def close(self) -> Marks | None:
        """See Writer."""
        if not self.rows:
            return () if self.marked else None
        with self.session.failing("Writing to", self.table):
            done = self.session.end_flow()
        # What a LOCAL load cannot store it drops or bends, with a mere warning.
        if done.warning is not None or done.stored != self.rows:
            what = done.warning or f"only {done.stored:,} of {self.rows:,} rows were stored"
            self.session.rollback()
            raise RefusedError(
                f"Writing to {self.table} failed in {self.session.engine.place}: {what}; nothing "
                "of the open batch was kept.",
                what,
            )
        return ((done.first, done.first + self.rows - 1),) if self.marked else None
