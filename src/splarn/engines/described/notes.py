"""The notes of a described engine: the same table, in types and statements of its own."""

from __future__ import annotations

import time
from collections.abc import Sequence

import sqlalchemy as sa

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.target.names import join_name, schema_and_name
from splarn.core.target.notes import LoadNote, PartNote
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.tables import DescribedTables
from splarn.engines.sql.link import Answer
from splarn.engines.sql.notes import NOTES, SqlNotes, notes_table

# How often the notes' table is tried to be made where others do so too, and seconds between.
TRIES, PAUSE = 20, 0.1
# For how many seconds no further note may come before those that are missing are lost.
STILL = 3.0


class DescribedNotes(SqlNotes):
    """Notes in a table whose columns have the description's types."""

    link: DescribedLink

    def put_load(self, note: LoadNote) -> None:
        """See Notes. Not every driver tells how many rows an update found."""
        table = self.tables.canonical(note.table)
        schema = schema_and_name(table)[0]
        with self.link.failing("Noting a load into", note.table):
            self._make_notes(schema)
            notes = notes_table(schema)
            mine = (notes.c.load_id == note.load_id, notes.c.part_id == "")
            if self.link.execute(sa.select(notes.c.state).where(*mine)).rows:
                values = {"state": note.state, "details": note.details.text()}
                self.link.execute(notes.update().where(*mine).values(**values))
            else:
                self._insert_load(schema, table, note)

    def put_parts(self, parts: Sequence[PartNote]) -> None:
        """See Notes. One row at a time where an engine takes no more, and nothing is open."""
        try:
            super().put_parts(parts)
        except OutsideError:
            if len(parts) < 2 or self.link.description.abilities.transactions:
                raise
            noted = {note.part_id for note in self.parts([parts[0].load_id])}
            for note in parts:
                if note.part_id not in noted:
                    super().put_parts([note])

    def are_whole(self, table: str) -> bool:
        """See Notes. Where notes do not commit together, those of another load may be coming."""
        known, since = -1, time.monotonic()
        while not super().are_whole(table):
            if self.link.description.abilities.transactions:
                return False
            there = len(self.parts([note.load_id for note in self.loads(table)]))
            if there != known:
                known, since = there, time.monotonic()
            if time.monotonic() - since > STILL:
                return False
            time.sleep(PAUSE)
        return True

    def _make_notes(self, schema: str | None) -> None:
        if self._has_notes(schema):
            return
        sizes = {"load_id": 40, "part_id": 80, "table_name": 200, "name": 500, "state": 10,
                 "mode": 10, "started": 40}  # fmt: skip
        fields = [Field(name, required=True, max_length=size) for name, size in sizes.items()]
        fields += [
            Field(name, "integer", required=True)
            for name in ("position", "rows_in", "rows_refused")
        ]
        layout = Layout(NOTES, Dialect(), (*fields, Field("details")))
        named = join_name(schema, NOTES)
        self._create(named, layout, schema)
        if not self._note_columns(schema):
            raise RequestError(
                f"{named} was made, and statements.look of {self.link.description.path} does not "
                "see it: mend it (`splarn doctor --engine` tries all statements)."
            )
        self._notes_made.add(schema)
        self._insert(schema)

    def _create(self, named: str, layout: Layout, schema: str | None) -> None:
        """Makes the table; another load may do so at the same moment where none has a turn."""
        alone = bool(self.link.description.statements.turn)
        for left in range(TRIES - 1, -1, -1):
            try:
                DescribedTables(self.link).create(named, layout)
                if not alone:
                    self.link.commit()
                return
            except OutsideError:
                if not left or alone:
                    raise
                time.sleep(PAUSE)
                if self._note_columns(schema):
                    return

    def _moved_on(self, changed: Answer, now: PartNote) -> bool:
        """See SqlNotes. Where the driver does not tell, the note itself does."""
        if changed.changed >= 0:
            return changed.changed == 1
        notes = notes_table(schema_and_name(now.table)[0])
        mine = (notes.c.load_id == now.load_id, notes.c.part_id == now.part_id)
        asked = sa.select(notes.c.state, notes.c.position).where(*mine)
        found = [tuple(row) for row in self.link.execute(asked).rows]
        return found == [(now.state, now.position)]
