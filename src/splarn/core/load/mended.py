"""Rejects that were mended, made into a source file of their own."""

from __future__ import annotations

from pathlib import Path

import xxhash

from splarn.core.errors import RequestError
from splarn.core.layout import LINES, Layout
from splarn.core.reading.faults import read_rejects
from splarn.core.work.disk import write_bytes


def mended_source(rejects: Path, layout: Layout, folder: Path) -> tuple[Path, Layout]:
    """Writes the raw records of a rejects file into a file in `folder`; returns it and its layout.

    The file is named after its content, so the same rejects are the same content again; the row
    numbers of its faults are the line numbers of the rejects file.
    Raises RequestError when there is no record in it or a line is no reject, OutsideError when the
    disk refuses.
    """
    if not rejects.is_file():
        raise RequestError(f"There is no rejects file {rejects}: check the spelling.")
    # Rows of a columnar source are kept as JSON.
    plain = layout.headless
    if layout.format == "parquet":
        plain = Layout(layout.name, LINES, layout.fields, "jsonl")
    data = b"".join(
        _record(fault.raw, plain.dialect.encoding, rejects) for fault in read_rejects(rejects)
    )
    if not data:
        raise RequestError(f"{rejects} holds no rejects: there is nothing to load.")
    mark = xxhash.xxh3_64_hexdigest(data)[:8]
    stem = rejects.name.partition(".")[0]
    stem = stem if "mended" in stem else f"{stem}-mended"
    path = folder / f"{stem}-{mark}.{plain.format}"
    write_bytes(path, data)
    return path, plain


def _record(raw: str, encoding: str, rejects: Path) -> bytes:
    line = raw.rstrip("\r\n") + "\n"
    try:
        return line.encode(encoding)
    except UnicodeEncodeError as error:
        raise RequestError(
            f"A record of {rejects} holds {error.object[error.start]!r}, which {encoding} does not "
            "know: mend it."
        ) from None
