"""Tables of a lake, and rows beside them."""

from __future__ import annotations

import json

from splarn.core.lake.columns import columns_of
from splarn.core.layout import Layout
from splarn.core.target.names import join_name, schema_and_name
from splarn.core.target.tables import LIKE, Likeness, TableColumn
from splarn.engines.lake.beside import begun
from splarn.engines.lake.catalog import USUAL
from splarn.engines.lake.link import LakeLink
from splarn.engines.plain import PlainTables


class Concern:
    """One part of the contract over a link."""

    def __init__(self, link: LakeLink) -> None:
        self.link = link


class LakeTables(PlainTables, Concern):
    """Tables, which have neither indexes nor rules, and whose names count upper and lower case."""

    def canonical(self, table: str) -> str:
        """See Tables."""
        space, bare = schema_and_name(table)
        return join_name(None if space == USUAL else space, bare)

    def kind(self, table: str) -> str:
        """See Tables."""
        return "" if self.link.columns(table) is None else "table"

    def longest_name(self) -> tuple[int, str] | None:
        """See Tables."""
        return None

    def name_refusal(self, name: str) -> str:
        """See Tables."""
        return ""

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables."""
        found = self.link.columns(table)
        if found is None:
            return None
        return [TableColumn(one.name, one.field_type, not one.required) for one in found]

    def columns_text(self, table: str) -> str:
        """See Tables."""
        return json.dumps([[one.name, one.type] for one in self.link.columns(table) or ()])

    def create(self, table: str, layout: Layout) -> None:
        """See Tables. One beside another takes its place later, with columns of its own."""
        if self.link.owner_of(table) is not None:
            self.link.begin_side(begun(self.link, table, layout))
            return
        wanted = self.link.check_wanted(layout)
        change = self.link.change(table)
        change.create = (columns_of(layout.fields, 1), wanted)
        change.location = self.link.catalog.new_location(table)

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables."""
        if self.link.owner_of(copy) is not None:
            self.link.begin_side(begun(self.link, copy))
            return
        change = self.link.change(copy)
        change.create = (self.link.columns(table) or (), self.link.layout(table))
        change.location = self.link.catalog.new_location(copy)

    def make_bare(self, table: str, copy: str) -> None:
        """See Tables. The table as it is now, which is only to be kept."""
        self.link.change(table).keep.add(copy)

    def drop(self, table: str) -> None:
        """See Tables."""
        if self.link.side(table) is not None:
            self.link.drop_side(table)
            return
        before = self.link.before(table)
        if before is not None:
            self.link.change(before[0].name).let_go.add(table)
        elif self.link.table(table) is not None:
            self.link.change(table).drop = True

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables."""
        change, side = self.link.change(table), self.link.side(side_table)
        was = self.link.before(side_table)
        if was is not None:
            # Its own place is taken back, and what came after is not kept.
            change.back = was[1]
            change.let_go.add(side_table)
            return
        assert side is not None, "what takes a table's place lies beside it"
        change.keep.add(before)
        change.empties = True
        change.add += self.link.files(side_table)
        if side.spec is None:
            change.anew = side
        self.link.drop_side(side_table)
