"""What parts are to be: format, packing, order, and the layout they read by."""

from __future__ import annotations

from dataclasses import dataclass, replace

from splarn.core.layout import LINES, Dialect, Layout
from splarn.core.shape.keys import Key
from splarn.core.source.codecs import Packing

ROW_GROUP = 131_072


@dataclass(frozen=True)
class PartsFormat:
    """How parts are written.

    `part_bytes` are unpacked bytes of the source; `part_rows`, when not 0, counts records instead.
    Rows are sorted within each part. `row_group_rows` and `dictionary` are Parquet's. Where parts
    are `converted` they are written in the standard form even if the source has their format.
    """

    format: str
    packing: Packing
    part_bytes: int
    part_rows: int = 0
    header: bool = False
    row_group_rows: int = ROW_GROUP
    dictionary: bool = True
    sort_by: tuple[Key, ...] = ()
    partition_by: tuple[Key, ...] = ()
    converted: bool = False

    def is_copy(self, layout: Layout) -> bool:
        """Whether parts hold the source's bytes as they are, so that nothing need be typed."""
        same = self.format == layout.format and self.format != "parquet"
        return same and not (self.sort_by or self.partition_by or self.converted)

    def layout(self, source: Layout) -> Layout:
        """The layout that the parts read by."""
        if self.is_copy(source):
            bare = source.headless
            return replace(bare, dialect=replace(bare.dialect, header=self.header))
        from splarn.core.shape.rows import plain_field

        fields = tuple(plain_field(field) for field in source.fields)
        dialect = LINES
        if self.format == "csv":
            mark = source.as_read.dialect.delimiter if source.format == "csv" else ","
            usual = mark if len(mark) == 1 and mark not in '"\x1f' else ","
            markers = ("", "\\N") if len(fields) == 1 else ("",)
            dialect = Dialect(delimiter=usual, header=self.header, null_markers=markers)
        return Layout(source.name, dialect, fields, self.format)
