"""The source files before any work on them: do they belong to the layout, and hold anything?"""

from __future__ import annotations

import csv
from collections.abc import Sequence

from splarn.core.codecs import head_of
from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.places import Place
from splarn.core.records import BOM, record_chunks
from splarn.core.source import LOOK, Source, format_of


def check_sources(sources: Sequence[Source], layout: Layout) -> None:
    """Holds every header against the layout, and makes sure that there is a record somewhere.

    Raises RequestError when a header differs or no file holds a record, OutsideError when a file
    cannot be read.
    """
    filled = False
    for source in sources:
        path = source.place
        head = head_of(path, source.codec, LOOK)
        _check_format(path, head, layout)
        if layout.format == "parquet":
            filled = _check_columns(path, layout) or filled
            continue
        _check_header(path, head.removeprefix(BOM), layout)
        filled = filled or any(record_chunks([head], layout.dialect, where=str(path)))
    if not filled:
        what = f"{sources[0]} holds no records"
        if len(sources) > 1:
            what = f"None of the {len(sources)} files holds a record"
        raise RequestError(f"{what}: there is nothing to do.")


_WORDS = {"csv": "delimited text", "jsonl": "JSON lines", "parquet": "a Parquet file"}


def _check_format(path: Place, head: bytes, layout: Layout) -> None:
    """Raises RequestError when a file is surely of another format than the layout's."""
    found = format_of(head)
    # A line of delimited text may begin with a brace, so only a JSON layout is told from it.
    if found == layout.format or not head.strip() or (found, layout.format) == ("jsonl", "csv"):
        return
    raise RequestError(
        f"{path} is {_WORDS[found]}, while the layout {layout.name!r} is for "
        f"{_WORDS[layout.format]}: use the layout that belongs to it or infer one with "
        "`splarn layout`."
    )


def _check_columns(path: Place, layout: Layout) -> bool:
    from splarn.core.reading.columnar import check_columns, open_parquet

    with open_parquet(path) as file:
        check_columns(path, file.schema_arrow.names, layout)
        return bool(file.metadata.num_rows)


def _check_header(path: Place, head: bytes, layout: Layout) -> None:
    if not layout.dialect.header or not head.strip():
        return
    quote = layout.dialect.quote
    first = next(
        csv.reader(
            head.decode(layout.dialect.encoding, errors="replace").splitlines(True),
            delimiter=layout.dialect.delimiter,
            quotechar=quote,
            quoting=csv.QUOTE_MINIMAL if quote else csv.QUOTE_NONE,
        ),
        [],
    )
    names = [cell.strip() for cell in first]
    if layout.names in (tuple(names), tuple(first)):
        return
    if len(names) == 1 and len(layout.fields) > 1:
        raise RequestError(
            f"{path} does not use the delimiter {layout.dialect.delimiter!r} of the layout "
            f"{layout.name!r}: its header reads as the single field {names[0][:60]!r}; infer a "
            "layout for it with `splarn layout`."
        )
    missing = [name for name in layout.names if name not in names]
    extra = [name for name in names if name not in layout.names]
    detail = "the order differs"
    if missing or extra:
        detail = "; ".join(
            f"{what} {', '.join(repr(name) for name in some[:4])}"
            for what, some in (("it lacks", missing), ("it adds", extra))
            if some
        )
    raise RequestError(
        f"The header of {path} is not that of the layout {layout.name!r}: {detail}; "
        "use the layout that belongs to it or infer one with `splarn layout`."
    )
