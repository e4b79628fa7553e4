"""The statement that brings one part in, with its values as the part and its layout have them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.source.places import key_of
from splarn.core.source.secrets import filled
from splarn.core.target.handover import HandedPart
from splarn.engines.described.description import Description
from splarn.engines.described.link import DescribedLink, quoting_of
from splarn.engines.described.tables import table_values
from splarn.engines.described.templates import Names, Written


def tag_of(load_id: str, part_id: str) -> str:
    """What tells a part of a load from all others, also from the same content in another load."""
    return f"{load_id}/{part_id}"


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
        self.codecs = known[layout.format]
        # Rows of the table so far, where one part comes after the other and they may be counted.
        self._there: int | None = None
        told = {str(name): one for name, one in description.statements.load.items()}
        self.statement = told[layout.format]

    def bring(self, link: DescribedLink, part: HandedPart, load_id: str = "") -> int:
        """Runs the statement in the open transaction; how many rows came in by the engine's word.

        Raises OutsideError where it fails, RequestError for what it cannot read or does not tell.
        """
        values = self.values(part, load_id)
        asked = self.description.statements.rows
        if not asked and not self.description.abilities.streams and self._there is None:
            self._there = self.count(link)
        # What a statement that fails has brought is not known, so all are counted again then.
        there, self._there = self._there, None
        with link.failing("Loading", part.path.name):
            answer = link.say(self.statement, **values)
            rows = answer.changed
            if asked:
                rows = int(link.say(asked, **table_values(self.table)).value)
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

    def count(self, link: DescribedLink) -> int:
        """All rows of the table."""
        answer = link.say(self.description.statements.count, **table_values(self.table))
        return int(answer.value)

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
            **table_values(self.table),
            "columns": Names(self.names),
            "address": self.address(part),
            "format": self.layout.format,
            "codec": self.description.codecs.get(part.codec, part.codec),
            "delimiter": dialect.delimiter,
            "quote": dialect.quote or "",
            "header": dialect.header,
            "null": null,
            "load_id": load_id,
            "part_id": part.part_id,
            "tag": tag_of(load_id, part.part_id),
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
