"""A sample written as text and read back: all of it, whatever is asked."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from splarn.core.layout import Layout
from splarn.core.reading import read_parsed
from splarn.core.reading.text import delimited, json_lines
from splarn.core.scans.kept import Kept
from splarn.core.scans.look import Look
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.source.codecs import codecs
from splarn.core.work.disk import outside

# Rows that are written as text at once, and bytes of it that are enough to see what comes.
AT_ONCE = 20_000
ENOUGH = 8 << 20


@dataclass(frozen=True)
class TextWritten:
    """What came of it: bytes a row, packed and not, and the seconds that a row takes either way."""

    packed: float
    unpacked: float
    writing: float
    reading: float


def write_text(look: Look, layout: Layout, kept: Kept, folder: Path) -> TextWritten:
    """Writes rows of a look as text with a codec and reads them again.

    Raises OutsideError when writing fails, RequestError for a value that the format cannot hold.
    """
    made = PartsFormat(kept.format, kept.packing, kept.file_bytes, converted=True).layout(layout)
    codec = codecs()[kept.packing.codec]
    packer = codec.packer(kept.packing.level)
    path = folder / f"sample{codec.suffix}"
    rows = raw = packed = 0
    begun = time.perf_counter()
    folder.mkdir(parents=True, exist_ok=True)
    with outside(f"Writing a sample to {folder}"), path.open("wb") as file:
        for piece in _pieces(look):
            text = json_lines(piece, made) if kept.format == "jsonl" else delimited(piece, made)
            packed += file.write(packer.compress(text))
            raw, rows = raw + len(text), rows + len(piece)
            if raw >= ENOUGH:
                break
        packed += file.write(packer.flush())
    written = time.perf_counter()
    for _ in read_parsed(path, codec.name, made):
        pass
    read = time.perf_counter() - written
    return TextWritten(packed / rows, raw / rows, (written - begun) / rows, read / rows)


def _pieces(look: Look) -> Iterator[Any]:
    for window in look.windows:
        for first in range(0, len(window), AT_ONCE):
            yield window.slice(first, AT_ONCE)
