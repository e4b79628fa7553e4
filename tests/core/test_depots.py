"""Depots of every kind: ranges of large files, object stores, ten thousand parts."""

from __future__ import annotations

import hashlib
import secrets
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import OutsideError
from splarn.core.ship import Depot, ShipRecord, ShipRequest, Unready, ship
from splarn.core.ship.fetch import fetch
from splarn.core.ship.ranges import Ranges, cut, joined_spans
from splarn.core.source.places import Remote, open_place
from splarn.core.source.retry import Trying
from splarn.core.work.disk import ASIDE
from splarn.core.work.pools import Pools
from splarn.depots import Origins, open_depot
from splarn.depots.folder import FolderDepot
from splarn.standin.depot import SimulatedDepot
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import served
from tests.conftest import Splarn

DepotAt = Callable[[object], Depot]


@pytest.fixture
def origins() -> Iterator[Origins]:
    found = Origins()
    yield found
    found.close()


def send(sources: list[Any], depot: Depot, streams: int = 4, **more: Any) -> ShipRecord:
    waits: list[float] = []
    with Pools() as pools:
        request = ShipRequest(tuple(sources), depot, **more)
        return ship(request, pools.threads(streams), pause=waits.append)


def large(path: Path, size: int = 3_000_001) -> bytes:
    content = bytes(n * n % 253 for n in range(4096)) * (size // 4096 + 1)
    path.write_bytes(content[:size])
    return content[:size]


@given(st.integers(0, 400), st.integers(1, 90))
def test_cut_ranges_are_the_whole(size: int, piece: int) -> None:
    spans = cut(size, piece)
    assert joined_spans(spans) == ([(0, size)] if size else [])
    assert sum(end - first for first, end in spans) == size


@given(st.binary(min_size=1, max_size=300), st.integers(1, 60), st.randoms(use_true_random=False))
def test_ranges_in_any_order_and_twice_make_the_file(
    content: bytes, piece: int, random: Any
) -> None:
    folder = Path("/tmp") / f"splarn-ranges-{secrets.token_hex(6)}"
    path, digest = folder / "x", hashlib.sha256(content).hexdigest()
    ranges, spans = Ranges(), cut(len(content), piece)
    spans += random.sample(spans, len(spans) // 2)
    random.shuffle(spans)
    try:
        done = None
        for first, end in spans:
            if done:
                break
            assert not path.exists()
            blocks = iter([content[first:end]])
            done = ranges.put(path, blocks, (first, end), len(content), digest)
        assert done is True
        assert path.read_bytes() == content
        wrong = ranges.put(path, iter([content]), (0, len(content)), len(content), "0" * 64)
        assert wrong is False
        assert [at.name for at in folder.iterdir()] == ["x"]
    finally:
        for at in folder.iterdir():
            at.unlink()
        folder.rmdir()


@pytest.mark.parametrize(
    "fault", [{}, {"reset_share": 0.2}, {"corrupt_share": 0.2}, {"requests_per_second": 200}]
)
def test_a_large_file_goes_in_ranges_by_several_streams(
    tmp_path: Path, fault: dict[str, float], depot_at: DepotAt, origins: Origins
) -> None:
    content = large(tmp_path / "large.bin")
    small = tmp_path / "small.bin"
    small.write_bytes(b"small")
    application = SimulatedDepot(tmp_path / "depot", DepotPhysics(retry_after=0.01, **fault))
    application.folder.mkdir()
    with served(application) as address:
        sources = [tmp_path / "large.bin", small]
        record = send(sources, depot_at(address), range_size=100_000)
        assert (tmp_path / "depot" / "large.bin").read_bytes() == content
        assert {path.name for path in application.folder.iterdir()} == {"large.bin", "small.bin"}
        assert len(record.files[0].turns) == 1 + 31
        assert record.bytes_sent == len(content) + 5
        assert len(record.streams()) > 1
        again = send(sources, depot_at(address), range_size=100_000)
        assert all(one.kept for one in again.files)
        # From there into a folder, by ranges again, and into another depot as a whole.
        back = send(
            [Remote(f"{address}/large.bin")], FolderDepot(tmp_path / "back"), range_size=100_000,
            origin=origins.of,
        )  # fmt: skip
        assert (tmp_path / "back" / "large.bin").read_bytes() == content
        assert len(back.files[0].turns) == 1 + 31
        depot, name = origins.of(f"{address}/large.bin")
        fetch(depot, name, tmp_path / "got", Trying("x", "y", lambda _: None))
        assert (tmp_path / "got").read_bytes() == content


def test_ranges_that_have_arrived_are_not_sent_again(tmp_path: Path, depot_at: DepotAt) -> None:
    content = large(tmp_path / "large.bin")

    class Fragile(SimulatedDepot):
        left = 12

        async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
            if scope.get("method") == "PUT":
                self.left -= 1
                if self.left < 0:
                    scope = {**scope, "path": "/../out"}
            await super().__call__(scope, receive, send)

    application = Fragile(tmp_path / "depot", DepotPhysics())
    application.folder.mkdir()
    with served(application) as address:
        with pytest.raises(OutsideError, match=r"large\.bin"):
            send([tmp_path / "large.bin"], depot_at(address), 1, range_size=100_000)
        assert not (application.folder / "large.bin").exists()
        application.left = 10**6
        record = send([tmp_path / "large.bin"], depot_at(address), 1, range_size=100_000)
        assert len(record.files[0].turns) == 1 + 31 - 12
        assert (application.folder / "large.bin").read_bytes() == content


def test_reading_outlives_broken_lines_and_finds_spoiled_bytes_out(tmp_path: Path) -> None:
    (tmp_path / "depot").mkdir()
    content = large(tmp_path / "depot" / "a.bin", 700_001)
    breaking = DepotPhysics(reset_share=0.4, requests_per_second=300, retry_after=0.01)
    with served(SimulatedDepot(tmp_path / "depot", breaking)) as address:
        for _ in range(8):
            with open_place(Remote(f"{address}/a.bin")) as file:
                assert b"".join(iter(lambda: file.read(50_000), b"")) == content
                file.seek(123_456)
                assert file.read(1000) == content[123_456:124_456]
    with (
        served(SimulatedDepot(tmp_path / "depot", DepotPhysics(corrupt_share=1.0))) as address,
        open_place(Remote(f"{address}/a.bin")) as file,
        pytest.raises(OutsideError, match="is not what the store has"),
    ):
        while file.read(50_000):
            pass


def test_what_fsspec_opens_is_a_depot(tmp_path: Path, depot_at: DepotAt, origins: Origins) -> None:
    pytest.importorskip("fsspec")
    place = f"memory://{secrets.token_hex(4)}"
    content = large(tmp_path / "a.bin")
    record = send([tmp_path / "a.bin"], depot_at(place), template="x/{name}")
    assert not record.files[0].kept
    depot = depot_at(place)
    assert depot.names() == ["x/a.bin"]
    assert b"".join(depot.get("x/a.bin", 7, 19)) == content[7:19]
    assert send([tmp_path / "a.bin"], depot, template="x/{name}").files[0].kept
    send([Remote(f"{place}/x/a.bin")], FolderDepot(tmp_path / "back"), origin=origins.of)
    assert (tmp_path / "back" / "a.bin").read_bytes() == content
    depot.delete("x/a.bin")
    assert depot.find("x/a.bin") is None


def test_a_store_that_spoils_what_is_written_is_found_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    fsspec = pytest.importorskip("fsspec")
    (tmp_path / "a.bin").write_bytes(b"as it is")
    system = fsspec.filesystem("memory")
    write = system.open

    def spoiling(path: str, mode: str = "rb", **more: Any) -> Any:
        file = write(path, mode, **more)
        if mode == "wb":
            file.write(b"!")
        return file

    monkeypatch.setattr(system, "open", spoiling)
    depot = open_depot("memory://spoilt")
    with pytest.raises(Unready, match="not what was read"):
        depot.put("a", iter([b"as it is"]), 8, hashlib.sha256(b"as it is").hexdigest())
    assert depot.names() == []


def test_an_s3_protocol_store_is_a_depot_and_a_source(
    s3: str, splarn: Splarn, delivery: Any, tmp_path: Path
) -> None:
    assert splarn("layout", *delivery.paths, "--out", "layout.json").code == 0
    words = ["ship", *delivery.paths, "--to", s3, "--as", "{date:%Y}/{name}", "--streams", "3"]
    first = splarn(*words, "--json")
    assert first.code == 0, first.err
    again = splarn(*words, "--json").json
    assert [one["kept"] for one in again["files"]] == [True] * len(delivery.paths)
    year = first.json["files"][0]["name"].partition("/")[0]
    loaded = splarn("load", f"{s3}/{year}", "--layout", "layout.json", "--to", "sqlite:///x.db",
                    "--table", "passages", "--bad-rows", "set-aside", "--json")  # fmt: skip
    assert loaded.code == 0, loaded.err
    assert (loaded.json["rows_loaded"], loaded.json["verified"]) == (delivery.good, True)
    assert splarn("ship", f"{s3}/{year}", "--to", "back").code == 0
    for path in delivery.paths:
        assert (tmp_path / "back" / path.name).read_bytes() == path.read_bytes()
    wrong = splarn("ship", *delivery.paths, "--to", "s3://no-such-bucket/x")
    assert (wrong.code, "check that it is there" in wrong.err) == (3, True), wrong.err


SHIP_MANY = """
import resource, sys
from pathlib import Path
from splarn.core.work.pools import Pools
from splarn.core.ship import ShipRequest, ship
from splarn.depots import open_depot
source, place = sys.argv[1:]
with Pools() as pools:
    request = ShipRequest(tuple(sorted(Path(source).iterdir())), open_depot(place))
    record = ship(request, pools.threads(8))
assert record.bytes_sent == sum(one.bytes for one in record.files)
print(len(record.files), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
"""


def test_ten_thousand_parts_ship_in_bounded_memory(tmp_path: Path) -> None:
    peaks = {}
    for count in (500, 10_000):
        source = tmp_path / f"parts-{count}"
        source.mkdir()
        for number in range(count):
            (source / f"{number:05}.csv").write_bytes(b"%d\n" % number * 50)
        words = [sys.executable, "-c", SHIP_MANY, str(source), str(tmp_path / f"depot-{count}")]
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        files, peaks[count] = map(int, done.stdout.split())
        assert files == count
        arrived = {path.name: path.read_bytes() for path in (tmp_path / f"depot-{count}").iterdir()}
        assert arrived == {path.name: path.read_bytes() for path in source.iterdir()}
    # In KiB: a part may cost its record and its task, and no connection or content of its own.
    assert peaks[10_000] - peaks[500] < 9_500 * 6


def test_nothing_is_seen_under_its_name_before_it_is_whole(
    tmp_path: Path, depot_at: DepotAt
) -> None:
    content = large(tmp_path / "a.bin", 400_000)
    application = SimulatedDepot(tmp_path / "depot", DepotPhysics(stream_megabytes=2))
    application.folder.mkdir()
    seen: list[int] = []
    ended = threading.Event()

    def look() -> None:
        while not ended.wait(0.002):
            seen.extend(
                path.stat().st_size
                for path in application.folder.iterdir()
                if not path.name.endswith(ASIDE)
            )

    watching = threading.Thread(target=look)
    with served(application) as address:
        watching.start()
        send([tmp_path / "a.bin"], depot_at(address))
        ended.set()
        watching.join()
    assert set(seen) <= {len(content)}
