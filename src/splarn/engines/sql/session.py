"""One session with an SQL target: the parts of the contract over one link."""

from __future__ import annotations

import time

from splarn.core.target.outgoing import Outgoing
from splarn.engines.plain import PlainSession
from splarn.engines.sql.claims import SqlClaims
from splarn.engines.sql.digests import SqlDigests
from splarn.engines.sql.link import Concern, Link
from splarn.engines.sql.notes import SqlNotes
from splarn.engines.sql.outgoing import SqlOutgoing
from splarn.engines.sql.rows import SqlRows
from splarn.engines.sql.tables import SqlTables


class LinkSession(PlainSession, Concern):
    """What every session with statements has over its link; see Session."""

    def read(self, statement: str) -> int:
        """See Session."""
        rows = len(list(self.link.run(statement).rows))
        # It may be none that only reads.
        self.link.rollback()
        return rows

    def clock(self) -> float:
        """See Session."""
        return time.perf_counter()


class SqlSession(LinkSession):
    """See Session. A server that is ours has the size it has, and is given rows."""

    version_function = "version()"
    compute = None
    files = None

    def __init__(
        self,
        link: Link,
        tables: SqlTables,
        rows: SqlRows,
        digests: SqlDigests,
        claims: SqlClaims,
        notes: SqlNotes | None = None,
        outgoing: SqlOutgoing | None = None,
    ) -> None:
        super().__init__(link)
        self.outgoing: Outgoing | None = outgoing
        self.tables, self.rows, self.digests, self.claims = tables, rows, digests, claims
        self.notes = notes or SqlNotes(link, tables)

    def version(self) -> str:
        """See Session."""
        told = str(self.link.run(f"SELECT {self.version_function}").value)
        return told.partition(" on ")[0]

    def checkpoint(self) -> None:
        """See Session. Changes of tables belong to the open transaction."""

    def close(self) -> None:
        """See Session."""
        self.rows.close()
        self.link.close()
        self.claims.close()
