"""Sources and their contents: known by their records, noticed when they change, never swelling."""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import os
import resource
import time
from collections.abc import Callable
from pathlib import Path

import lz4.frame
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from splarn.core.check.checking import check
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.pieces import in_delivery, pieces_of
from splarn.core.load.refusals import named_as
from splarn.core.load.request import Input
from splarn.core.reading.faults import Fault
from splarn.core.records.chunks import MAX_RECORD
from splarn.core.shape.manifest import read_manifest
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.source.codecs import Packing, read_blocks
from splarn.core.source.content import Contents, Held, Identity, Reading
from splarn.core.source.files import LEAVING, find_files
from splarn.core.source.source import Proof, Source
from splarn.core.target.names import join_name, split_name
from splarn.core.target.notes import PartNote
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools

TEXT = Layout("rows", Dialect(), (Field("n", "integer"), Field("note")))
HEADLESS = Layout("rows", Dialect(header=False), TEXT.fields)
PACKERS: dict[str, Callable[[bytes], bytes]] = {
    "gzip": gzip.compress,
    "zstd": zstandard.ZstdCompressor(level=3, write_checksum=True).compress,
    "bzip2": bz2.compress,
    "xz": lzma.compress,
    "lz4": lz4.frame.compress,
}


def rows(first: int, last: int) -> str:
    return "".join(f"{n},note {n}\n" for n in range(first, last))


def test_content_is_the_records_whatever_the_name_the_codec_and_the_header(tmp_path: Path) -> None:
    body = rows(1, 500).encode()
    ids = set()
    for number, (codec, packer) in enumerate({"none": bytes, **PACKERS}.items()):
        path = tmp_path / f"{number}-{codec}"
        path.write_bytes(packer(b"n,note\n" + body))
        ids.add(Source.of(path).identity(TEXT))
    bare = tmp_path / "bare.csv"
    bare.write_bytes(body)
    ids.add(Source.of(bare).identity(HEADLESS))
    marked = tmp_path / "marked.csv"
    marked.write_bytes(b"\xef\xbb\xbfn,note\n" + body)
    ids.add(Source.of(marked).identity(TEXT))
    assert len(ids) == 1
    bare.write_bytes(body.replace(b"note 250", b"nota 250"))
    assert Source.of(bare).identity(HEADLESS) not in ids


