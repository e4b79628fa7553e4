"""Content told by stretches that are read apart, and by its name from an earlier Splarn."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import pytest
import xxhash
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.layout import Dialect, Field, Layout
from splarn.core.shape import shaper
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.source import leaves, passing
from splarn.core.source.codecs import Packing, read_blocks
from splarn.core.source.content import Contents, Held, Identity, Reading, identity_of
from splarn.core.source.leaves import Leaves, Stretch, joined
from splarn.core.source.passing import Extent, Passing
from splarn.core.source.places import Place
from splarn.core.source.source import Identify, Source, identified, identify
from splarn.core.work.pool import Inline

TEXT = Layout("rows", Dialect(), (Field("n", "integer"), Field("note")))


@pytest.fixture(autouse=True, params=[24, 64])
def small_leaves(request: pytest.FixtureRequest) -> Iterator[None]:
    """Leaves that a short text has many of; the first records are one, or some of one."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(leaves, "LEAF", 64)
        patch.setattr(leaves, "FIRST", request.param)
        yield


def read_whole(data: bytes, skip: int) -> Identity:
    reading = Reading(skip)
    reading.unpacked(data)
    return reading.identity


@given(
    st.binary(max_size=700), st.integers(0, 40), st.lists(st.integers(0, 740), max_size=12),
    st.integers(1, 90), st.booleans(), st.randoms(),
)  # fmt: skip
def test_stretches_in_any_order_tell_what_reading_all_tells(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, skip: int, cuts: list[int], block: int,
    to_its_size: bool, chance: object,
) -> None:  # fmt: skip
    path = tmp_path_factory.getbasetemp() / "whole"
    skip = min(skip, len(data))
    path.write_bytes(data)
    inner = sorted({cut for cut in cuts if skip < cut < len(data)})
    parts = Passing({str(path): Extent(skip, len(data))})
    given_out = b""
    last = len(data) if to_its_size and data else None
    for start, end in pairwise([0, *inner, last]):
        given_out += b"".join(parts.read(path, "none", start or 0, end, block))
    assert given_out == data
    stretches = [stretch for _, stretch in parts.stretches]
    chance.shuffle(stretches)  # type: ignore[attr-defined]
    assert identity_of(stretches) == read_whole(data, skip)
    # Without one that has a leaf nothing is said, nor where one is there twice.
    for number, one in enumerate(stretches):
        if one.hashes or one.ends:
            assert joined([*stretches[:number], *stretches[number + 1 :]]) is None
            assert joined([*stretches, one]) is None


def test_whatever_is_changed_anywhere_changes_the_id() -> None:
    data = bytes(range(250)) * 2
    known = {read_whole(data, 0).whole}
    for at in range(0, len(data), 7):
        known.add(read_whole(data[:at] + b"\xff" + data[at + 1 :], 0).whole)
    for end in range(0, len(data), 7):
        known.add(read_whole(data[:end], 0).whole)
    # The leaves in another order.
    known.add(read_whole(data[64:128] + data[:64] + data[128:], 0).whole)
    assert len(known) == 1 + 72 + 72 + 1


@pytest.mark.parametrize("output", ["csv", "jsonl", "parquet"])
def test_a_file_in_parts_is_read_once_for_both(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, output: str
) -> None:
    path, small = tmp_path / "a.csv", tmp_path / "b.csv"
    path.write_text("n,note\n" + "".join(f'{n},"no\n{n}"\n' for n in range(3000)))
    small.write_text("n,note\n1,one\n")
    read: list[tuple[int, int | None]] = []

    def counted(
        place: Place, codec: str, start: int, end: int | None, *rest: int
    ) -> Iterator[bytes]:
        if place == path:
            read.append((start, end))
        return read_blocks(place, codec, start, end, *rest)

    def nothing(sources: list[Source], *_: object) -> Iterator[Identity]:
        assert not sources, "nothing is left to be read for its id"
        return iter(())

    monkeypatch.setattr(passing, "read_blocks", counted)
    monkeypatch.setattr(shaper, "identify", nothing)
    how = PartsFormat(output, Packing(), 4096)
    made = shape([path, small], TEXT, tmp_path / "parts", how, Inline())
    wanted = [Source.of(one).identity(TEXT) for one in (path, small)]
    assert list(made.manifest.contents.values()) == wanted
    assert len(made.manifest.parts) > 5
    beyond = sum((end or path.stat().st_size) - start for start, end in read)
    assert beyond <= path.stat().st_size + len(read) * leaves.LEAF


