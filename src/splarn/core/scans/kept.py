"""How rows could be kept: as text with a codec, or in columns laid out in some way.

Written as a format and words, `csv zstd(3) 64MiB`, or as a layout of files alone,
`month(entered) sort(lock_code)`, which is in columns.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.layout.file_layout import PLAIN, FileLayout, read_file_layout
from splarn.core.scans.questions import Question
from splarn.core.source.codecs import Packing, codecs
from splarn.core.units import exact_size, parse_size

TEXT = ("csv", "jsonl")
COLUMNS = "parquet"
COMPACTED = "compacted"
_CODEC = re.compile(r"([A-Za-z]\w*)(?:[(:](\d+)\)?)?$")
TEXT_FILE_BYTES = 128 << 20


@dataclass(frozen=True)
class Kept:
    """One way of keeping rows.

    Text has a `packing` and files of `file_bytes` unpacked; columns have a `layout`, as a load
    leaves it or, `compacted`, as merging all its files in order does. A load brings the files as
    they came or parts of `part_bytes` unpacked bytes, each of which has files of its own.
    """

    format: str
    layout: FileLayout = field(default_factory=FileLayout)
    packing: Packing = field(default_factory=Packing)
    file_bytes: int = TEXT_FILE_BYTES
    compacted: bool = False
    part_bytes: int | None = None

    @property
    def is_text(self) -> bool:
        """Whether rows are text."""
        return self.format in TEXT

    def text(self) -> str:
        """As people write it."""
        if not self.is_text:
            laid_out = self.layout.text()
            if self.compacted:
                laid_out = COMPACTED if laid_out == PLAIN else f"{laid_out} {COMPACTED}"
            return f"{COLUMNS} {laid_out}" if laid_out in (PLAIN, COMPACTED) else laid_out
        packing = self.packing
        words = [self.format, packing.codec + (f"({packing.level})" if packing.level else "")]
        if self.file_bytes != TEXT_FILE_BYTES:
            words.append(exact_size(self.file_bytes).replace(" ", ""))
        return " ".join(words)


def read_kept(text: str) -> Kept:
    """What a person wrote. Raises RequestError for what is no way of keeping rows."""
    words = text.split()
    first = words[0].lower() if words else ""
    if first in TEXT:
        return _text(first, words[1:], text)
    rest = words[1:] if first == COLUMNS else words
    compacted = COMPACTED in rest
    layout = read_file_layout(" ".join(one for one in rest if one != COMPACTED) or PLAIN)
    return Kept(COLUMNS, layout, compacted=compacted)


def usual_ways(questions: Sequence[Question], fields: Sequence[Field], format: str) -> list[Kept]:
    """What is worth a try for some questions: better packed text, columns, by month, in order.

    Partitions are of the date that most questions a month ask for, the order is by what else they
    do.
    """
    asked: dict[str, float] = {}
    for question in questions:
        for one in question.conditions:
            asked[one.column] = asked.get(one.column, 0.0) + question.monthly
    kinds = {one.name: one.type for one in fields}
    names = sorted(asked, key=lambda name: -asked[name])
    dates = [name for name in names if kinds[name] in ("date", "datetime")]
    others = [name for name in names if name not in dates][:2]
    found = [f"{format} zstd:3"] if format in TEXT else []
    found.append(f"{COLUMNS} {PLAIN}")
    by = f"month({dates[0]})" if dates else ""
    order = f"sort({' '.join(others or dates[:1])})" if names else ""
    found += [by, f"{by} {order}".strip(), f"{by} {order} {COMPACTED}".strip() if order else ""]
    return [read_kept(one) for one in dict.fromkeys(found) if one]


def _text(format: str, words: list[str], text: str) -> Kept:
    packing, file_bytes = Packing(), TEXT_FILE_BYTES
    for word in words:
        if word[:1].isdigit():
            file_bytes = parse_size(word)
            continue
        found = _CODEC.match(word)
        if found is None or found[1].lower() not in codecs():
            raise RequestError(
                f"{text!r}: {word!r} is no codec of text; use {', '.join(sorted(codecs()))}, with "
                "a level as zstd(3), and a size as 64MiB."
            )
        level = f":{found[2]}" if found[2] else ""
        packing = Packing.parse(f"{found[1].lower()}{level}")
    return Kept(format, packing=packing, file_bytes=file_bytes)