def test_parts_know_what_they_hold_and_where_it_lies(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text('n,note\n1,"two\nlines"\n' + rows(2, 4000))
    for codec in ("none", "gzip"):
        source = path
        # A manifest on its way out, its shipment broken off, is still the one.
        if codec == "gzip":
            source = tmp_path / "a.csv.gz"
            source.write_bytes(gzip.compress(path.read_bytes()))
        made = shape(
            [source], TEXT, tmp_path / codec, PartsFormat("csv", Packing(), 8192), Inline()
        )
        made.manifest.path.rename(f"{made.manifest.path}{LEAVING}")
        manifest = read_manifest(made.manifest.path)
        assert [one.hash for one in manifest.parts] == [one.hash for one in made.manifest.parts]
        assert list(manifest.contents.values()) == [Source.of(path).identity(TEXT)]
        assert len(manifest.parts) > 3
        lines = path.read_text().splitlines(keepends=True)
        for part in manifest.parts:
            written = (manifest.folder / part.path).read_text().splitlines(keepends=True)
            pieces = pieces_of(part, manifest.layout)
            own = Source.of(manifest.folder / part.path).identity(manifest.layout)
            assert part.content == own.whole
            (piece,) = pieces
            fault = Fault(part.path, 1 + len(written) - 1, part.rows, None, "type", None, "odd")
            moved = in_delivery(fault, pieces)
            assert lines[moved.line - 1] == written[-1]
            assert (moved.path, moved.part) == (str(source), part.path)
            assert moved.row == piece.row + part.rows


STRETCHES = st.tuples(st.integers(0, 50), st.one_of(st.none(), st.integers(1, 60)))


@given(st.lists(STRETCHES, max_size=5), STRETCHES)
def test_contents_meet_exactly_where_bytes_are_shared(
    held: list[tuple[int, int | None]], asked: tuple[int, int | None]
) -> None:
    def bytes_of(stretch: tuple[int, int | None]) -> set[int]:
        return set(range(stretch[0], 200 if stretch[1] is None else stretch[1]))

    known: Contents[str] = Contents()
    held = [one for one in held if bytes_of(one)]
    x, y = Identity("a", "x"), Identity("a", "y")
    known.add([Held(x, *one) for one in held], "me")
    if not bytes_of(asked):
        return
    shared = any(bytes_of(one) & bytes_of(asked) for one in held)
    assert known.owner([Held(x, *asked)]) == (("me", True) if shared else (None, True))
    assert known.owner([Held(y, *asked)]) == (None, True)


# How contents begin and how they are in whole, and how much of that is known of each.
CONTENTS = st.tuples(st.integers(0, 1), st.integers(0, 2))
KNOWN = st.tuples(CONTENTS, st.sampled_from([(1, 1), (1, 0), (0, 1)]))


def identity(content: tuple[int, int], known: tuple[int, int]) -> Identity:
    return Identity(
        f"begins-128:{content[0]}" if known[0] else "", f"xxh3-128:{content}" if known[1] else ""
    )


def part(number: int, content: tuple[int, int], known: tuple[int, int]) -> PartNote:
    is_ = identity(content, known)
    return PartNote(
        "load-1", f"{is_.name}-{number}" if not known[1] else is_.whole, "a.csv", "open", 0, 0, 0,
        begins=is_.begins, whole=is_.whole,
    )  # fmt: skip


@given(st.lists(KNOWN, max_size=6), KNOWN)
def test_what_is_said_of_content_is_so_however_little_is_known(
    held: list[tuple[tuple[int, int], tuple[int, int]]],
    asked: tuple[tuple[int, int], tuple[int, int]],
) -> None:
    contents: Contents[tuple[int, int]] = Contents()
    for content, known in held:
        contents.add([Held(identity(content, known))], content)
    owner, certain = contents.owner([Held(identity(*asked))])
    if certain:
        assert owner in (None, asked[0])
        assert (owner is not None) == any(content == asked[0] for content, _ in held)
    if asked[1] == (1, 1) and all(known == (1, 1) for _, known in held):
        assert certain


@given(st.permutations(range(4)), st.lists(KNOWN, min_size=4, max_size=4), st.booleans())
def test_inputs_go_on_as_the_parts_that_hold_the_same(
    order: list[int], noted: list[tuple[tuple[int, int], tuple[int, int]]], same: bool
) -> None:
    contents = {content for content, _ in noted}
    if len(contents) < len(noted):
        return
    parts = [part(n, *one) for n, one in enumerate(noted)]
    own = [noted[n][0] for n in order]
    if not same:
        own[0] = (own[0][0], 7)
    inputs = [
        Input(Source(Path(str(n)), 0, (0, 0, n), "none", "csv"), f"xxh3-128:{one}",
              identity(one, (1, 1)))
        for n, one in enumerate(own)
    ]  # fmt: skip
    is_known = all(known == (1, 1) for _, known in noted)
    found = named_as(parts, inputs, certain=True)
    if same and is_known:
        assert found is not None
        assert [one.part_id for one in found] == [parts[n].part_id for n in order]
    if not same:
        assert found is None


def test_the_first_records_tell_large_files_apart_and_small_ones_are_known_whole(
    tmp_path: Path,
) -> None:
    paths = [tmp_path / name for name in ("small.csv", "large.csv", "twin.csv")]
    body = rows(1, 90_000)
    for path, text in zip(paths, ("1,a\n", body, body + "7,later\n"), strict=True):
        path.write_text("n,note\n" + text)
    small, large, twin = (Source.of(path).identity(TEXT, whole=False) for path in paths)
    assert (bool(small.whole), large.whole, large) == (True, "", twin)
    assert large.same(twin) is None
    assert small.same(large) is False
    wholes = [Source.of(path).identity(TEXT) for path in paths]
    assert [one.begins for one in wholes] == [small.begins, large.begins, twin.begins]
    assert wholes[1].same(wholes[2]) is False
    pieces = Reading(0)
    for at in range(0, len(body), 777):
        pieces.unpacked(body.encode()[at : at + 777])
    assert pieces.identity == wholes[1]


PIECES = st.lists(st.text(st.characters(exclude_characters="\0"), min_size=1), min_size=1)


@given(PIECES)
def test_names_are_read_as_they_are_written(pieces: list[str]) -> None:
    assert split_name(join_name(*pieces)) == pieces


@pytest.mark.parametrize("text", ["", "a.", ".a", "a..b", '"a', '"a"b', '"".b'])
def test_names_that_are_none_are_refused(text: str) -> None:
    with pytest.raises(RequestError, match="table name"):
        split_name(text)


@pytest.mark.parametrize("how", ["grow", "shrink", "change", "replace"])
def test_a_source_that_changes_while_it_is_read_is_a_fault_everywhere(
    tmp_path: Path, how: str
) -> None:
    path = tmp_path / "a.csv"
    path.write_text("n,note\n" + rows(1, 3000))
    source = Source.of(path)
    identity = source.identity(TEXT)

    def spoil() -> None:
        text = path.read_text()
        if how == "grow":
            path.write_text(text + "9,late\n")
        elif how == "shrink":
            os.truncate(path, 4000)
        elif how == "change":
            path.write_text(text.replace("note 77\n", "nope 77\n"))
        else:
            other = tmp_path / "other"
            other.write_text(text)
            other.replace(path)

    proof = Proof(source, TEXT, identity)
    for _ in proof.read(path, "none", 0, None):
        pass
    proof.check()
    spoil()
    with pytest.raises(OutsideError, match="while it was read"):
        proof.check()

    class Spoiling(Inline):
        """A pool whose first task is followed by the change."""

        def __init__(self) -> None:
            self.spoilt = False

        def as_done(self, run, tasks, watch=None):  # type: ignore[no-untyped-def]
            for found in super().as_done(run, tasks, watch):
                if not self.spoilt:
                    self.spoilt = True
                    spoil()
                yield found

    path.write_text("n,note\n" + rows(1, 3000))
    with pytest.raises(OutsideError, match="while it was read"):
        shape([path], TEXT, tmp_path / "parts", PartsFormat("csv", Packing(), 1 << 20), Spoiling())
    assert not (tmp_path / "parts" / "datapackage.json").exists()
    path.write_text("n,note\n" + rows(1, 3000))
    with pytest.raises(OutsideError, match="while it was read"):
        check([path], TEXT, Spoiling())


@settings(max_examples=60)
@given(
    st.sampled_from(sorted(PACKERS)),
    st.lists(st.sampled_from([b"", b"x", b"row,1\n" * 40_000, os.urandom(70_000), bytes(3 << 20)]),
             min_size=1, max_size=3),
    st.sampled_from([0, 1, 4, 600_000]),
    st.booleans(),
)  # fmt: skip
def test_frames_and_padding_unpack_to_what_was_packed_in_small_pieces(
    tmp_path_factory: pytest.TempPathFactory, codec: str, frames: list[bytes], padding: int,
    cut: bool,
) -> None:  # fmt: skip
    path = tmp_path_factory.mktemp("codec") / "a"
    packed = b"".join(map(PACKERS[codec], frames))
    if cut:
        path.write_bytes(packed[:-3])
        with pytest.raises(OutsideError, match=r"cut short|damaged"):
            list(read_blocks(path, codec))
        return
    path.write_bytes(packed + bytes(padding))
    pieces = list(read_blocks(path, codec))
    assert b"".join(pieces) == b"".join(frames)
    assert max(map(len, pieces), default=0) <= 1 << 20


@pytest.mark.parametrize("codec", ["gzip", "zstd"])
def test_a_bomb_of_zeros_is_a_fault_of_that_record_and_costs_no_memory(
    tmp_path: Path, codec: str
) -> None:
    path = tmp_path / "a.csv"
    zeros = bytes(1 << 20)
    opened = gzip.open if codec == "gzip" else zstandard.open
    with opened(path, "wb") as file:
        file.write(b"n,note\n1,before\n")
        for _ in range(300):
            file.write(zeros)
        file.write(b"\n2,after\n")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    found = check([path], TEXT, Inline())
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10
    assert (found.rows, found.bad) == (3, 1)
    (fault,) = found.faults
    assert (fault.kind, fault.row, fault.line) == ("record", 2, 3)
    assert f"{300 << 20:,}" in fault.message or f"{(300 << 20) + 1:,}" in fault.message
    assert grown < 250, f"{grown} MiB"


def test_a_quote_that_is_never_closed_costs_its_record_alone(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    with path.open("w") as file:
        file.write('n,note\n1,before\n2,"open\n')
        line = "x" * 999 + "\n"
        for _ in range((MAX_RECORD >> 10) * 2):
            file.write(line)
        file.write('closed"\n3,after\n')
    found = check([path], TEXT, Inline())
    assert (found.rows, found.bad, found.faults[0].line) == (3, 1, 3)


def test_a_check_where_everything_fails_is_quick_and_stops_with_a_sentence(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("n,note\n" + f"x,{'bad' * 14}\n" * 220_000)
    begun = time.process_time()
    found = check([path], TEXT, Inline())
    assert "does not seem to be that of these files" in found.stopped
    assert found.bad < 220_000
    # Asked to, it reads on, and still each fault costs the same.
    few = check([path], TEXT, Inline(), limit=60_000)
    assert few.bad >= 60_000
    assert few.faults[50_000].line == 50_002
    # Where each fault were looked for from the start again, this would take hours.
    assert time.process_time() - begun < 300


def test_what_is_no_file_is_left_out_and_named(tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "a.csv").write_text("n,note\n1,x\n")
    os.mkfifo(folder / "pipe.csv")
    os.mkfifo(folder / "pipe.json")
    (folder / "loop").symlink_to(folder)
    (folder / "nowhere.csv").symlink_to(tmp_path / "gone")
    (folder / "round.csv").symlink_to("round.csv")
    skipped: list[tuple[Path, str]] = []
    assert find_files([str(folder)], skipped=skipped) == [folder / "a.csv"]
    kinds = {path.name: what for path, what in skipped}
    assert kinds == {
        "pipe.csv": "a pipe",
        "pipe.json": "a pipe",
        "loop": "a link to a folder, which is not followed",
        "nowhere.csv": "a link that leads nowhere",
        "round.csv": "a link that leads nowhere",
    }
    with pytest.raises(RequestError, match="a pipe, not a file"):
        Source.of(folder / "pipe.csv")


def test_a_file_that_a_kill_left_on_its_way_out_comes_back(tmp_path: Path) -> None:
    (tmp_path / f"a.csv{LEAVING}").write_text("n,note\n1,x\n")
    (tmp_path / "b.csv").write_text("n,note\n2,x\n")
    assert [path.name for path in find_files([str(tmp_path)])] == ["a.csv", "b.csv"]
    (tmp_path / "a.csv").rename(tmp_path / f"a.csv{LEAVING}")
    assert find_files([str(tmp_path / "a.csv")]) == [tmp_path / "a.csv"]
    assert json.dumps(sorted(path.name for path in tmp_path.iterdir())) == '["a.csv", "b.csv"]'


def test_processes_tell_the_same_contents(tmp_path: Path) -> None:
    from splarn.core.load import inputs_from_files

    paths = []
    for number in range(5):
        path = tmp_path / f"{number}.csv"
        path.write_text("n,note\n" + rows(number * 1000, number * 1000 + 900))
        paths.append(path)
    with Pools() as pools:
        one = inputs_from_files(paths, TEXT, pools.of(2))
    assert [entry.content for entry in one] == [
        entry.content for entry in inputs_from_files(paths, TEXT)
    ]


@pytest.mark.parametrize("fill", [False, True])
@pytest.mark.parametrize("width", [3, 90, 4100])
def test_records_of_another_width_are_faults_in_a_file_of_another_order(
    tmp_path: Path, width: int, fill: bool
) -> None:
    """However wide the layout is: where the fields of such a record belong is not known."""
    names = [f"gauge_{number}" for number in range(width)]
    layout = Layout("wide", Dialect(fill=fill), tuple(Field(name) for name in names))
    widths = [width, 2, 4, width - 1, width + 1, width]
    path = tmp_path / "turned.csv"
    lines = [",".join(reversed(names)), *(",".join(map(str, range(n))) for n in widths)]
    path.write_text("\n".join(lines) + "\n")
    found = check([path], layout, Inline())
    assert [fault.row for fault in found.faults] == [2, 3, 4, 5]
    assert {fault.kind for fault in found.faults} == {"columns"}
    told = [int(fault.message.split(" ")[0].replace(",", "")) for fault in found.faults]
    assert told == widths[1:5] or (fill and all(n > width for n in told))
