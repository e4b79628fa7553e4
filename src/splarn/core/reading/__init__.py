"""Reading: typed good rows and faults out of a source file, whatever its format."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING

from splarn.core.layout import Layout
from splarn.core.records.chunks import record_chunks
from splarn.core.source.codecs import read_blocks
from splarn.core.source.places import Place
from splarn.core.source.ranges import Range, cut_ranges
from splarn.core.work.pool import AT_ONCE, Pool, Threads

if TYPE_CHECKING:
    from splarn.core.reading.parsed import Parsed, TextParser
    from splarn.core.source.source import Source

__all__ = ["cut_file", "cut_files", "read_parsed", "text_parser"]


def text_parser(layout: Layout, path: str) -> TextParser:
    """The parser for text in the layout's format."""
    if layout.format == "jsonl":
        from splarn.core.reading.json_lines import JsonParser

        return JsonParser(layout, path)
    from splarn.core.reading.delimited import DelimitedParser

    return DelimitedParser(layout, path)


def cut_file(source: Source, layout: Layout, size: int, pool: Pool) -> list[Range]:
    """Ranges of whole records of about `size` unpacked bytes; of a columnar file, ranges of rows.

    Raises OutsideError when the file cannot be read.
    """
    if layout.format == "parquet":
        from splarn.core.reading.columnar import cut_rows

        return cut_rows(source.place, size)
    return cut_ranges(source.place, source.codec, layout.dialect, size, pool)


def cut_files(
    sources: Sequence[Source], layout: Layout, size: int, pool: Pool
) -> Iterator[list[Range]]:
    """The ranges of each file, see `cut_file`. Several files at once where workers are apart, since
    each waits for answers of its own.
    """

    def cut(source: Source) -> list[Range]:
        return cut_file(source, layout, size, pool)

    if not pool.apart:
        return map(cut, sources)
    return Threads(AT_ONCE).flow(cut, sources)


def read_parsed(
    path: Place,
    codec: str,
    layout: Layout,
    start: int = 0,
    end: int | None = None,
    tap: Callable[[bytes], object] | None = None,
    read: Callable[..., Iterator[bytes]] = read_blocks,
) -> Iterator[Parsed]:
    """The records of a range; rows and lines count from its start.

    `tap` is given each block of text as it is read; `read` may stand in for `read_blocks`.
    Raises RequestError or OutsideError when the file does not fit or cannot be read.
    """
    if layout.format == "parquet":
        from splarn.core.reading.columnar import parse_rows

        yield from parse_rows(path, layout, start, end)
        return
    parser = text_parser(layout, str(path))
    blocks = read(path, codec, start, end)
    if tap is not None:
        blocks = _tapped(blocks, tap)
    for chunk in record_chunks(blocks, layout.dialect, where=str(path), offset=start):
        yield parser.parse(chunk)


def _tapped(blocks: Iterator[bytes], tap: Callable[[bytes], object]) -> Iterator[bytes]:
    for block in blocks:
        tap(block)
        yield block
