"""Rows that are to come beside a table of a lake: in what columns and files."""

from __future__ import annotations

import secrets
from dataclasses import replace

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.columns import LakeColumn, columns_of
from splarn.core.layout import Layout
from splarn.core.layout.file_layout import FileLayout, check_columns
from splarn.engines.lake.book import Side
from splarn.engines.lake.link import LakeLink


def begun(link: LakeLink, name: str, layout: Layout | None = None) -> Side:
    """A place for the rows of the load that names it, in files as its table has them.

    With a `layout` they are to take the table's place, with columns of their own.
    Raises RequestError where the table's files cannot be laid out as is wanted.
    """
    note = link.owner_of(name)
    if note is None:
        raise OutsideError(f"No load into {link.place} has rows beside its table in {name}.")
    table = note.table
    found, kept = link.table(table), link.layout(table)
    wanted = kept if link.wanted is None else link.wanted
    differs = any(
        theirs and theirs != ours
        for theirs, ours in ((wanted.partition, kept.partition), (wanted.sort, kept.sort))
    )
    spec: int | None = None
    if layout is None and not differs:
        # Columns of kinds that nothing here writes stay empty in new files.
        columns = tuple(one for one in link.columns(table) or () if one.arrow_type is not None)
        spec = 0 if found is None else found.spec
        made = replace(wanted, partition=kept.partition, sort=kept.sort)
    elif layout is None and not note.details.swaps:
        raise RequestError(
            f"The table {table} has its files {kept.text()}, and they were to be {wanted.text()}: "
            "give --table-mode replace, or leave --file-layout out."
        )
    else:
        columns = _renewed(link, table, layout)
        fits = layout is None or set(kept.columns) <= set(layout.names)
        made = wanted if fits or link.wanted is not None else FileLayout()
        check_columns(made, [one.field() for one in columns])
    number = secrets.randbits(62)
    return Side(name, table, note.load_id, number, columns, made, link.folder(table), spec)


def _renewed(link: LakeLink, table: str, layout: Layout | None) -> tuple[LakeColumn, ...]:
    """Columns in place of a table's own, numbered behind all that it ever had."""
    found = link.table(table)
    if layout is None:
        return link.columns(table) or ()
    first = 1 if found is None else int(found.found.metadata.last_column_id) + 1
    return columns_of(layout.fields, first)
