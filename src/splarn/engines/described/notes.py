"""The notes of a described engine: the same table, in types and statements of its own."""

from __future__ import annotations

import sqlalchemy as sa

from splarn.core.errors import RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.target.names import join_name, schema_and_name
from splarn.core.target.notes import LoadNote, PartNote
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.tables import DescribedTables
from splarn.engines.sql.link import Answer
from splarn.engines.sql.notes import NOTES, SqlNotes, notes_table


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
        DescribedTables(self.link).create(named, layout)
        if not self._note_columns(schema):
            raise RequestError(
                f"{named} was made, and statements.look of {self.link.description.path} does not "
                "see it: mend it (`splarn doctor --engine` tries all statements)."
            )
        self._notes_made.add(schema)
        self._insert(schema)

    def _moved_on(self, changed: Answer, now: PartNote) -> bool:
        """See SqlNotes. Where the driver does not tell, the note itself does."""
        if changed.changed >= 0:
            return changed.changed == 1
        notes = notes_table(schema_and_name(now.table)[0])
        mine = (notes.c.load_id == now.load_id, notes.c.part_id == now.part_id)
        asked = sa.select(notes.c.state, notes.c.position).where(*mine)
        found = [tuple(row) for row in self.link.execute(asked).rows]
        return found == [(now.state, now.position)]
