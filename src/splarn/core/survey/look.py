"""A look at one file: its first bytes always, stretches of a large one, all of it when asked."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from functools import lru_cache
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
import xxhash

from splarn.core.codecs import CODECS, Packing, codec_by_name, read_blocks
from splarn.core.errors import OutsideError
from splarn.core.layout import LINES, Dialect
from splarn.core.layout.guess_dialect import guess_marks
from splarn.core.places import Place
from splarn.core.ranges import aligned_stretch
from splarn.core.records import BOM, record_chunks, scan
from splarn.core.source import Source
from splarn.core.survey.facts import DELIMITED, JSON_LINES, PARQUET, Finding, SourceFile

HEAD = 64 << 10
STRETCHES = 12
# Bytes of a small file whose records are counted in a quick look.
COUNTED = 8 << 10
# Packed files up to this size are unpacked whole even in a quick look.
SMALL_PACKED = 1 << 20
_MARKS = ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"), (BOM, "utf-8-sig"))

# Fields of a SourceFile, by name.
Facts = dict[str, Any]


def look_at(path: Place, dialect: Dialect | None, exact: bool) -> SourceFile:
    """The facts of one file. Damage becomes a finding.

    Raises OutsideError when the file cannot be opened or read.
    """
    return look_at_source(*Source.opened(path, HEAD), dialect, exact)


def look_at_source(source: Source, head: bytes, dialect: Dialect | None, exact: bool) -> SourceFile:
    """The facts of a file that is known; `head` are its first bytes, as they are on disk."""
    path, size, codec = source.place, source.size, source.codec
    facts: Facts = {"source": source}
    if not size:
        what = f"{path.name} is empty; leave it out or ask for it again"
        return SourceFile(**facts, **_exactly(0), findings=(Finding("empty", str(path), what),))
    findings = _name_lies(path, codec)
    try:
        if source.format == "parquet":
            facts |= _look_at_parquet(path)
        elif codec == "none" and (size <= HEAD or not exact):
            facts |= _look_at_plain(path, size, head, dialect, exact)
        else:
            facts |= _look_at_long(path, size, codec, dialect, exact)
    except OutsideError as error:
        findings.append(Finding("damaged", str(path), str(error).rstrip(".")))
    if facts.get("rows") == 0:
        what = f"{path.name} holds a header and no records"
        findings.append(Finding("header-only", str(path), what))
    if facts.get("encoding", "").startswith("utf-16"):
        what = f"{path.name} is UTF-16 text; convert it to UTF-8 before anything else"
        findings.append(Finding("encoding", str(path), what))
    return SourceFile(**facts, findings=tuple(findings))


def content_id_of(path: Place, codec: str) -> str:
    """The hash of all unpacked bytes.

    Raises OutsideError when the file cannot be read or is damaged.
    """
    state = xxhash.xxh3_128()
    for block in read_blocks(path, codec):
        state.update(block)
    return f"xxh3-128:{state.hexdigest()}"


def _name_lies(path: Place, codec: str) -> list[Finding]:
    named = codec_by_name(path)
    if named == codec:
        return []
    what = "not compressed" if codec == "none" else f"{codec}, by its content"
    told = "no compression" if named == "none" else named
    message = f"{path.name} is {what}, while its name speaks of {told}; Splarn goes by the content"
    return [Finding("codec-mismatch", str(path), message)]


def _describe(head: bytes, dialect: Dialect | None) -> tuple[Facts, Dialect]:
    """Format, encoding and line ends from the first unpacked bytes, and the dialect to count by."""
    encoding = _marked_encoding(head)
    body = head.removeprefix(BOM)
    if not encoding:
        encoding = "utf-8" if body.isascii() or _is_utf8(body) else "not utf-8"
    kind = JSON_LINES if body[:64].lstrip().startswith(b"{") else DELIMITED
    end = body.find(b"\n")
    line = body if end < 0 else body[:end]
    line_end = "\n"
    if b"\r" in line:
        line_end = "\r\n" if line.endswith(b"\r") else "\r" if end < 0 else "\n"
        line = line.rstrip(b"\r")
    if dialect is None:
        dialect = guess_dialect(line) if kind == DELIMITED else LINES
        if kind == DELIMITED and b'\\"' in body:
            dialect = replace(dialect, escape=_escape(body, dialect))
    facts: Facts = {"format": kind, "encoding": encoding, "line_end": line_end}
    if kind == JSON_LINES:
        facts["columns"] = _keys(line)
    else:
        facts["columns"] = _columns(line, dialect.delimiter)
        facts["head_line"] = line if dialect.header else b""
    return facts, dialect


def _escape(body: bytes, dialect: Dialect) -> str | None:
    """The escape character, where a backslash before a quote surely is one."""
    text = body[: body.rfind(b"\n") + 1].decode("utf-8", errors="replace")
    return guess_marks(text, Path(), dialect.delimiter).escape


def _marked_encoding(head: bytes) -> str:
    if head[:1] not in (b"\xff", b"\xfe", b"\xef"):
        return ""
    return next((name for mark, name in _MARKS if head.startswith(mark)), "")


def _keys(line: bytes) -> int | None:
    try:
        return len(json.loads(line))
    except ValueError:
        return None


@lru_cache(maxsize=256)
def guess_dialect(line: bytes) -> Dialect:
    """The dialect that a first line speaks of: its commonest delimiter, and whether it is a header.

    A line with a number for a field is no header.
    """
    marks = {mark: line.count(mark.encode()) for mark in ",;\t|"}
    best = max(marks, key=lambda mark: marks[mark])
    fields = [field.strip(b' "') for field in line.split(best.encode())]
    header = all(field and not field.lstrip(b"-")[:1].isdigit() for field in fields)
    return Dialect(delimiter=best, header=header)


@lru_cache(maxsize=256)
def _columns(line: bytes, delimiter: str) -> int:
    if b'"' not in line:
        return line.count(delimiter.encode()) + 1
    import csv

    text = line.decode("utf-8", errors="replace")
    return len(next(csv.reader([text], delimiter=delimiter), []))


def _is_utf8(data: bytes) -> bool:
    try:
        data.decode("utf-8")
    except UnicodeDecodeError as error:
        # A letter cut in two by the end of the look is no fault.
        return error.start >= len(data) - 3 and len(data) >= HEAD - len(BOM)
    return True


def _look_at_parquet(path: Place) -> Facts:
    from splarn.core.reading.columnar import open_parquet

    with open_parquet(path) as file:
        metadata, schema = file.metadata, file.schema_arrow
        columns = len(schema.names)
        described = ", ".join(f"{field.name} {field.type}" for field in schema)
    groups = [metadata.row_group(index) for index in range(metadata.num_row_groups)]
    return {
        "format": PARQUET,
        "encoding": "",
        "line_end": "",
        "raw_bytes": sum(group.total_byte_size for group in groups),
        "columns": columns,
        "head_line": described.encode(),
        "splittable": len(groups) > 1,
        "content_id": content_id_of(path, "none"),
        **_exactly(metadata.num_rows),
    }


def _look_at_plain(
    path: Place, size: int, head: bytes, dialect: Dialect | None, exact: bool
) -> Facts:
    facts, dialect = _describe(head, dialect)
    hashed = xxhash.xxh3_128_hexdigest(head)
    facts["raw_bytes"] = size
    if len(head) < size:
        facts["content_id"] = f"head:{hashed}"
        return facts | _estimated(path, size, head, dialect)
    facts["content_id"] = f"xxh3-128:{hashed}"
    if exact or len(head) <= COUNTED:
        return facts | _exactly(_count(head, dialect, str(path)))
    return facts | _scaled(head, dialect)


def _exactly(rows: int) -> Facts:
    return {"rows": rows, "rows_low": rows, "rows_high": rows, "rows_exact": True}


def _count(data: bytes, dialect: Dialect, where: str) -> int:
    """Records in a file that is in memory whole."""
    if b'"' not in data and b"\r" not in data:
        newlines = np.frombuffer(data, dtype=np.uint8) == 10
        if not (newlines[1:] & newlines[:-1]).any():
            # No quotes and no blank lines: every line is a record.
            lines = int(np.count_nonzero(newlines)) + int(not data.endswith(b"\n"))
            return lines - int(dialect.header) - int(data.startswith(b"\n"))
    return sum(chunk.rows for chunk in record_chunks([data], dialect, where=where))


def _scaled(head: bytes, dialect: Dialect) -> Facts:
    """Rows of a small file from its first part alone: counting takes longer than reading."""
    part = head[:COUNTED]
    width = _width(part, dialect) or len(part)
    rows = max(round(len(head) / width), 1)
    return {"rows": rows, "rows_low": int(rows * 0.8), "rows_high": int(rows * 1.25) + 1}


def _estimated(path: Place, size: int, head: bytes, dialect: Dialect) -> Facts:
    """Rows from the record widths in stretches all over a large plain file.

    The bound is the 90 % one of a mean of stretches (Student's t for their number).
    """
    begin = len(BOM) if head.startswith(BOM) else 0
    widths = [_width(head[begin:], dialect)]
    step = (size - HEAD) / STRETCHES
    if size > 4 * HEAD:
        for number in range(STRETCHES):
            data = aligned_stretch(path, int(HEAD + number * step), HEAD)
            widths.append(_width(data, dialect))
    known = np.array([width for width in widths if width])
    if not len(known):
        return {"rows": 1, "rows_low": 1, "rows_high": size}
    mean = float(known.mean())
    share = 1.8 * float(known.std(ddof=1)) / mean / len(known) ** 0.5 if len(known) > 1 else 0.25
    rows = max(round(size / mean) - int(dialect.header), 1)
    # Stretches can all miss what is rare, so the bound is never narrower than half a percent.
    share = max(share, 0.005)
    return {
        "rows": rows,
        "rows_low": int(rows * (1 - share)),
        "rows_high": int(rows * (1 + share)) + 1,
    }


def _width(data: bytes, dialect: Dialect) -> float | None:
    """Mean bytes a record in a stretch that starts at a line; the likelier start state is taken.

    Whether a stretch starts inside a quoted field cannot be known without reading all before it;
    under the wrong assumption, quotes do not stand where fields open.
    """
    if b'"' not in data:
        # Without quotes every line is a record.
        last = data.rfind(b"\n")
        return (last + 1) / data.count(b"\n") if last > 0 else None
    found = scan(data, dialect)
    if found.stray:
        other = scan(data, dialect, quoted=True)
        if not other.stray:
            found = other
    ends = found.ends
    if len(ends) < 2:
        return None
    return float(ends[-1] - ends[0]) / (len(ends) - 1)


def _look_at_long(
    path: Place, size: int, codec: str, dialect: Dialect | None, exact: bool
) -> Facts:
    """A packed file, or any that is to be read whole."""
    blocks = read_blocks(path, codec)
    head = next(blocks, b"")
    facts, dialect = _describe(head[:HEAD], dialect)
    facts["splittable"] = codec == "none"
    if not exact and size > SMALL_PACKED:
        return facts | _guessed(size, codec, head, dialect)
    state = xxhash.xxh3_128()
    rows = total = 0

    def passing() -> Iterator[bytes]:
        nonlocal total
        for block in chain([head], blocks):
            state.update(block)
            total += len(block)
            yield block

    for chunk in record_chunks(passing(), dialect, where=str(path)):
        rows += chunk.rows
    content_id = f"xxh3-128:{state.hexdigest()}"
    return facts | _exactly(rows) | {"raw_bytes": total, "content_id": content_id}


def _guessed(size: int, codec: str, head: bytes, dialect: Dialect) -> Facts:
    """Rows of a large packed file: its head packed again tells how far packed bytes reach."""
    packer = CODECS[codec].packer(Packing.parse(codec).level)
    packed = len(packer.compress(head)) + len(packer.flush())
    raw = round(size * len(head) / max(packed, 1))
    width = _width(head.removeprefix(BOM), dialect) or len(head)
    rows = max(round(raw / width), 1)
    # Level and content further on are not known: say so with a wide bound.
    return {
        "rows": rows,
        "rows_low": int(rows * 0.6),
        "rows_high": int(rows * 1.6),
        "raw_bytes": raw,
        "content_id": f"head:{xxhash.xxh3_128_hexdigest(head[:HEAD])}",
    }
