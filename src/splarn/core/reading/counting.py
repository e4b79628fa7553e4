"""How many records a file holds, counted."""

from __future__ import annotations

from splarn.core.layout import Layout
from splarn.core.records.chunks import record_chunks
from splarn.core.source.codecs import read_blocks
from splarn.core.source.source import Source


def count_records(source: Source, layout: Layout) -> int:
    """The records of a file as a layout reads it, bad ones included.

    Raises OutsideError when it cannot be read to its end.
    """
    if layout.format == "parquet":
        from splarn.core.reading.columnar import open_parquet

        with open_parquet(source.place) as file:
            return int(file.metadata.num_rows)
    blocks = read_blocks(source.place, source.codec)
    return sum(chunk.rows for chunk in record_chunks(blocks, layout.dialect, where=str(source)))