def test_a_shape_that_goes_on_knows_the_files_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "a.csv"
    path.write_text("n,note\n" + "".join(f"{n},note {n}\n" for n in range(3000)))
    how, folder = PartsFormat("csv", Packing("gzip"), 4096), tmp_path / "parts"
    write = shaper.write_manifest

    def broken(_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(shaper, "write_manifest", broken)
    with pytest.raises(KeyboardInterrupt):
        shape([path], TEXT, folder, how, Inline())
    mark = next(folder.glob(".*unfinished*"), None) or next(folder.glob("*nfinished*"))
    lines = mark.read_text().splitlines(keepends=True)
    mark.write_text("".join(line for number, line in enumerate(lines) if number % 5 != 3))
    monkeypatch.setattr(shaper, "write_manifest", write)
    made = shape([path], TEXT, folder, how, Inline())
    assert made.resumed > 0
    assert list(made.manifest.contents.values()) == [Source.of(path).identity(TEXT)]


@pytest.mark.parametrize("columnar", [False, True])
def test_large_files_are_read_in_strips(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, columnar: bool
) -> None:
    from splarn.core.source import source

    monkeypatch.setattr(source, "STRIP", 2 * leaves.LEAF)
    path = tmp_path / "a.csv"
    path.write_text("n,note\n" + "".join(f"{n},note {n}\n" for n in range(900)))
    layout = TEXT
    if columnar:
        made = shape(
            [path], TEXT, tmp_path / "p", PartsFormat("parquet", Packing(), 1 << 20), Inline()
        )
        path, layout = made.manifest.folder / made.manifest.parts[0].path, made.manifest.layout
    one = Source.of(path)
    (found,) = identify([one], layout, Inline())
    assert found == identified(Identify(one, layout)) == one.identity(layout)
    if columnar:
        assert made.manifest.parts[0].content == found.whole


# Two contents that begin alike and a third, by what is known of each.
KNOWN = st.sampled_from(["begins", "flat", "leaves", "both"])


def told(content: int, known: str, begins: bool) -> Identity:
    flat, whole = f"xxh3-128:{content}", f"leaves-128:{content}"
    how = f"begins-128:{content // 2}" if begins or known == "begins" else ""
    return {
        "begins": Identity(how),
        "flat": Identity(how, flat),
        "leaves": Identity(how, whole),
        "both": Identity(how, whole, flat),
    }[known]


@given(
    st.lists(st.tuples(st.integers(0, 2), KNOWN, st.booleans()), max_size=6),
    st.tuples(st.integers(0, 2), KNOWN, st.booleans()),
)
def test_names_of_an_earlier_version_are_never_taken_for_other_content(
    held: list[tuple[int, str, bool]], asked: tuple[int, str, bool]
) -> None:
    contents: Contents[int] = Contents()
    for one in held:
        contents.add([Held(told(*one))], one[0])
    owner, certain = contents.owner([Held(told(*asked))])
    there = any(one[0] == asked[0] for one in held)
    if certain:
        assert (owner is not None) == there
        assert owner in (None, asked[0])
    if asked[1:] == ("both", True) and all(one[1] != "begins" for one in held):
        assert certain


def test_nothing_and_next_to_nothing_have_ids() -> None:
    empty, short = Leaves(), Leaves()
    short.update(b"x")
    assert joined([empty.stretch(ends=True)]) == (empty.begins, empty.content_id)
    assert empty.begins == xxhash.xxh3_128_hexdigest(b"")
    assert joined([short.stretch(ends=True)]) == (short.begins, short.content_id)
    assert joined([Stretch(0, "", ends=False)]) is None
    assert joined([]) is None
