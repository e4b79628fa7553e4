"""Which stretches go into which part: every byte once, every record once, whatever the files."""

from __future__ import annotations

import gzip
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.layout import Dialect, Field, Layout
from splarn.core.records.chunks import record_chunks
from splarn.core.shape.copying import Sequential, copied, records
from splarn.core.shape.grouping import CountTask, count_rows, group_sources, locate_rows
from splarn.core.shape.manifest import SourceRange
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.shape.verify import verify_parts
from splarn.core.source.codecs import Packing, codec_of, codecs, read_blocks
from splarn.core.source.ranges import line_views
from splarn.core.source.source import Source
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools

TEXT = Layout("text", Dialect(header=False), (Field("a"), Field("b")))
FIELD = st.sampled_from(["", "7", "plain", '"a,b"', '"two\nlines"', '"say ""so"""', "é€", '"\r\n"'])
RECORD = st.tuples(FIELD, FIELD).map(lambda pair: f"{pair[0]},{pair[1]}")
ENDING = st.sampled_from(["\n", "\r\n", "\n\n"])
CONTENT = st.lists(st.tuples(RECORD, ENDING).map("".join), min_size=1, max_size=25).map("".join)


@pytest.fixture
def made(tmp_path_factory: pytest.TempPathFactory) -> Callable[[list[str], str], list[Path]]:
    """Writes contents into files of a folder of their own, packed or not."""

    def make(contents: list[str], codec: str) -> list[Path]:
        folder = tmp_path_factory.mktemp("source")
        paths = []
        for number, content in enumerate(contents):
            packer = codecs()[codec].packer(codecs()[codec].default_level)
            path = folder / f"in-{number}"
            path.write_bytes(packer.compress(content.encode()) + packer.flush())
            paths.append(path)
        return paths

    return make


def rows_of(path: Path) -> list[bytes]:
    """The records of a whole file."""
    blocks = read_blocks(path, codec_of(path))
    return [
        piece
        for chunk in record_chunks(blocks, TEXT.dialect, where="text")
        for index in range(chunk.rows)
        for piece in chunk.pieces(slice(index, index + 1))
    ]


@settings(max_examples=70, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(CONTENT, min_size=1, max_size=4), st.integers(20, 300))
def test_groups_tile_plain_files(
    made: Callable[[list[str], str], list[Path]], contents: list[str], size: int
) -> None:
    paths = made(contents, "none")
    groups = group_sources(
        [Source.of(path) for path in paths], TEXT, PartsFormat("csv", Packing(), size), Inline()
    )
    pieces = [piece for group in groups for piece in group.pieces]
    assert not any(group.cutting for group in groups)
    for path in paths:
        mine = [piece for piece in pieces if piece.path == str(path)]
        assert mine[0].start == 0
        assert mine[-1].end in (None, path.stat().st_size)
        assert all(before.end == after.start for before, after in pairwise(mine))
        got = b"".join(data for data, _ in records(mine, TEXT.dialect))
        assert got == b"".join(rows_of(path))
    for group in groups:
        for piece, known in group.counted.items():
            alone = list(records([piece], TEXT.dialect))
            assert known.rows == sum(rows for _, rows in alone)
            quick = list(copied([piece], TEXT.dialect, None, group.counted))
            assert b"".join(data for data, _ in quick) == b"".join(data for data, _ in alone)
            assert sum(rows for _, rows in quick) == known.rows


