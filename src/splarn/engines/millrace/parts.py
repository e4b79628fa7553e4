"""The parts of the contract, as Millrace answers them."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from typing import Any

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.layout.descriptor import from_descriptor, to_descriptor
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.handover import Size
from splarn.core.target.hashing import Unhashed
from splarn.core.target.marks import Marks
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.tables import LIKE, Likeness, ReadBack, TableColumn, Writer
from splarn.engines.millrace.documents import load_note, note_document, part_note
from splarn.engines.millrace.link import MillraceLink
from splarn.engines.plain import PlainTables

# How long a session waits for its turn with a table, and between two looks whether it has come.
PATIENCE, LOOK_EVERY = 120.0, 0.05
# How long it may take until a killed client is missed.
MISSED = 1.0


class Concern:
    """One part of the contract over a link."""

    def __init__(self, link: MillraceLink) -> None:
        self.link = link


class MillraceTables(PlainTables, Concern):
    """Its tables, which have neither indexes nor numbers of their own."""

    def canonical(self, table: str) -> str:
        """See Tables. A name is what it is."""
        return table

    def kind(self, table: str) -> str:
        """See Tables."""
        return "" if self.link.ask("columns", table=table) is None else "table"

    def longest_name(self) -> tuple[int, str] | None:
        """See Tables."""
        return None

    def name_refusal(self, name: str) -> str:
        """See Tables."""
        return ""

    def columns_text(self, table: str) -> str:
        """See Tables."""
        return json.dumps([[one.name, one.type] for one in self.columns(table) or ()])

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables."""
        layout = self.link.ask("columns", table=table)
        if layout is None:
            return None
        fields = from_descriptor(layout, table).fields
        return [
            TableColumn(field.name, "string" if field.is_text else field.type, not field.required)
            for field in fields
        ]

    def create(self, table: str, layout: Layout) -> None:
        """See Tables."""
        self.link.change("create", table=table, layout=to_descriptor(layout))

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables."""
        self.link.change("clone", table=table, copy=copy)

    def make_bare(self, table: str, copy: str) -> None:
        """See Tables."""
        self.link.change("clone", table=table, copy=copy)

    def drop(self, table: str) -> None:
        """See Tables."""
        self.link.change("drop", table=table)

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables."""
        self.link.change("swap", table=table, side_table=side_table, before=before)


class MillraceRows(Concern):
    """Its rows, which lie in chunks, one a part."""

    # A chunk is never changed: its rows are there as they came, or not at all.
    marks_changes = True
    refuses_rows = True

    def empty(self, table: str) -> None:
        """See Rows."""
        self.link.change("empty", table=table)

    def copy(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """See Rows. Which chunks the rows will be is known only after the commit."""
        answer = self.link.ask("pour", source=source, into=into)
        self.link.change("pour", source=source, into=into)
        return int(answer["rows"]), None

    def remove(self, table: str, marks: Marks) -> int:
        """See Rows."""
        removed = self.link.ask("remove", table=table, marks=marks)
        self.link.change("remove", table=table, marks=marks)
        return int(removed)

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Rows."""
        return int(self.link.ask("count", table=table, marks=marks))

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Rows. Every part is a chunk of its own."""
        return True

    def last_mark(self, table: str) -> int | None:
        """See Rows."""
        return None

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Rows. Raises RequestError: it reads files itself."""
        raise RequestError("Millrace takes whole files and no single rows: hand parts over to it.")


class MillraceDigests(Concern, Unhashed):
    """Digests, which it computes itself."""

    def of_columns(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Digests."""
        layout = to_descriptor(Layout(table, Dialect(), tuple(fields)))
        digests = self.link.ask("digest", table=table, layout=layout, marks=marks)
        return [ColumnDigest(**one) for one in digests]

    def fingerprint(self, table: str, marks: Marks | None = None, like: str = "") -> str:
        """See Digests. Chunks never change, so how many rows there are says it."""
        return f"rows:{MillraceRows(self.link).count(table, marks)}"

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Digests. It has no rules that could change a value, and no way to ask for one."""
        return ReadBack()


class MillraceNotes(Concern):
    """Its own notes, which nobody else writes."""

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """See Notes."""
        notes = self.link.ask("loads", table=table)
        return [load_note(*note) for note in notes]

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Notes."""
        notes = self.link.ask("parts", load_ids=list(load_ids))
        return [part_note(*note) for note in notes]

    def part(self, was: PartNote) -> PartNote | None:
        """See Notes."""
        found = [one for one in self.parts([was.load_id]) if one.part_id == was.part_id]
        return found[0] if found else None

    def put_load(self, note: LoadNote) -> None:
        """See Notes."""
        kept = [note.load_id, note.table, note.state, note.mode, note.started, note.details.text()]
        self.link.change("note_load", note=kept)

    def put_parts(self, parts: Sequence[PartNote]) -> None:
        """See Notes."""
        for note in parts:
            self.link.change("note_part", note=note_document(note))

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Notes."""
        self.link.change("advance", was=note_document(was), now=note_document(now))

    def forget(self, table: str) -> None:
        """See Notes."""
        self.link.change("forget", table=table)

    def are_whole(self, table: str) -> bool:
        """See Notes. Nobody but Millrace itself writes its notes."""
        return True

    def renew(self, table: str) -> None:
        """See Notes."""


class MillraceClaims(Concern):
    """Holds, which end when the connection that took them does."""

    def take_turn(self, table: str) -> None:
        """See Claims. Raises OutsideError when others do not leave the table for long."""
        until = time.monotonic() + PATIENCE
        while not self.link.take(f"table {table}"):
            if time.monotonic() > until:
                raise OutsideError(
                    f"Another load has held {table} of {self.link.place} for {PATIENCE:.0f} s: "
                    "wait for it to end, or stop it."
                )
            time.sleep(LOOK_EVERY)

    def end_turn(self, table: str) -> None:
        """See Claims."""
        self.link.call("POST", f"/holds/{self.link.holder}", {"leave": f"table {table}"})

    def claim(self, load_id: str) -> bool:
        """See Claims. One that was killed just now may not have been missed yet."""
        until = time.monotonic() + MISSED
        while not self.link.take(f"load {load_id}"):
            if time.monotonic() > until:
                return False
            time.sleep(LOOK_EVERY)
        return True

    def await_batches(self, load_id: str) -> None:
        """See Claims. Parts that are at work come to their end, no others begin."""
        self.link.broken_off.set()
        self.link.call("DELETE", f"/loads/{load_id}")


class MillraceCompute(Concern):
    """Its compute."""

    def size(self) -> Size:
        """See Compute."""
        compute = self.link.call("GET", "/compute")
        return Size(compute["tier"], tuple(compute["tiers"]), compute["state"] == "running")

    def resize(self, tier: str) -> None:
        """See Compute."""
        self.link.call("PUT", "/compute", {"tier": tier})
