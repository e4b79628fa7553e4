"""Parts: whatever the files and the part size, they hold every record once."""

from __future__ import annotations

import gzip
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.pieces import in_delivery, pieces_of
from splarn.core.reading import read_parsed
from splarn.core.reading.faults import Fault
from splarn.core.reading.text import header_line
from splarn.core.shape import Manifest, read_manifest, shaper
from splarn.core.shape.estimate import estimate, sample_bytes
from splarn.core.shape.manifest import MANIFEST, UNFINISHED
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import Shaped, shape
from splarn.core.shape.task import Cut, ShapeTask
from splarn.core.shape.verify import verify_parts
from splarn.core.shape.work import run_shape_task
from splarn.core.source.codecs import Packing, codec_of, codecs, read_blocks
from splarn.core.source.files import content_hash
from splarn.core.source.source import Source
from splarn.core.work.disk import ASIDE
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools
from splarn.demo.scenario import Delivery

TEXT = Layout("text", Dialect(header=False), (Field("a"), Field("b")))
FIELD = st.text(alphabet='ab,"\n\ré€', max_size=8).map(
    lambda text: '"' + text.replace('"', '""') + '"' if set(text) & set(',"\n\r') else text
)
RECORD = st.tuples(FIELD, FIELD).map(lambda pair: f"x{pair[0]},{pair[1]}\n".replace('x"', '"'))
CONTENT = st.lists(RECORD, min_size=1, max_size=30).map("".join)
PACKINGS = st.sampled_from([*map(Packing.parse, codecs()), Packing("gzip", 6)])


def unpacked(manifest: Manifest) -> bytes:
    return b"".join(
        block
        for part in manifest.parts
        for block in read_blocks(manifest.folder / part.path, part.codec)
    )


@settings(max_examples=80, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(CONTENT, min_size=1, max_size=4), PACKINGS, PACKINGS, st.integers(60, 400))
def test_any_files_are_cut_and_rejoined(
    tmp_path_factory: pytest.TempPathFactory,
    contents: list[str],
    before: Packing,
    after: Packing,
    size: int,
) -> None:
    folder = tmp_path_factory.mktemp("shape")
    paths = []
    for number, content in enumerate(contents):
        path = folder / f"in-{number}"
        packer = codecs()[before.codec].packer(before.level)
        path.write_bytes(packer.compress(content.encode()) + packer.flush())
        paths.append(path)
    made = shape(paths, TEXT, folder / "parts", PartsFormat("csv", after, size), Inline())
    manifest = read_manifest(folder / "parts")
    assert [part.path for part in manifest.parts] == [part.path for part in made.manifest.parts]
    assert unpacked(manifest) == "".join(contents).encode()
    assert verify_parts(manifest, TEXT, True, Inline()) == []
    assert all(part.raw_bytes <= size + 60 for part in manifest.parts)
    for part in manifest.parts:
        path = manifest.folder / part.path
        assert (path.stat().st_size, content_hash(path)) == (part.bytes, part.hash)


def test_workers_make_the_same_parts(delivery: Delivery, layout: Layout, tmp_path: Path) -> None:
    with Pools() as pools:
        made = [
            shape(
                delivery.paths,
                layout,
                tmp_path / str(workers),
                PartsFormat("csv", Packing("zstd", 1), 100_000),
                pools.threads(workers),
            ).manifest
            for workers in (1, 2)
        ]
    assert unpacked(made[0]) == unpacked(made[1])
    assert [part.hash for part in made[0].parts] == [part.hash for part in made[1].parts]
    assert made[0].rows == delivery.rows
    header = (",".join(layout.names) + "\n").encode()
    whole = b"".join(path.read_bytes().removeprefix(header) for path in delivery.paths)
    assert unpacked(made[0]) == whole
    assert not made[0].layout.dialect.header


def test_verify_sees_a_changed_part_and_a_missing_range(
    delivery: Delivery, layout: Layout, tmp_path: Path
) -> None:
    manifest = shape(
        delivery.paths, layout, tmp_path / "parts", PartsFormat("csv", Packing(), 400_000), Inline()
    ).manifest
    assert verify_parts(manifest, layout, True, Inline()) == []
    first = manifest.folder / manifest.parts[0].path
    first.write_bytes(first.read_bytes().replace(b"LK-", b"LQ-", 1))
    (found,) = verify_parts(manifest, layout, True, Inline())
    assert "hash differs" in found
    short = Manifest(manifest.folder, manifest.layout, manifest.parts[1:])
    assert any("not held once" in text for text in verify_parts(short, layout, True, Inline()))