@settings(max_examples=50, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(CONTENT, min_size=1, max_size=3), st.integers(1, 12))
def test_groups_of_rows_hold_just_so_many(
    made: Callable[[list[str], str], list[Path]], contents: list[str], rows: int
) -> None:
    paths = made(contents, "none")
    output = PartsFormat("csv", Packing(), 1 << 20, part_rows=rows)
    groups = group_sources([Source.of(path) for path in paths], TEXT, output, Inline())
    counts = [sum(n for _, n in records(group.pieces, TEXT.dialect)) for group in groups]
    every = [row for path in paths for row in rows_of(path)]
    assert counts == [rows] * (len(every) // rows) + [len(every) % rows] * bool(len(every) % rows)
    got = b"".join(data for group in groups for data, _ in records(group.pieces, TEXT.dialect))
    assert got == b"".join(every)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(CONTENT, min_size=1, max_size=5),
    st.sampled_from(["gzip", "zstd", "lz4"]),
    st.integers(30, 200),
    st.integers(0, 9),
)
def test_packed_files_follow_one_another_in_parts(
    made: Callable[[list[str], str], list[Path]],
    tmp_path_factory: pytest.TempPathFactory,
    contents: list[str],
    codec: str,
    size: int,
    rows: int,
) -> None:
    paths = made(contents, codec)
    parts = tmp_path_factory.mktemp("parts") / "parts"
    output = PartsFormat("csv", Packing.parse("zstd:1"), size, part_rows=rows)
    with Pools() as pools:
        manifest = shape(paths, TEXT, parts, output, pools.threads(2)).manifest
    assert verify_parts(manifest, TEXT, True, Inline()) == []
    got = b"".join(
        block for part in manifest.parts for block in read_blocks(parts / part.path, part.codec)
    )
    assert got == b"".join(row for path in paths for row in rows_of(path))
    if rows:
        assert max(part.rows for part in manifest.parts) <= rows


@settings(max_examples=50, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(CONTENT, st.data())
def test_rows_are_counted_and_located(
    made: Callable[[list[str], str], list[Path]], content: str, data: st.DataObject
) -> None:
    (path,) = made([content], "none")
    every = rows_of(path)
    task = CountTask(path, TEXT.dialect, 0, None)
    assert count_rows(task) == len(every)
    wanted = sorted(data.draw(st.sets(st.integers(0, len(every) - 1))))
    found = locate_rows(CountTask(path, TEXT.dialect, 0, None, tuple(wanted)))
    raw = path.read_bytes()
    assert len(found) == len(wanted)
    for row, at in zip(wanted, found, strict=True):
        assert raw[at:].startswith(every[row].rstrip(b"\n"))


@settings(max_examples=50, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.binary(min_size=1, max_size=400),
    st.lists(st.tuples(st.integers(0, 400), st.none() | st.integers(0, 400)), max_size=6),
)
def test_a_sequential_reader_gives_any_range(
    tmp_path: Path, data: bytes, wanted: list[tuple[int, int | None]]
) -> None:
    path = tmp_path / "packed.gz"
    path.write_bytes(gzip.compress(data))
    reader = Sequential()
    for start, end in wanted:
        expected = data[start:] if end is None else data[start:end]
        assert b"".join(reader.read(path, "gzip", start, end)) == expected


@settings(max_examples=50, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.binary(max_size=3000), st.data())
def test_line_views_rejoin(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, data: bytes, draw: st.DataObject
) -> None:
    from splarn.core.source import ranges

    path = tmp_path / "lines"
    path.write_bytes(data)
    start = draw.draw(st.integers(0, len(data)))
    end = draw.draw(st.integers(start, len(data)))
    with monkeypatch.context() as patch:
        patch.setattr(ranges, "BLOCK", 50)
        patch.setattr(ranges, "FIND", 10)
        blocks = [bytes(view) for view in line_views(path, start, end)]
    assert b"".join(blocks) == data[start:end]
    assert all(block.endswith(b"\n") for block in blocks[:-1])


def test_small_and_large_files_share_parts_as_they_fit(tmp_path: Path) -> None:
    sizes = [30, 900, 40, 2500, 10, 20, 990]
    paths = []
    for number, size in enumerate(sizes):
        path = tmp_path / f"{number}.csv"
        path.write_bytes(b"1,22222222\n" * (size // 11 + 1))
        paths.append(path)
    packed = tmp_path / "last.csv.gz"
    packed.write_bytes(gzip.compress(b"1,x\n" * 400))
    output = PartsFormat("csv", Packing(), 1000)
    groups = group_sources([Source.of(path) for path in [*paths, packed]], TEXT, output, Inline())
    names = [[Path(piece.path).stem for piece in group.pieces] for group in groups]
    assert names == [["0", "1", "2"], ["3"], ["3"], ["3", "4", "5"], ["6"], ["last.csv"]]
    assert groups[-1].cutting
    for group in groups[:-1]:
        total = sum(
            (Path(p.path).stat().st_size if p.end is None else p.end) - p.start
            for p in group.pieces
        )
        assert total <= 1000 + 22
    whole = SourceRange(str(packed), "gzip", 0, None)
    assert sum(rows for _, rows in records([whole], TEXT.dialect)) == 400
