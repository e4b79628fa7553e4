"""Record boundaries: the fast way, the slow way and a plain automaton must agree on any text."""

from __future__ import annotations

import csv
import io
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.layout import Dialect
from splarn.core.records import chunks as chunks_module
from splarn.core.records.bitmaps import judge, tally
from splarn.core.records.chunks import line_blocks, record_chunks
from splarn.core.records.scanning import BOM, _walk, scan
from splarn.core.source.ranges import cut_ranges
from splarn.core.work.pool import Inline
from tests.plain import without_kernel

PLAIN = Dialect(header=False)
ODD = Dialect(header=False, delimiter="§", escape="\\")
DIALECTS = st.sampled_from([PLAIN, ODD, Dialect(header=False, escape="\\")])
PIECES = st.sampled_from(
    [
        *(b'"', b'""', b",", b"\n", b"\r\n", b"\r", b"a", b"7", b"\0", b'"x"', b"\n\n"),
        *(b"\\", b'\\"', b"\xa7", b"\xc2", b'\\\\"', *map(str.encode, ("é€", "§", '§"'))),
    ]
)
HOSTILE = st.lists(PIECES, max_size=60).map(b"".join)


def plain_ends(
    data: bytes, quoted: bool = False, dialect: Dialect = PLAIN
) -> tuple[list[int], bool]:
    """The definition, byte by byte: a quote opens only at a field's start."""
    ends = []
    at_start, at = not quoted, 0
    escape, mark = (dialect.escape or "").encode(), dialect.delimiter_bytes
    while at < len(data):
        byte = data[at : at + 1]
        following = data[at + 1 : at + 2]
        if byte == escape and (quoted or following not in (b"\n", b"")):
            at, at_start = at + 2, False
            continue
        if quoted:
            if byte == b'"':
                if data[at + 1 : at + 2] == b'"':
                    at += 1
                else:
                    quoted = False
        elif byte == b'"' and at_start:
            quoted, at_start = True, False
        elif byte == b"\n":
            ends.append(at + 1)
            at_start = True
        else:
            at_start = data.startswith(mark, at)
            at += len(mark) - 1 if at_start else 0
        at += 1
    return ends, quoted


@settings(max_examples=200)
@given(HOSTILE, st.booleans(), DIALECTS)
def test_fast_slow_and_plain_agree(data: bytes, quoted: bool, dialect: Dialect) -> None:
    ends, state = plain_ends(data, quoted, dialect)
    for found in (scan(data, dialect, quoted), _walk(data, dialect, quoted)):
        assert found.ends.tolist() == ends
        assert found.quoted == state
    if data:
        judged = judge(data, dialect)[int(quoted)]
        assert judged is None or (judged.quoted, judged.rows) == (state, len(ends))


@settings(max_examples=160)
@given(HOSTILE, st.integers(1, 40), st.integers(1, 40), DIALECTS)
def test_chunks_rejoin_to_the_records(data: bytes, block: int, size: int, dialect: Dialect) -> None:
    blocks = [data[at : at + block] for at in range(0, len(data), block)]
    chunks = list(record_chunks(blocks, dialect, size, where="text"))
    ends, _ = plain_ends(data, dialect=dialect)
    edges = [0, *ends, *([len(data)] if not ends or ends[-1] != len(data) else [])]
    records = [data[a:b] for a, b in pairwise(edges)]
    kept = [record for record in records if record not in (b"", b"\n", b"\r\n", b"\r")]
    got = b"".join(piece for chunk in chunks for piece in chunk.pieces(slice(None)))
    expected = b"".join(kept)
    assert got == (expected if expected.endswith(b"\n") or not expected else expected + b"\n")
    assert sum(chunk.rows for chunk in chunks) == len(kept)
    seen = 0
    for chunk in chunks:
        assert chunk.row == seen
        assert data[chunk.offset : chunk.offset + len(chunk.data)] == chunk.data
        assert chunk.line == data[: chunk.offset].count(b"\n")
        seen += chunk.rows


@settings(max_examples=160)
@given(HOSTILE, st.integers(1, 40), DIALECTS)
def test_blocks_of_lines_hold_the_same_bytes_and_count_the_same_records(
    data: bytes, block: int, dialect: Dialect
) -> None:
    blocks = [data[at : at + block] for at in range(0, len(data), block)]
    chunks = list(record_chunks(blocks, dialect, 10, where="text"))
    quick = list(line_blocks(iter(blocks), dialect, "text"))
    expected = b"".join(piece for chunk in chunks for piece in chunk.pieces(slice(None)))
    assert b"".join(piece for piece, _, _ in quick) == expected
    assert sum(rows for _, rows, _ in quick) == sum(chunk.rows for chunk in chunks)
    edges = max((longest for _, _, longest in quick), default=0)
    assert edges <= max((chunk.longest() for chunk in chunks), default=0)


