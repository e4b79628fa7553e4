"""The source files before any work on them: do they belong to the layout, and hold anything?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.layout.dialect import COMMENTS
from splarn.core.layout.naming import settled_names
from splarn.core.reading import text_parser
from splarn.core.records.chunks import record_chunks
from splarn.core.records.splitting import Marks, records_of
from splarn.core.source.codecs import head_of
from splarn.core.source.places import Place
from splarn.core.source.source import LOOK, Source


def read_sources(paths: Sequence[Place], layout: Layout, headers_do: bool = False) -> list[Source]:
    """The files as a layout reads them, each header held against it.

    A header alone is a table without rows where `headers_do`.

    A file whose columns have another order has them put into the layout's as it is read.
    Raises RequestError when a header differs or no file holds anything, OutsideError when a file
    cannot be read.
    """
    readable = []
    filled = False
    for path in paths:
        source = Source.of(path)
        _check_format(source, layout)
        source = source.read_by(layout)
        if layout.format == "parquet":
            filled = _check_columns(path, layout) or filled
            readable.append(source)
            continue
        head = head_of(path, source.codec, LOOK)
        _check_passed(source, layout)
        order = _order_of(source, head, layout)
        if order:
            source = replace(source, codec=f"{source.codec}+{_columns_form(order, layout)}")
        filled = filled or any(record_chunks([head], layout.dialect, where=str(path)))
        if headers_do and layout.format == "csv" and layout.dialect.header:
            filled = filled or bool(head.strip())
        readable.append(source)
    if not filled:
        state = f"{paths[0]} holds no records"
        if len(paths) > 1:
            state = f"None of the {len(paths)} files holds a record"
        raise RequestError(f"{state}: there is nothing to do.")
    return readable


_COMMENTS = tuple(mark.encode() for mark in COMMENTS)
_WORDS = {"csv": "delimited text", "jsonl": "JSON lines", "parquet": "a Parquet file"}


def _check_format(source: Source, layout: Layout) -> None:
    """Raises RequestError when a file is surely of another format than the layout's."""
    format = source.format
    # A line of delimited text may begin with a brace, so only a JSON layout is told from it.
    if format == layout.format or not source.size or (format, layout.format) == ("jsonl", "csv"):
        return
    raise RequestError(
        f"{source} is {_WORDS[format]}, while the layout {layout.name!r} is for "
        f"{_WORDS[layout.format]}: use the layout that belongs to it or infer one with "
        "`splarn layout`."
    )


def _check_columns(path: Place, layout: Layout) -> bool:
    from splarn.core.reading.columnar import check_columns, open_parquet

    with open_parquet(path) as file:
        check_columns(path, file.schema_arrow.names, layout)
        return bool(file.metadata.num_rows)


def _check_passed(source: Source, layout: Layout) -> None:
    """Holds the lines that a layout without a header passes over against its fields.

    Raises RequestError when one of them is a record: this file then begins otherwise than the one
    that the layout was made for.
    """
    dialect = layout.as_read.dialect
    if layout.format != "csv" or dialect.header or not dialect.before:
        return
    bare = layout.headless
    bare = replace(bare, dialect=replace(bare.dialect, fill=False))
    head = head_of(source.place, source.codec, LOOK)
    lines = head.split(b"\n", dialect.before)[: dialect.before]
    passed = [line for line in lines if not line.startswith(_COMMENTS)]
    chunks = record_chunks([b"\n".join((*passed, b""))], bare.dialect, where=str(source))
    parser = text_parser(bare, str(source))
    if any(len(parser.parse(chunk).table) for chunk in chunks):
        raise RequestError(
            f"The first lines of {source}, {dialect.before} of which the layout {layout.name!r} "
            "passes over, hold a record: infer a layout for that file apart."
        )


