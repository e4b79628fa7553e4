"""The encoding and the line ends that a file's bytes speak of."""

from __future__ import annotations

import codecs
from collections.abc import Sequence

from splarn.core.inference.samples import SampledText
from splarn.core.records.scanning import BOM

_MARKS = (
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


def wide_encoding(data: bytes) -> str | None:
    """UTF-16 or UTF-32, told by its mark or by where its zero bytes stand; else None."""
    for mark, name in _MARKS:
        if data.startswith(mark):
            return name
    look = data[:4096]
    look = look[: len(look) // 4 * 4]
    if len(look) < 4 or b"\0" not in look or data.startswith(BOM):
        return None
    zeros = [look[place::4].count(0) / (len(look) / 4) for place in range(4)]
    for name, filled in (
        ("utf-32-le", (0,)), ("utf-32-be", (3,)), ("utf-16-le", (0, 2)), ("utf-16-be", (1, 3)),
    ):  # fmt: skip
        if all((zeros[place] < 0.2) == (place in filled) for place in range(4)):
            others = [zeros[place] for place in range(4) if place not in filled]
            if all(share > 0.6 for share in others):
                return name
    return None


# How files of other kinds begin: archives, documents, pictures, old spreadsheets, programs.
_OTHER_KINDS = (
    b"PK\3\4", b"%PDF", b"\x89PNG", b"GIF8", b"\xff\xd8\xff", b"\xd0\xcf\x11\xe0", b"\x7fELF",
    b"SQLite format 3\0", b"Rar!", b"7z\xbc\xaf",
)  # fmt: skip


def is_binary(data: bytes) -> bool:
    """Whether bytes are surely no text: of a known other kind, or full of control bytes."""
    if data.startswith(b"PAR1") or wide_encoding(data) is not None:
        return False
    look = data[:8192]
    odd = sum(look.count(bytes([byte])) for byte in (0, *range(4, 9), *range(14, 27)))
    return data.startswith(_OTHER_KINDS) or odd > len(look) * 0.05


def line_end_of(data: bytes, encoding: str) -> str:
    """How lines end: a line feed, both, or a carriage return where there is little else."""
    if encoding.startswith(("utf-16", "utf-32")):
        text = data[: len(data) // 4 * 4].decode(encoding, errors="replace")
        data = text.encode("utf-8", errors="replace")
    feeds, both, returns = data.count(b"\n"), data.count(b"\r\n"), data.count(b"\r")
    if returns and not feeds:
        return "\r"
    if returns > 20 and feeds < returns / 50:
        return "\r"
    return "\r\n" if both > feeds / 2 else "\n"


def guess_encoding(samples: Sequence[SampledText], notes: list[str]) -> str:
    """UTF-16 or UTF-32 by their marks, UTF-8 unless many lines are none; doubts go to `notes`."""
    wide = {wide_encoding(sample.data) for sample in samples if sample.is_head}
    (first,) = wide if len(wide) == 1 else (None,)
    if first is not None:
        return first
    if wide - {None}:
        notes.append("the files are of several encodings; infer a layout for each kind apart")
    for sample in samples:
        data = sample.data
        inner = data if sample.is_head else data[data.find(b"\n") + 1 :]
        inner = inner if sample.is_tail else inner[: inner.rfind(b"\n") + 1]
        try:
            inner.decode("utf-8")
        except UnicodeDecodeError as error:
            lines = inner.count(b"\n") + 1
            odd = [line for line in inner.split(b"\n") if not line.isascii()]
            broken = sum(1 for line in odd if not _is_utf8(line))
            # Letters of several bytes elsewhere tell of UTF-8 with damage in it.
            if broken * 2 > len(odd) and (broken > 2 or lines < 2000):
                notes.append(
                    f"{sample.path.name} is not UTF-8 from byte {error.start} on; taken as "
                    f"{_narrow(inner)}, check letters with accents"
                )
                return _narrow(inner)
            notes.append(
                f"{sample.path.name} is UTF-8 but for {broken} of {lines:,} sampled lines; "
                "such rows will be refused"
            )
    return "utf-8"


def _narrow(data: bytes) -> str:
    """Western text of one byte a letter; Latin-1 where a byte is none of cp1252."""
    try:
        data.decode("cp1252")
    except UnicodeDecodeError:
        return "latin-1"
    return "cp1252"


def _is_utf8(line: bytes) -> bool:
    try:
        line.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True
