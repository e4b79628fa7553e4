"""The statement that brings one part in, with its values as the part and its layout have them."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Layout
from splarn.core.reading.faults import ENGINE, Fault
from splarn.core.source.places import key_of
from splarn.core.source.secrets import filled
from splarn.core.target.handover import HandedPart
from splarn.core.target.notes import PartNote
from splarn.engines.described.description import Description
from splarn.engines.described.link import DescribedLink, quoting_of
from splarn.engines.described.rows import DescribedRows, mark_of, marks_of
from splarn.engines.described.tables import DescribedTables, table_values
from splarn.engines.described.templates import Names, Written
from splarn.engines.sql.link import Answer

# How long a statement is waited for whose client is gone, in seconds.
PATIENCE = 600.0


def tag_of(load_id: str, part_id: str) -> str:
    """What tells a part of a load from all others, also from the same content in another load."""
    return f"{load_id}/{part_id}"


def part_values(note: PartNote, table: str = "") -> dict[str, Any]:
    """What statements about one part may say of it; its table is that of the load, if not given."""
    return {
        **table_values(table or note.table),
        "load_id": note.load_id,
        "part_id": note.part_id,
        "tag": tag_of(note.load_id, note.part_id),
        "mark": mark_of(note.load_id),
    }


def await_statement(link: DescribedLink, note: PartNote, table: str = "") -> None:
    """Waits until no statement of a client that is gone still brings a part in.

    Raises OutsideError where that takes longer than PATIENCE. Where no statement tells, the
    promises say so.
    """
    statement = link.description.statements.under_way
    until, pause = time.monotonic() + PATIENCE, 0.05
    while statement:
        with link.failing("Asking what is under way of", note.name):
            answer = link.say(statement, **part_values(note, table))
            running = link.number("statements.under_way", answer)
            link.commit()
        if not running:
            return
        if time.monotonic() > until:
            raise OutsideError(
                f"{link.place} is still bringing {note.name} into {note.table} by a statement "
                "whose client is gone: give the same command again when it has ended."
            )
        time.sleep(pause)
        pause = min(2 * pause, 2.0)


class Bringing:
    """Parts of one layout into one table. Raises RequestError for a format that is not read."""

    def __init__(
        self, description: Description, table: str, layout: Layout, names: tuple[str, ...]
    ) -> None:
        self.description, self.table = description, table
        self.layout, self.names = layout, names
        known = {str(name): codecs for name, codecs in description.abilities.formats.items()}
        if layout.format not in known:
            raise RequestError(
                f"{description.engine.name} reads {', '.join(known)} by {description.path}, and no "
                f"{layout.format}: make the parts of one of these."
            )
        left = [name for name in layout.names if name not in names]
        if left and layout.format == "csv":
            # It goes by the order of values, and would put them into other columns.
            raise RequestError(
                f"{description.engine.name} brings in every column of a CSV part, and {left[0]} is "
                "to stay out: make parts without it, or of Parquet, whose columns go by name."
            )
        self.codecs = known[layout.format]
        # Rows of the table so far, where one part comes after the other and they may be counted.
        self._there: int | None = None
        told = {str(name): one for name, one in description.statements.load.items()}
        self.statement = told[layout.format]
        # The same, where bad rows are left out; empty where they cannot be.
        self.aside = {str(name): one for name, one in description.statements.aside.items()}.get(
            layout.format, ""
        )

    def bring(
        self, link: DescribedLink, part: HandedPart, load_id: str = "", leaving: bool = False
    ) -> int:
        """Runs the statement in the open transaction; how many rows came in by the engine's word.

        Bad rows may be left out where `leaving` says so and there is a statement for it.
        Raises OutsideError where it fails, RequestError for what it cannot read or does not tell.
        """
        values = self.values(part, load_id)
        asked = self.description.statements.rows
        if not asked and not self.description.abilities.streams and self._there is None:
            self._there = self.count(link)
        # What a statement that fails has brought is not known, so all are counted again then.
        there, self._there = self._there, None
        with link.failing("Loading", part.path.name):
            answer = link.say(self.aside if leaving and self.aside else self.statement, **values)
            rows = answer.changed
            if asked:
                rows = link.number("statements.rows", link.say(asked, **table_values(self.table)))
        if there is not None:
            # A driver that does not tell is asked for all rows; nobody else brings any.
            rows = self.count(link) - there if rows < 0 else rows
            self._there = there + rows
        if rows < 0:
            raise RequestError(
                "The driver does not tell how many rows statements.load of "
                f"{self.description.path} brought in: add statements.rows, which asks for them, "
                "or say abilities.streams = false, so that they can be counted."
            )
        return rows

    def part_values(self, part_id: str, load_id: str) -> dict[str, Any]:
        """What statements about one part may say of it."""
        return part_values(PartNote(load_id, part_id, "", "open", 0, 0, 0), self.table)

    def asked(self, link: DescribedLink, statement: str, part: HandedPart, load_id: str) -> Answer:
        """What the engine tells of a part."""
        values = self.part_values(part.part_id, load_id)
        with link.failing("Asking the history of", part.path.name):
            return link.say(statement, address=self.address(part), **values)

    def refused(self, link: DescribedLink, part: HandedPart, load_id: str) -> tuple[Fault, ...]:
        """The rows of a part that were left out. Raises OutsideError for an answer that is none."""
        if not self.aside:
            return ()
        statement = self.description.statements.refused
        answer = self.asked(link, statement, part, load_id)
        try:
            return tuple(_fault(str(part.path), row) for row in answer.rows)
        except (ValueError, TypeError, IndexError):
            wanted = "row, field, reason and record of each row"
            raise link.unreadable("statements.refused", wanted, answer) from None

    def times(
        self, link: DescribedLink, part: HandedPart, load_id: str
    ) -> tuple[float, float, float] | None:
        """When a part was queued, started and finished by the engine's clock; None if unknown."""
        statement = self.description.statements.times
        if not statement:
            return None
        answer = self.asked(link, statement, part, load_id)
        if not answer.rows or None in answer.rows[0]:
            return None
        try:
            queued, started, finished = (float(value) for value in answer.rows[0])
        except (ValueError, TypeError):
            wanted = "three numbers of seconds (queued, started, finished)"
            raise link.unreadable("statements.times", wanted, answer) from None
        return queued, started, finished

    def count(self, link: DescribedLink, load_id: str = "") -> int:
        """All rows of the table, or those of a load where they can be told."""
        marks = marks_of(self.description, load_id) if load_id else None
        if marks is not None:
            return DescribedRows(link, DescribedTables(link)).count(self.table, marks)
        answer = link.say(self.description.statements.count, **table_values(self.table))
        return link.number("statements.count", answer)

    def values(self, part: HandedPart, load_id: str) -> dict[str, Any]:
        """What the statement may say of a part."""
        dialect = self.layout.dialect
        if part.codec.partition("+")[0] not in self.codecs:
            raise RequestError(
                f"{self.description.engine.name} reads {self.layout.format} packed with "
                f"{', '.join(self.codecs)} by {self.description.path}, and {part.path.name} is "
                f"packed with {part.codec}: make the parts with one of these."
            )
        null = next(iter(dialect.null_markers), "")
        return {
            **self._each(null),
            **self.part_values(part.part_id, load_id),
            "columns": Names(self.names),
            "address": self.address(part),
            "format": self.layout.format,
            "codec": self.description.codecs.get(part.codec, part.codec),
            "delimiter": dialect.delimiter,
            "quote": dialect.quote or "",
            "header": dialect.header,
            "null": null,
        }

    def _each(self, null: str) -> dict[str, Any]:
        """The description's own values, each written once a column."""
        quoting, told = quoting_of(self.description), {}
        kinds = {field.name: field.type for field in self.layout.fields}
        for name, template in self.description.each.items():
            pieces = []
            for number, column in enumerate(self.names, 1):
                values = {
                    "column": Written(quoting.name(column)),
                    "variable": Written(f"@column_{number}"),
                    "null": null,
                }
                kind = kinds[column]
                chosen = template
                if isinstance(template, dict):
                    chosen = template.get(kind, template.get("other", ""))
                pieces.append(quoting.filled(str(chosen), values))
            told[name] = Written(", ".join(pieces))
        return told

    def address(self, part: HandedPart) -> str:
        """Where the engine finds a part."""
        reads, name = self.description.abilities.reads, self.description.engine.name
        if isinstance(part.path, Path):
            if "file" not in reads:
                raise RequestError(
                    f"{name} reads {', '.join(reads)} and no files of this machine: name a depot "
                    "of such a kind with --depot or target.depot."
                )
            return str(part.path.resolve())
        address = filled(key_of(part.path), str(part.path))
        scheme = address.partition(":")[0]
        if scheme not in reads:
            raise RequestError(
                f"{name} reads {', '.join(reads)} by {self.description.path}, and no address of "
                f"the kind {scheme}: name another depot."
            )
        return address


def _fault(path: str, row: Sequence[Any]) -> Fault:
    """A row that was left out, as the engine tells of it: line, field, reason, record."""
    line, field, reason, record = row
    return Fault(
        path, int(line), int(line), None if field is None else str(field), ENGINE, None,
        str(reason), "" if record is None else str(record),
    )  # fmt: skip
