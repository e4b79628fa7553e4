"""The source files before any work on them: do they belong to the layout, and hold anything?"""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path

from splarn.core.codecs import codec_of, read_blocks
from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.records import BOM, record_chunks

LOOK = 1 << 20


def check_sources(paths: Sequence[Path], layout: Layout) -> None:
    """Holds every header against the layout, and makes sure that there is a record somewhere.

    Raises RequestError when a header differs or no file holds a record, OutsideError when a file
    cannot be read.
    """
    filled = False
    for path in paths:
        head = next(iter(read_blocks(path, codec_of(path), 0, LOOK)), b"")
        _check_header(path, head.removeprefix(BOM), layout)
        filled = filled or any(record_chunks([head], layout.dialect, where=str(path)))
    if not filled:
        what = f"{paths[0]} holds no records"
        if len(paths) > 1:
            what = f"None of the {len(paths)} files holds a record"
        raise RequestError(f"{what}: there is nothing to do.")


def _check_header(path: Path, head: bytes, layout: Layout) -> None:
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
    if tuple(names) == layout.names:
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