def test_a_folder_in_use_is_left_alone(delivery: Delivery, layout: Layout, tmp_path: Path) -> None:
    def make(folder: Path, **options: bool) -> None:
        shape(
            delivery.paths[3:4],
            layout,
            folder,
            PartsFormat("csv", Packing(), 9999),
            Inline(),
            **options,
        )

    make(tmp_path / "parts")
    with pytest.raises(RequestError, match="--again"):
        make(tmp_path / "parts")
    make(tmp_path / "parts", again=True)
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "notes.txt").write_text("keep me")
    with pytest.raises(RequestError, match="other files"):
        make(tmp_path / "mine")
    assert (tmp_path / "mine" / "notes.txt").read_text() == "keep me"


def test_a_failed_shape_is_marked_and_begun_anew_when_the_source_is_mended(
    delivery: Delivery, layout: Layout, tmp_path: Path
) -> None:
    packed = tmp_path / "packed.csv.gz"
    packed.write_bytes(gzip.compress(delivery.paths[0].read_bytes())[:-4000])
    parts = tmp_path / "parts"
    with pytest.raises(OutsideError, match="cut short"):
        shape([packed], layout, parts, PartsFormat("csv", Packing(), 50_000), Inline())
    assert not list(parts.glob(f"part*{ASIDE}"))
    with pytest.raises(RequestError, match="unfinished"):
        read_manifest(parts)
    packed.write_bytes(gzip.compress(delivery.paths[0].read_bytes()))
    made = shape([packed], layout, parts, PartsFormat("csv", Packing(), 50_000), Inline())
    assert verify_parts(made.manifest, layout, True, Inline()) == []
    assert (parts / MANIFEST).exists()
    assert not (parts / UNFINISHED).exists()
    assert {path.name for path in parts.glob("*-0*")} == {p.path for p in made.manifest.parts}


