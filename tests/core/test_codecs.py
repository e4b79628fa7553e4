"""Packed bytes read in any range, frames that follow one another, secrets, and lazy pools."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.mended import mended_source
from splarn.core.reading.faults import Fault, read_rejects, replace_rejects, write_rejects
from splarn.core.shape.cutting import pack
from splarn.core.source.codecs import (
    Packing,
    codec_by_name,
    codec_of,
    codecs,
    detect_codec,
    read_blocks,
)
from splarn.core.source.files import content_hash, find_files
from splarn.core.source.secrets import filled
from splarn.core.work.disk import ASIDE, write_bytes, write_text
from splarn.core.work.pool import Inline, Threads
from splarn.core.work.pools import Pools

PACKINGS = st.sampled_from(
    [Packing(name, level) for name, codec in codecs().items() for level in {*codec.levels, 1}
     if codec.levels[0] <= level <= min(codec.levels[1], 6)]
)  # fmt: skip


@settings(max_examples=90, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.binary(max_size=300), max_size=5), PACKINGS, st.data())
def test_any_range_of_any_frames(
    tmp_path: Path, frames: list[bytes], packing: Packing, data: st.DataObject
) -> None:
    path = tmp_path / "packed"
    whole = b"".join(frames)
    path.write_bytes(b"".join(pack(frame, packing) for frame in frames))
    start = data.draw(st.integers(0, len(whole)))
    end = data.draw(st.none() | st.integers(start, len(whole)))
    taken: list[int] = []
    got = b"".join(read_blocks(path, packing.codec, start, end, 64, taken.append))
    assert got == whole[start:end]
    if packing.codec != "none":
        assert sum(taken) <= path.stat().st_size
        if frames:
            assert codec_of(path) == packing.codec
    if end is None and packing.codec != "none":
        assert sum(taken) == path.stat().st_size


def test_codecs_by_content_and_by_name() -> None:
    for name, codec in codecs().items():
        packed = pack(b"passage", Packing(name, codec.default_level))
        assert detect_codec(packed) == name
        assert codec_by_name(Path(f"a.b{codec.suffix.upper()}")) == name
    assert detect_codec(b"") == "none"
    assert codec_by_name(Path("gz")) == "none"


def test_tuned_levels_pack_no_worse_than_they_should() -> None:
    data = b"".join(b"%d,LK-%03d,Otter,up,2031-04-05 06:07:%02d\n" % (n, n % 60, n % 60)
                    for n in range(40_000))  # fmt: skip
    sizes = [len(pack(data, Packing("zstd", level))) for level in (1, 3, 9)]
    assert sizes[0] >= sizes[1] * 0.98
    assert sizes[1] >= sizes[2] * 0.98
    assert sizes[0] < len(data) / 4


@pytest.mark.parametrize("text", ["gzip:0", "xz:10", "zstd:20", "lz4:-1", "bzip2:best"])
def test_levels_that_a_codec_does_not_have(text: str) -> None:
    with pytest.raises(RequestError, match="cannot have level"):
        Packing.parse(text)
    name = text.partition(":")[0]
    low, high = codecs()[name].levels
    assert low <= Packing.parse(name).level <= high


def test_secrets_are_filled_in_from_the_environment(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("LARKMERE_KEY", "a$b")
    assert filled("x:${LARKMERE_KEY}@y", "The target") == "x:a$b@y"
    assert filled("plain $HOME {x}", "The target") == "plain $HOME {x}"
    with pytest.raises(RequestError, match=r"The place names \$\{NOT_THERE\}"):
        filled("${NOT_THERE}", "The place")


def test_flow_draws_only_a_little_ahead_and_keeps_the_order() -> None:
    drawn: list[int] = []

    def numbers() -> Iterator[int]:
        for number in range(50):
            drawn.append(number)
            yield number

    def slow(number: int) -> tuple[int, str]:
        if number == 30:
            raise ValueError("thirty")
        return number, threading.current_thread().name

    threads = Threads(3)
    try:
        some = threads.flow(slow, numbers())
        assert next(some)[0] == 0
        assert len(drawn) <= 6
        with pytest.raises(ValueError, match="thirty"):
            for expected, (number, _) in enumerate(some, 1):
                assert number == expected
        assert len(drawn) < 50
    finally:
        threads.close()
    assert list(Inline().flow(lambda n: n * 2, iter([1, 2]))) == [2, 4]
    loaded: list[bool] = []
    here, apart = (
        SimpleNamespace(in_process=one, preload=lambda one=one: loaded.append(one))
        for one in (True, False)
    )
    with Pools() as pools:
        assert isinstance(pools.streams(2, here), Threads)
        assert isinstance(pools.streams(1, apart), Inline)
    # What streams of this process import they import here.
    assert loaded == [False]


def test_rejects_are_replaced_whole_and_made_into_a_source(tmp_path: Path) -> None:
    faults = [
        Fault("a.csv", 2, 1, "n", "type", "x", "not an integer", 'x,"two\nlines"\r\n'),
        Fault("a.csv", 9, 7, None, "columns", None, "3 columns", "7,é"),
    ]
    path = tmp_path / "rejects" / "a.csv.rejects.jsonl"
    assert write_rejects(path, faults) == 2
    assert replace_rejects(path, faults[:1]) == path
    assert list(read_rejects(path)) == faults[:1]
    replace_rejects(path, faults)
    assert not list(tmp_path.rglob(f"*{ASIDE}"))
    layout = Layout("a", Dialect(encoding="latin-1"), (Field("n"), Field("note")))
    made, how = mended_source(path, layout, tmp_path / "mended")
    assert made.read_bytes() == 'x,"two\nlines"\n7,é\n'.encode("latin-1")
    assert not how.dialect.header
    assert mended_source(path, layout, tmp_path / "mended")[0] == made
    columnar = Layout("a", Dialect(), layout.fields, "parquet")
    assert mended_source(path, columnar, tmp_path / "mended")[1].format == "jsonl"
    replace_rejects(path, [Fault("a", 1, 1, None, "x", None, "", "€")])
    with pytest.raises(RequestError, match="does not know"):
        mended_source(path, layout, tmp_path / "mended")
    for content, what in (("", "holds no rejects"), ("{}\n", "line 1"), ("[", "line 1")):
        path.write_text(content)
        with pytest.raises(RequestError, match=what):
            mended_source(path, layout, tmp_path / "mended")


def test_small_files_are_whole_or_not_there(tmp_path: Path) -> None:
    write_text(tmp_path / "a" / "b.json", json.dumps({"a": 1}))
    write_bytes(tmp_path / "a" / "c.jsonl", b'{"a": 1}\n')
    assert [path.name for path in find_files([tmp_path / "a"])] == ["b.json", "c.jsonl"]
    assert content_hash(tmp_path / "a" / "c.jsonl").startswith("xxh3-128:")
    write_text(tmp_path / "a" / "b.json", '{\n "a": 1\n}\n')
    assert [path.name for path in find_files([tmp_path / "a"])] == ["c.jsonl"]
