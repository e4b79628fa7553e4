"""A look at one file: its first bytes always, stretches of a large one, all of it when asked."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import replace
from itertools import chain
from typing import Any

import numpy as np
import xxhash

from splarn.core.errors import OutsideError, RequestError
from splarn.core.inference.cells import is_value
from splarn.core.inference.samples import SampledText, take_samples
from splarn.core.inference.text_form import judge_text
from splarn.core.layout import LINES, Dialect
from splarn.core.records.chunks import record_chunks, skip_beginning
from splarn.core.records.scanning import BOM, scan
from splarn.core.records.splitting import Marks, records_of
from splarn.core.source.codecs import Packing, codec_by_name, codecs, read_blocks
from splarn.core.source.forms import reshaped
from splarn.core.source.places import Place
from splarn.core.source.ranges import aligned_stretch
from splarn.core.source.source import Source
from splarn.core.survey.facts import DELIMITED, JSON_LINES, PARQUET, Finding, SourceFile

HEAD = 64 << 10
STRETCHES = 12
# Bytes of a small file whose records are counted in a quick look.
COUNTED = 8 << 10
# Packed files up to this size are unpacked whole even in a quick look.
SMALL_PACKED = 1 << 20
# Bytes of a head by which its dialect is judged.
JUDGED = 32 << 10
FEW_LINES = 8

# Fields of a SourceFile, by name.
Facts = dict[str, Any]


def look_at(path: Place, dialect: Dialect | None, exact: bool) -> SourceFile:
    """The facts of one file. Damage becomes a finding.

    Raises OutsideError when the file cannot be opened or read.
    """
    return look_at_source(*Source.opened(path, HEAD), dialect, exact)


def look_at_source(source: Source, head: bytes, dialect: Dialect | None, exact: bool) -> SourceFile:
    """The facts of a file that is known; `head` are its first bytes, as they are on disk."""
    path, size, codec = source.place, source.size, source.packing
    facts: Facts = {"source": source}
    if not size:
        message = f"{path.name} is empty; leave it out or ask for it again"
        return SourceFile(**facts, **_exactly(0), findings=(Finding("empty", str(path), message),))
    findings = _name_lies(path, codec)
    try:
        if source.format == "parquet":
            facts |= _look_at_parquet(path)
        elif "+json" in source.codec:
            facts |= {"format": JSON_LINES, "columns": None}
            facts |= _look_reshaped(source, head, LINES, exact)
        elif source.codec == "none" and (size <= HEAD or not exact):
            facts |= _look_at_plain(source, head, dialect, exact)
        else:
            facts |= _look_at_long(source, dialect, exact)
    except OutsideError as error:
        findings.append(Finding("damaged", str(path), str(error).rstrip(".")))
    if facts.get("rows") == 0:
        message = f"{path.name} holds a header and no records"
        findings.append(Finding("header-only", str(path), message))
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
    content = "not compressed" if codec == "none" else f"{codec}, by its content"
    told = "no compression" if named == "none" else named
    message = (
        f"{path.name} is {content}, while its name speaks of {told}; Splarn goes by the content"
    )
    return [Finding("codec-mismatch", str(path), message)]


def _describe(
    source: Source, head: bytes, whole: bool, dialect: Dialect | None
) -> tuple[Facts, Dialect]:
    """Format, encoding and line ends from the first unpacked bytes, and the dialect to count by."""
    if source.format == "jsonl":
        end = head.find(b"\n")
        line = head if end < 0 else head[:end]
        facts: Facts = {"format": JSON_LINES, "encoding": "utf-8", "line_end": "\n"}
        return facts | {"columns": _keys(line)}, LINES
    columns = None
    if dialect is None:
        dialect, columns = _judged(source, head, whole)
    read = dialect.as_read
    plain = b"".join(reshaped([head], dialect.forms)) if dialect.forms else head
    line = _head_line(plain, read)
    text = line.decode(read.encoding, errors="replace")
    if columns is None:
        marks = Marks(read.delimiter, read.quote, read.escape)
        columns = max((record.width for record in records_of(text, marks)), default=1)
    facts = {
        "format": DELIMITED,
        "encoding": dialect.encoding if dialect.encoding != "utf-8" else _encoding(head),
        "line_end": _line_end(head, dialect),
        "columns": columns,
        "head_line": line if dialect.header else b"",
    }
    return facts, dialect


def _head_line(plain: bytes, dialect: Dialect) -> bytes:
    """The first line of the header, or of the records."""
    _, _, blocks = skip_beginning([plain], dialect)
    text, at = next(blocks, b""), 0
    while at < len(text):
        end = text.find(b"\n", at)
        line = text[at:] if end < 0 else text[at:end]
        if line.strip():
            return line.rstrip(b"\r")
        at += len(line) + 1
    return b""


def _encoding(head: bytes) -> str:
    if head.startswith(BOM):
        return "utf-8-sig"
    return "utf-8" if head.isascii() or _is_utf8(head) else "not utf-8"


def _line_end(head: bytes, dialect: Dialect) -> str:
    if dialect.line_end == "\r" or not dialect.is_ascii_based:
        return dialect.line_end
    end = head.find(b"\n")
    return "\r\n" if end > 0 and head[end - 1] == 13 else "\n"


# What earlier files were judged to be, by their first lines; neighbours are mostly alike.
_known: dict[tuple[object, ...], tuple[Dialect, int]] = {}
_last: list[tuple[Dialect, int]] = []
MOST_KNOWN = 4096
_SHAPE = re.compile(rb"[0-9A-Za-z \x80-\xff]+")


def _judged(source: Source, head: bytes, whole: bool) -> tuple[Dialect, int]:
    """The dialect and the number of columns, as `layout` judges them."""
    # A backslash alone is found many times as fast as one before a quote.
    special = (b"\\" in head and b'\\"' in head) or b"\0" in head[:256]
    lines = head[:8192].split(b"\n", 5)
    # The first line as it is; of some below it what is between letters and digits.
    key = (lines[0], *(_SHAPE.sub(b"", line) for line in lines[1:5]))
    if whole:
        # Of a file that ends here, also whether its last line is a record like the others.
        end = len(head)
        while end and head[end - 1] in b" \t\r\n\v\f":
            end -= 1
        key = (*key, _SHAPE.sub(b"", head[head.rfind(b"\n", 0, end) + 1 : end]))
    if key in _known and not special:
        return _known[key]
    if _last and _fits_too(head, *_last[0]):
        return _last[0]
    cut = whole and len(head) <= JUDGED
    samples = [SampledText(source, head[:JUDGED].removeprefix(BOM), True, cut, cut)]
    if not cut and samples[0].data.count(b"\n") < FEW_LINES:
        # Long lines: look as far as `layout` does.
        samples = take_samples([source])
    try:
        form = judge_text(samples)
    except RequestError:
        # Nothing to be judged, and so one column of whatever it is.
        return Dialect(header=False), 1
    verdict = replace(form.dialect, footer=0 if not cut else form.dialect.footer), form.width
    if len(_known) > MOST_KNOWN:
        _known.clear()
    if not special:
        _known[key] = verdict
    _last[:] = [verdict]
    return verdict


def _fits_too(head: bytes, dialect: Dialect, width: int) -> bool:
    """Whether records without a header divide like those of the file before."""
    if dialect.header or dialect.before or dialect.forms or width < 2:
        return False
    text = head[:4096].rpartition(b"\n")[0].decode(dialect.encoding, errors="replace")
    records = records_of(text, Marks(dialect.delimiter, dialect.quote, dialect.escape))
    return bool(records) and all(record.width == width for record in records) and any(
        is_value(cell) for cell in records[0].cells
    )  # fmt: skip


def _keys(line: bytes) -> int | None:
    try:
        return len(json.loads(line))
    except (ValueError, TypeError, RecursionError):
        return None


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


def _look_at_plain(source: Source, head: bytes, dialect: Dialect | None, exact: bool) -> Facts:
    path, size = source.place, source.size
    facts, dialect = _describe(source, head, len(head) >= size, dialect)
    if dialect.forms:
        return facts | _look_reshaped(source, head, dialect, exact)
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
    plain = not dialect.before and dialect.header_rows == 1
    if plain and b'"' not in data and b"\r" not in data:
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
    scanned = scan(data, dialect)
    if scanned.stray:
        other = scan(data, dialect, quoted=True)
        if not other.stray:
            scanned = other
    ends = scanned.ends
    if len(ends) < 2:
        return None
    return float(ends[-1] - ends[0]) / (len(ends) - 1)


def _look_reshaped(source: Source, head: bytes, dialect: Dialect, exact: bool) -> Facts:
    """A file whose text must be reshaped as it is read, and so from its start on."""
    path, size = source.place, source.size
    codec = "+".join((source.codec, *dialect.forms))
    known: Facts = {"raw_bytes": size, "splittable": source.packing == "none"}
    if exact or size <= SMALL_PACKED or source.packing != "none":
        rows = sum(
            chunk.rows
            for chunk in record_chunks(read_blocks(path, codec), dialect, where=str(path))
        )
        return known | _exactly(rows) | {"content_id": content_id_of(path, source.packing)}
    plain = b"".join(reshaped([head], codec.split("+")[1:]))
    width = (_width(plain, dialect.as_read) or len(plain)) * len(head) / max(len(plain), 1)
    rows = max(round(size / width), 1)
    few: Facts = {"rows": rows, "rows_low": int(rows * 0.8), "rows_high": int(rows * 1.25) + 1}
    return known | few | {"content_id": f"head:{xxhash.xxh3_128_hexdigest(head)}"}


def _look_at_long(source: Source, dialect: Dialect | None, exact: bool) -> Facts:
    """A packed file, or any that is to be read whole."""
    path, size, codec = source.place, source.size, source.packing
    blocks = read_blocks(path, codec)
    head = next(blocks, b"")
    facts, dialect = _describe(source, head[:HEAD], False, dialect)
    facts["splittable"] = codec == "none"
    if dialect.forms and codec == "none":
        return facts | _look_reshaped(source, head[:HEAD], dialect, exact)
    blocks = (
        reshaped(chain([head], blocks), dialect.forms) if dialect.forms else chain([head], blocks)
    )
    head = next(blocks, b"")
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
    packer = codecs()[codec].packer(Packing.parse(codec).level)
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
