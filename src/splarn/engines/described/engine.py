"""An engine as its description has it: it reads parts itself, by statements."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import ClassVar

from sqlalchemy.engine import URL

from splarn.core.layout import Layout
from splarn.core.target.handover import Compute
from splarn.core.target.outgoing import Outgoing
from splarn.core.target.session import Engine
from splarn.engines.described.claims import DescribedClaims
from splarn.engines.described.compute import DescribedClock, DescribedCompute
from splarn.engines.described.description import Description
from splarn.engines.described.files import DescribedFiles
from splarn.engines.described.link import DescribedLink, quoting_of
from splarn.engines.described.looking_over import read_description
from splarn.engines.described.notes import DescribedNotes
from splarn.engines.described.promises import said_of
from splarn.engines.described.rows import DescribedDigests, DescribedRows
from splarn.engines.described.tables import DescribedTables, table_values, with_types
from splarn.engines.sql.outgoing import SqlOutgoing
from splarn.engines.sql.session import LinkSession


class DescribedEngine:
    """The engine of a description file; nothing is connected yet."""

    name = "described"
    in_process = True
    reads_parts = True
    gathers = False
    sets_aside = False
    # The URL's database is the description's path.
    is_file = True
    folders: tuple[Path, ...] = ()
    processes_here: tuple[str, ...] = ()
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "durability": ("full",),
        "indexes": ("keep",),
        "route": ("straight",),
    }

    def __init__(self, url: URL) -> None:
        """Raises RequestError where there is no description or it is wrong."""
        self.description: Description = read_description(Path(url.database or ""))
        self.place = self.description.engine.place
        self.title = self.description.engine.name

    @property
    def promises(self) -> tuple[str, ...]:
        """See Engine."""
        return tuple(said_of(self.description))

    @property
    def has_sizes(self) -> bool:
        """See Engine."""
        return bool(self.description.statements.size and self.description.statements.resize)

    def preload(self) -> None:
        """See Engine."""

    def connect(self) -> DescribedSession:
        """Opens a session. Raises OutsideError when the target cannot be reached."""
        return DescribedSession(self.description)

    def ddl(self, table: str, layout: Layout) -> str:
        """The statement that makes the table."""
        quoting = quoting_of(self.description)
        columns = with_types(self.description, quoting, layout)
        values = {**table_values(table), "columns_with_types": columns}
        return quoting.filled(self.description.statements.create, values).strip() + ";"


class DescribedSession(LinkSession):
    """One connection; see Session."""

    link: DescribedLink

    def __init__(self, description: Description) -> None:
        super().__init__(DescribedLink(description))
        self.tables = DescribedTables(self.link)
        self.rows = DescribedRows(self.link, self.tables)
        self.digests = DescribedDigests(self.link, self.tables)
        self.notes = DescribedNotes(self.link, self.tables)
        self._clock = DescribedClock(self.link)
        self.files = DescribedFiles(self.link, self.notes, self._clock)
        self.outgoing: Outgoing | None = SqlOutgoing(self.link, self.tables)
        self.claims = DescribedClaims(self.link, self.notes, self.files)
        sized = description.statements.size and description.statements.resize
        self.compute: Compute | None = DescribedCompute(self.link) if sized else None

    def version(self) -> str:
        """See Session."""
        answer = self.link.say(self.link.description.statements.version)
        return f"{self.link.description.engine.name}, {str(answer.value).partition(' on ')[0]}"

    def clock(self) -> float:
        """See Session."""
        return self._clock.now()

    def close(self) -> None:
        """See Session. Orders that were left open end with it."""
        self.files.break_off()
        super().close()
        self.claims.close()

    def checkpoint(self) -> None:
        """See Session."""
        if not self.link.description.abilities.tables_in_transactions:
            self.link.commit()


# The type checker holds the engine to the contract.
_KIND: type[Engine] = DescribedEngine
