"""MariaDB's rows: LOAD DATA LOCAL from a pipe that is filled while the server reads."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from splarn.core.errors import RefusedError
from splarn.core.layout import Layout
from splarn.core.reading.parsed import Parsed
from splarn.core.target.marks import Marks
from splarn.core.target.tables import Writer
from splarn.core.units import plural
from splarn.core.work.stages import stage
from splarn.engines.mariadb.pipe import Flow
from splarn.engines.mariadb.tables import MariadbTables
from splarn.engines.sql.link import Link
from splarn.engines.sql.rows import SqlRows, between
from splarn.engines.sql.tabbed import tabbed


class MariadbRows(SqlRows):
    """Rows, which are marked by the numbers that the engine gives them, where it does."""

    tables: MariadbTables

    def __init__(self, link: Link, tables: MariadbTables) -> None:
        super().__init__(link, tables)
        self.flowing: Flow | None = None
        link.before_rollback.append(self._give_up)

    def _give_up(self) -> None:
        """What is under way is ended first; its rows go too."""
        if self.flowing is not None:
            with suppress(Exception):
                self.end_flow()

    def close(self) -> None:
        """See SqlRows."""
        if self.flowing is not None:
            self.link.rollback()

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows."""
        return LoadDataWriter(self, table, names)

    def flow(self, into: str) -> None:
        """Begins a LOAD DATA LOCAL in the open transaction."""
        self.link.begin()
        self.flowing = Flow(self.link.driver, into)

    def end_flow(self) -> Flow:
        """Ends the LOAD DATA LOCAL under way, all of it being handed on."""
        done, self.flowing = self.flowing, None
        assert done is not None, "no load is under way"
        done.end()
        return done

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows. Only by the numbers that the engine gives out, one after the other."""
        if self.tables.identity(table) in (None, *names):
            return False
        # In mode 2 the numbers of two statements at once may mingle; with steps of more than one
        # they have gaps that another server fills.
        settings = self.link.run("SELECT @@innodb_autoinc_lock_mode, @@auto_increment_increment")
        mode, step = settings.rows[0]
        return int(mode) < 2 and int(step) == 1

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """See Rows."""
        done = self.link.run(statement)
        rows = int(done.changed)
        if not self.can_mark(table, names):
            return rows, None
        first = done.last_number
        assert first is not None, "the engine numbers the rows of this table"
        return rows, ((first, first + rows - 1),) if rows else ()

    def within(self, table: str, marks: Marks) -> str:
        """See Rows."""
        return between(self.link.quoted(self.tables.identity(table) or "", dotted=False), marks)


class LoadDataWriter:
    """One batch, flowing into LOAD DATA LOCAL while it is made."""

    def __init__(self, rows: MariadbRows, table: str, names: Sequence[str]) -> None:
        self.target = rows
        self.table = table
        self.names = list(names)
        self.marked = rows.can_mark(table, self.names)
        listed = rows.link.listed(names)
        # NO_BACKSLASH_ESCAPES is about SQL; in the data a backslash escapes, as `tabbed` writes it.
        self.into = (
            f"INTO TABLE {rows.link.quoted(table)} CHARACTER SET utf8mb4 "
            f"FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' ({listed})"
        )
        self.rows = 0

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        """See Writer."""
        taken = parsed.table.slice(start, stop - start)
        with stage("encode"):
            data = tabbed(taken.select(self.names), "1", "0")
        with self.target.link.failing("Writing to", self.table):
            if not self.rows:
                self.target.flow(self.into)
            self.rows += stop - start
            assert self.target.flowing is not None
            self.target.flowing.write(data)

    def close(self) -> Marks | None:
        """See Writer."""
        if not self.rows:
            return () if self.marked else None
        with self.target.link.failing("Writing to", self.table):
            done = self.target.end_flow()
        # What a LOCAL load cannot store it drops or bends, with a mere warning.
        if done.warning is not None or done.stored != self.rows:
            reason = (
                done.warning or f"only {done.stored:,} of {plural(self.rows, 'row')} were stored"
            )
            self.target.link.rollback()
            raise RefusedError(
                f"Writing to {self.table} failed in {self.target.link.place}: {reason}; nothing "
                "of the open batch was kept.",
                reason,
            )
        return ((done.first, done.first + self.rows - 1),) if self.marked else None