def header_of(head: bytes, layout: Layout, where: str) -> list[str]:
    """The names that a file's header gives its columns, as `layout` settles them."""
    dialect = layout.as_read.dialect
    bare = replace(dialect, header=False)
    chunk = next(iter(record_chunks([head], bare, where=where)), None)
    if chunk is None:
        return []
    data = b"".join(chunk.pieces(slice(0, dialect.header_rows)))
    text = data.decode(dialect.encoding, errors="replace").replace("\r\n", "\n")
    marks = Marks(dialect.delimiter, dialect.quote, dialect.escape)
    rows = [record.cells for record in records_of(text, marks)]
    if not rows:
        return []
    wide = max(map(len, rows))
    columns = zip(*((*row, *[""] * (wide - len(row))) for row in rows), strict=True)
    return [" ".join(filter(None, column)) for column in columns]


@dataclass(frozen=True)
class OtherColumns:
    """A header that is not a layout's: its names in order, those it lacks and those it adds."""

    names: tuple[str, ...]
    lacks: tuple[str, ...]
    adds: tuple[str, ...]

    @property
    def words(self) -> str:
        """In what it differs."""
        return "; ".join(
            f"{verb} {', '.join(repr(name) for name in some[:4])}"
            for verb, some in (("it lacks", self.lacks), ("it adds", self.adds))
            if some
        )


class OtherColumnsError(RequestError):
    """A file whose header is not the layout's."""


def other_columns(path: Place, layout: Layout) -> OtherColumns | None:
    """In what a file's header differs from a layout's, where some of its columns are there.

    Raises OutsideError when the file cannot be read.
    """
    source = Source.of(path)
    if layout.format != "csv" or not layout.dialect.header or source.format != "csv":
        return None
    source = source.read_by(layout)
    names = _names_of(source, head_of(path, source.codec, LOOK), layout)
    if names is None or not set(names) & set(layout.names):
        return None
    return _compared(names, layout)


def _compared(names: Sequence[str], layout: Layout) -> OtherColumns:
    return OtherColumns(
        tuple(names),
        tuple(name for name in layout.names if name not in names),
        tuple(name for name in names if name not in layout.names),
    )


def _order_of(source: Source, head: bytes, layout: Layout) -> tuple[int, ...]:
    """The columns of a file in the layout's order, where its own is another; empty where not.

    Raises RequestError when its header is not the layout's.
    """
    if not layout.dialect.header or layout.format != "csv":
        return ()
    names, width = _names_of(source, head, layout), len(layout.fields)
    if names is None:
        return ()
    if len(names) == width and set(names) == set(layout.names):
        return tuple(names.index(name) for name in layout.names)
    if len(names) == 1 and width > 1:
        raise RequestError(
            f"{source.place} does not use the delimiter {layout.dialect.delimiter!r} of the layout "
            f"{layout.name!r}: its header reads as the single field {names[0][:60]!r}; infer a "
            "layout for it with `splarn layout`."
        )
    raise OtherColumnsError(
        f"The header of {source.place} is not that of the layout {layout.name!r}: "
        f"{_compared(names, layout).words}; use the layout that belongs to it or infer one with "
        "`splarn layout`."
    )


def _names_of(source: Source, head: bytes, layout: Layout) -> list[str] | None:
    """The names of a header that is not the layout's as it stands; None where it is."""
    if not head.strip():
        return None
    cells = header_of(head, layout, str(source.place))
    width = len(layout.fields)
    while len(cells) > width and not cells[-1].strip():
        cells.pop()
    names = settled_names(cells, max(len(cells), 1))[0]
    for header in (cells, [cell.strip() for cell in cells], names):
        if layout.names == tuple(header):
            return None
    for short in (("", *cells), (*cells, *[""] * (width - len(cells)))):
        if len(short) == width and layout.names == tuple(settled_names(short, width)[0]):
            return None
    return list(names)


def _columns_form(order: Sequence[int], layout: Layout) -> str:
    dialect = layout.as_read.dialect
    places = ".".join(map(str, order)) + (",fill" if dialect.fill else "")
    return f"columns={dialect.marks_in_numbers},{dialect.before},{places}"
