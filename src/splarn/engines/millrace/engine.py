"""Millrace, the simulated elastic engine: reached over HTTP, it reads and stores parts itself."""

from __future__ import annotations

import json

from sqlalchemy.engine import URL

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import to_descriptor
from splarn.core.target.session import Engine
from splarn.engines.millrace.files import MillraceFiles
from splarn.engines.millrace.link import MillraceLink
from splarn.engines.millrace.outgoing import MillraceOutgoing
from splarn.engines.millrace.parts import (
    MillraceClaims,
    MillraceCompute,
    MillraceDigests,
    MillraceNotes,
    MillraceRows,
    MillraceTables,
)
from splarn.engines.plain import PlainEngine, PlainSession

PORT = 27620


class MillraceEngine(PlainEngine):
    """A Millrace at an address. Its tables are made by loads; it knows no SQL."""

    name = "millrace"
    title = "Millrace"
    in_process = True
    reads_parts = True
    has_sizes = True

    def __init__(self, url: URL) -> None:
        if url.password or url.database:
            raise RequestError(
                "Millrace has neither users nor databases: write its URL like "
                f"millrace://127.0.0.1:{PORT}."
            )
        self.place = f"millrace://{url.host or '127.0.0.1'}:{url.port or PORT}"

    def connect(self) -> MillraceSession:
        """Opens a session. Raises OutsideError when it cannot be reached."""
        session = MillraceSession(self.place)
        try:
            session.compute.size()
        except BaseException:
            session.close()
            raise
        return session

    def ddl(self, table: str, layout: Layout) -> str:
        """What makes the table: Millrace takes a Table Schema in place of a statement."""
        step = {"do": "create", "table": table, "layout": to_descriptor(layout)}
        return json.dumps({"steps": [step], "commit": True}, indent=2, ensure_ascii=False)


class MillraceSession(PlainSession):
    """One connection; see Session."""

    def __init__(self, place: str) -> None:
        self.link = MillraceLink(place)
        self.tables = MillraceTables(self.link)
        self.rows = MillraceRows(self.link)
        self.digests = MillraceDigests(self.link)
        self.notes = MillraceNotes(self.link)
        self.claims = MillraceClaims(self.link)
        self.compute = MillraceCompute(self.link)
        self.files = MillraceFiles(self.link)
        self.outgoing = MillraceOutgoing(self.link)

    def version(self) -> str:
        """See Session."""
        from splarn.version import __version__

        return f"Millrace of Splarn {__version__}"

    def read(self, statement: str) -> int:
        """See Session."""
        raise RequestError(
            "Millrace knows no statements: people who read beside a load are in its physics, as "
            "millrace.readers."
        )

    def clock(self) -> float:
        """See Session."""
        return float(self.link.call("GET", "/compute")["clock"])

    def checkpoint(self) -> None:
        """See Session. Changes of tables belong to the transaction here."""


# The type checker holds the engine to the contract.
_KIND: type[Engine] = MillraceEngine
