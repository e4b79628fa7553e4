"""The rows of SQL targets: counted, copied, told apart and removed by statements."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

from splarn.core.layout import Layout
from splarn.core.target.marks import Marks
from splarn.core.target.tables import Tables, Writer
from splarn.engines.sql.link import Concern, Link


def between(value: str, marks: Marks) -> str:
    """The condition that holds for rows whose numbers, as an expression, are marked."""
    ranges = [f"{value} BETWEEN {first} AND {last}" for first, last in marks]
    return f"({' OR '.join(ranges)})" if ranges else "1 = 0"


class SqlRows(Concern, ABC):
    """Rows counted, copied and removed by statements."""

    # What of a changed row its mark tells.
    marks_changes = False
    refuses_rows = True
    # What an insert says so that given values of identity columns are stored.
    keeping_identity = ""

    def __init__(self, link: Link, tables: Tables) -> None:
        super().__init__(link)
        self.tables = tables

    @abstractmethod
    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows."""

    def empty(self, table: str) -> None:
        """See Rows."""
        with self.link.failing("Emptying the table", table):
            self.link.run(f"DELETE FROM {self.link.quoted(table)}")

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Rows."""
        where = "" if marks is None else f" WHERE {self.within(table, marks)}"
        with self.link.failing("Counting the rows of", table):
            return int(
                self.link.run(f"SELECT count(*) FROM {self.link.quoted(table)}{where}").value
            )

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows."""
        return True

    def last_mark(self, table: str) -> int | None:
        """See Rows."""
        return None

    def copy(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """See Rows."""
        if names is None:
            kept = {
                column.name for column in self.tables.columns(into) or () if not column.computed
            }
            names = [
                column.name for column in self.tables.columns(source) or () if column.name in kept
            ]
        listed = self.link.listed(names)
        with self.link.failing("Moving rows into", into):
            return self.marking(
                into,
                names,
                f"INSERT INTO {self.link.quoted(into)} ({listed}) {self.keeping_identity} "
                f"SELECT {listed} FROM {self.link.quoted(source)}",
            )

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """Runs an insert; how many rows it brought in, and their marks."""
        return int(self.link.run(statement).changed), None

    def remove(self, table: str, marks: Marks) -> int:
        """See Rows."""
        with self.link.failing("Removing rows from", table):
            where = self.within(table, marks)
            return int(
                self.link.run(f"DELETE FROM {self.link.quoted(table)} WHERE {where}").changed
            )

    @abstractmethod
    def within(self, table: str, marks: Marks) -> str:
        """The condition that holds for the marked rows."""

    def close(self) -> None:
        """Ends what is under way; comes before the connection is closed."""