@settings(max_examples=160)
@given(st.lists(HOSTILE, max_size=4), st.integers(1, 60), st.integers(1, 90), DIALECTS)
def test_chunks_are_the_same_by_bitmaps_and_by_positions(
    pieces: list[bytes], filler: int, size: int, dialect: Dialect
) -> None:
    data = (b"7,a\n" * filler).join(pieces)
    blocks = [data[at : at + 37] for at in range(0, len(data), 37)]
    with without_kernel():
        mixed = list(record_chunks(blocks, dialect, size, where="text", offset=5, row=3, line=2))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(chunks_module, "_on_bits", lambda *_: None)
        listed = list(record_chunks(blocks, dialect, size, where="text", offset=5, row=3, line=2))
    assert [
        (one.data, one.rows, one.offset, one.row, one.line, one.open_quote) for one in mixed
    ] == [(one.data, one.rows, one.offset, one.row, one.line, one.open_quote) for one in listed]
    for one, other in zip(mixed, listed, strict=True):
        # Asked for one by one first, while they are on bitmaps.
        assert [one.records.start(n) for n in range(one.rows)] == other.starts.tolist()
        assert one.starts.tolist() == other.starts.tolist()
        assert one.ends.tolist() == other.ends.tolist()


@settings(max_examples=160)
@given(HOSTILE, st.integers(0, 150), st.booleans(), DIALECTS)
def test_bitmaps_count_what_positions_count(
    data: bytes, filler: int, quoted: bool, dialect: Dialect
) -> None:
    data = b"7,a\n" * filler + data
    with without_kernel():
        found = tally(data, dialect, quoted) if data else None
    slow = scan(data, dialect, quoted)
    escapes = dialect.escape is not None and dialect.escape.encode() in data
    assert (found is None) == (slow.stray or not data or escapes)
    if found is not None:
        ends = slow.ends.tolist()
        assert (found.rows, found.quoted) == (len(ends), slow.quoted)
        assert (found.first_end, found.last_end) == ((ends[0], ends[-1]) if ends else (0, 0))
        touching = data.startswith((b"\n", b"\r\n")) or b"\n\n" in data or b"\n\r\n" in data
        assert found.blank == touching
        assert found.ends.positions().tolist() == ends
        assert [found.ends.behind(number) for number in range(len(ends))] == ends


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(HOSTILE, st.integers(1, 50), st.booleans(), DIALECTS)
def test_ranges_tile_a_file_at_record_starts(
    tmp_path: Path, data: bytes, size: int, marked: bool, dialect: Dialect
) -> None:
    path = tmp_path / "hostile.csv"
    path.write_bytes(BOM + data if marked else data)
    shift = len(BOM) if marked else 0
    starts = {shift, *(end + shift for end in plain_ends(data, dialect=dialect)[0])}
    found = cut_ranges(path, "none", dialect, size, Inline())
    assert found[0].start == 0
    assert found[-1].end in (None, path.stat().st_size)
    for before, after in pairwise(found):
        assert before.end == after.start
        assert after.start in starts
    for piece in found:
        if piece.counted is not None:
            inner = path.read_bytes()[piece.start or shift : piece.end]
            chunks = list(record_chunks([inner], dialect, 99, where="text", offset=1))
            assert piece.counted.rows == sum(chunk.rows for chunk in chunks)
            assert b"".join(p for c in chunks for p in c.pieces(slice(None))) == inner
            assert piece.counted.longest <= max(chunk.longest() for chunk in chunks)


@given(st.lists(st.lists(st.text(), min_size=2, max_size=4), max_size=12))
def test_what_the_standard_writer_writes_is_read_as_so_many_records(rows: list[list[str]]) -> None:
    text = io.StringIO()
    csv.writer(text, lineterminator="\n", quoting=csv.QUOTE_ALL).writerows(rows)
    data = text.getvalue().encode("utf-8", errors="replace")
    assert sum(c.rows for c in record_chunks([data], PLAIN, where="text")) == len(rows)


def test_header_mark_and_lines_are_counted() -> None:
    data = BOM + b'"a","b"\n1,"x\ny"\n\n2,z'
    (chunk,) = record_chunks([data], Dialect(), where="text")
    assert chunk.rows == 2
    assert [chunk.line_of(index) for index in range(2)] == [2, 5]
    assert chunk.pieces(slice(None)) == [b'1,"x\ny"\n', b"2,z\n"]


def test_a_quote_left_open_is_told_rather_than_read_into_memory(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("splarn.core.records.chunks.MAX_RECORD", 5000)
    blocks = [b'1,"never closed\n', *[b"2,x\n" * 100] * 40]
    (chunk,) = record_chunks(blocks, PLAIN, 1000, where="a.csv")
    assert (chunk.rows, chunk.too_long) == (1, sum(map(len, blocks)))
    assert len(chunk.data) <= 5000 + 2000
