"""How many records a file holds, counted."""

from __future__ import annotations

from splarn.core.layout import Layout
from splarn.core.records.chunks import record_chunks
from splarn.core.source.codecs import read_blocks
from splarn.core.source.source import Source


def count_records(source: Source, layout: Layout, enough: int | None = None) -> int:
    """The records of a file as a layout reads it, bad ones included; or at least enough of them.

    Raises OutsideError when it cannot be read to its end.
    """
    if layout.format == "parquet":
        from splarn.core.reading.columnar import open_parquet

        with open_parquet(source.place) as file:
            return int(file.metadata.num_rows)
    blocks = read_blocks(source.place, source.codec)
    rows = 0
    for chunk in record_chunks(blocks, layout.dialect, where=str(source)):
        rows += chunk.rows
        if enough is not None and rows >= enough:
            break
    return rows