@pytest.mark.parametrize("broken_at", [0, 1, 3, 5])
def test_an_interrupted_shape_goes_on_with_the_whole_parts(
    delivery: Delivery,
    layout: Layout,
    tmp_path: Path,
    broken_at: int,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def make(folder: Path) -> Shaped:
        output = PartsFormat("csv", Packing("zstd", 1), 300_000, header=True)
        return shape(delivery.paths, layout, folder, output, Inline())

    whole = make(tmp_path / "whole").manifest
    begun: list[str] = []

    def failing(task: ShapeTask, *rest: Any) -> list[Cut]:
        begun.append(task.stem)
        if len(begun) == broken_at + 1:
            # What a kill leaves: a part that was being written.
            (task.folder / f"{task.stem}.csv.zst{ASIDE}").write_bytes(b"half")
            raise KeyboardInterrupt
        return run_shape_task(task, *rest)

    with monkeypatch.context() as patch:
        patch.setattr(shaper, "run_shape_task", failing)
        with pytest.raises(KeyboardInterrupt):
            make(tmp_path / "parts")
    kept = {path.name: path.stat().st_mtime_ns for path in (tmp_path / "parts").glob("*.zst")}
    made = make(tmp_path / "parts")
    assert made.resumed == len(kept) == broken_at
    assert [(p.path, p.hash, p.rows) for p in made.manifest.parts] == [
        (p.path, p.hash, p.rows) for p in whole.parts
    ]
    for name, changed in kept.items():
        assert (tmp_path / "parts" / name).stat().st_mtime_ns == changed
    assert verify_parts(made.manifest, layout, True, Inline()) == []
    assert not list((tmp_path / "parts").glob(f"*{ASIDE}"))


def test_parts_may_open_with_the_header(delivery: Delivery, layout: Layout, tmp_path: Path) -> None:
    made = shape(
        delivery.paths, layout, tmp_path / "parts",
        PartsFormat("csv", Packing(), 400_000, header=True),
        Inline(),
    ).manifest  # fmt: skip
    assert made.layout == layout
    first = (",".join(layout.names) + "\n").encode()
    for part in made.parts:
        assert (made.folder / part.path).read_bytes().startswith(first)
    assert made.rows == delivery.rows
    again = shape(
        [made.folder / part.path for part in made.parts], layout, tmp_path / "again",
        PartsFormat("csv", Packing(), 400_000), Inline(),
    ).manifest  # fmt: skip
    assert again.rows == delivery.rows
    odd = Layout("odd", Dialect(), (Field("a,b"), Field('say "so"')))
    assert header_line(odd) == b'"a,b","say ""so"""\n'


def test_estimates_cover_every_codec(delivery: Delivery) -> None:
    sample = sample_bytes([Source.of(path) for path in delivery.paths])
    packings = [Packing.parse(name) for name in codecs()]
    found = estimate(sample, packings, 10 * delivery.bytes, Inline())
    assert [one.packing for one in found] == packings
    for one in found:
        assert (one.share == 1) == (one.packing.codec == "none")
        assert 0 < one.share <= 1
        assert one.seconds == pytest.approx(10 * delivery.bytes / one.pack_speed)


def test_a_part_must_hold_a_record(delivery: Delivery, layout: Layout, tmp_path: Path) -> None:
    with pytest.raises(RequestError, match="smaller than a record"):
        shape(
            delivery.paths, layout, tmp_path / "parts", PartsFormat("csv", Packing(), 20), Inline()
        )
    assert not (tmp_path / "parts").exists()
    late = tmp_path / "late.csv"
    late.write_bytes(b"1,a\n" * 400_000 + b'2,"' + b"long " * 1000 + b'"\n')
    with pytest.raises(RequestError, match="smaller than a record"):
        shape([late], TEXT, tmp_path / "parts", PartsFormat("csv", Packing(), 2000), Inline())


def test_several_frames_in_one_file_are_read_through(tmp_path: Path) -> None:
    for name, codec in codecs().items():
        if name == "none":
            continue
        frames = []
        for text in (b"1,a\n", b"2,b\n"):
            packer = codec.packer(codec.default_level)
            frames.append(packer.compress(text) + packer.flush())
        path = tmp_path / name
        path.write_bytes(b"".join(frames))
        assert codec_of(path) == name
        assert b"".join(read_blocks(path, name)) == b"1,a\n2,b\n"
        assert b"".join(read_blocks(path, name, 2, 6)) == b"a\n2,"
        path.write_bytes(frames[0] + frames[1][:-3])
        with pytest.raises(OutsideError, match="cut short"):
            list(read_blocks(path, name))
        path.write_bytes(frames[0][:4] + b"\xee" * 40)
        with pytest.raises(OutsideError, match=r"damaged|cut short"):
            list(read_blocks(path, name))


@pytest.mark.parametrize("text", ["rar", "gzip:0", "zstd:x", "none:1"])
def test_packings_that_are_none(text: str) -> None:
    with pytest.raises(RequestError):
        Packing.parse(text)


record_texts = st.lists(
    st.sampled_from(["plain", "two\nlines", "", "bad", "blank line before"]),
    min_size=1,
    max_size=40,
)


@given(
    files=st.lists(record_texts, min_size=1, max_size=3),
    form=st.sampled_from(["csv", "jsonl", "parquet"]),
    packed=st.booleans(),
    workers=st.integers(1, 3),
    size=st.integers(60, 400),
)
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
def test_rows_of_converted_parts_are_followed_into_the_delivery(
    tmp_path_factory: pytest.TempPathFactory, files: list[list[str]], form: str, packed: bool,
    workers: int, size: int,
) -> None:  # fmt: skip
    folder = tmp_path_factory.mktemp("followed")
    layout = Layout("t", Dialect(), (Field("no", "integer"), Field("text")))
    truth: dict[int, tuple[str, int, int]] = {}
    paths, number = [], 0
    for at, records in enumerate(files):
        path = folder / f"{at}.csv{'.gz' if packed else ''}"
        text, line = "no,text\n", 2
        for row, kind in enumerate(records, 1):
            number += 1
            if kind.startswith("blank"):
                text, line = f"{text}\n", line + 1
            truth[number] = (path.name, row, line)
            shown = f'"{kind}"' if "\n" in kind else kind
            record = f"{'x' if kind == 'bad' else number},{shown}\n"
            text, line = text + record, line + record.count("\n")
        path.write_bytes(gzip.compress(text.encode()) if packed else text.encode())
        paths.append(path)
    packing = Packing.parse("zstd:1", form == "parquet") if form == "parquet" else Packing()
    output = PartsFormat(form, packing, size, converted=True)
    with Pools() as pools:
        made = shape(paths, layout, folder / "parts", output, pools.threads(workers), keep=None)
    seen = dict.fromkeys(truth, False)
    plain = not any("\n" in kind or kind.startswith("blank") for one in files for kind in one)
    for part in made.manifest.parts:
        pieces = pieces_of(part, made.manifest.layout)
        assert pieces or not part.rows
        path, read_by = folder / "parts" / part.path, made.manifest.layout
        blocks = read_parsed(path, part.codec, read_by)
        rows = [one for parsed in blocks for one in parsed.table.column("no").to_pylist()]
        for place, found in enumerate(rows, 1):
            refused = Fault(part.path, place, place, None, "engine", None, "", "")
            fault = in_delivery(refused, pieces)
            name, row, line = truth[found]
            assert (Path(fault.path).name, fault.row) == (name, row)
            # Where records take several lines that is not told rather than guessed.
            assert fault.line == line or (fault.line == 0 and not plain)
            seen[found] = True
    bad = [number for number, was in seen.items() if not was]
    assert len(bad) == sum(kind == "bad" for one in files for kind in one)
    assert [(Path(one.path).name, one.row) for one in made.faults] == [
        truth[number][:2] for number in bad
    ]
    if plain:
        assert [one.line for one in made.faults] == [truth[number][2] for number in bad]
