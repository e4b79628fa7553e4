"""Shipping into depots that are slow, busy and faulty: every file whole and once."""

from __future__ import annotations

import hashlib
import threading
import tracemalloc
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest

from splarn.core.errors import OutsideError, RequestError
from splarn.core.ship import Depot, ShipRecord, ShipRequest, Stored, Unready, ship
from splarn.core.ship.shipper import name_of
from splarn.core.source.digest_fields import read_field
from splarn.core.source.places import Remote
from splarn.core.source.retry import TRIES, seconds_asked
from splarn.core.work.pools import Pools
from splarn.standin.depot import SimulatedDepot
from splarn.standin.physics import DepotPhysics, read_physics
from splarn.standin.serve import served
from tests.conftest import Splarn


@pytest.fixture
def files(tmp_path: Path) -> list[Path]:
    """Forty files, one of them empty, one larger than a block of the wire."""
    folder = tmp_path / "parts"
    folder.mkdir()
    sizes = [0, 400_000, *(1000 + 37 * n for n in range(38))]
    found = []
    for number, size in enumerate(sizes):
        path = folder / f"part-{number:03}.csv"
        path.write_bytes(bytes((number * 31 + at * 7) % 251 for at in range(size)))
        found.append(path)
    return found


def send(files: list[Path], depot: Depot, streams: int = 8, **more: Any) -> ShipRecord:
    waits: list[float] = []
    with Pools() as pools:
        return ship(
            ShipRequest(tuple(files), depot, **more), pools.threads(streams), pause=waits.append
        )


def holds(folder: Path, files: list[Path]) -> bool:
    return {path.name: path.read_bytes() for path in folder.iterdir()} == {
        path.name: path.read_bytes() for path in files
    }


FAULTS = {
    "none": DepotPhysics(),
    "resets": DepotPhysics(reset_share=0.3),
    "stalls": DepotPhysics(stall_share=0.3, stall_seconds=0.05),
    "spoils": DepotPhysics(corrupt_share=0.3),
    "slow": DepotPhysics(latency=0.002, stream_megabytes=4, total_megabytes=10),
    "all": DepotPhysics(
        reset_share=0.2, stall_share=0.1, stall_seconds=0.05, corrupt_share=0.2, latency=0.001
    ),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_every_file_arrives_whole_whatever_the_depot_does(
    depot_at: Callable[[object], Depot], files: list[Path], tmp_path: Path, fault: str
) -> None:
    application = SimulatedDepot(tmp_path / "depot", FAULTS[fault])
    application.folder.mkdir()
    with served(application) as address:
        depot = depot_at(address)
        record = send(files, depot)
        assert holds(application.folder, files)
        assert len(record.files) == 40
        assert not any(one.kept for one in record.files)
        if fault in ("resets", "spoils", "all"):
            assert record.retries > 0
        assert record.bytes_sent == sum(path.stat().st_size for path in files)
        assert record.requests >= 80 + record.retries - TRIES
        # Once more: nothing is sent.
        again = send(files, depot)
        assert all(one.kept for one in again.files)
        assert again.bytes_sent == 0
        assert depot.names() == sorted(path.name for path in files)
        # Read back over the same wire, ranges and all.
        if fault == "none":
            remote = Remote(f"{address}/part-001.csv")
            with remote.open() as file:
                file.seek(399_000)
                assert file.read() == files[1].read_bytes()[399_000:]
            depot.delete("part-001.csv")
            depot.delete("part-001.csv")
            assert depot.find("part-001.csv") is None


def test_a_depot_that_asks_for_rest_gets_it(
    depot_at: Callable[[object], Depot], files: list[Path], tmp_path: Path
) -> None:
    application = SimulatedDepot(tmp_path, DepotPhysics(requests_per_second=25, retry_after=0.25))
    application.folder = tmp_path / "depot"
    application.folder.mkdir()
    with served(application) as address, Pools() as pools:
        record = ship(ShipRequest(tuple(files), depot_at(address)), pools.threads(20))
    assert holds(application.folder, files)
    assert application.counts["throttled"] == record.retries > 0
    assert record.throttled >= 0.25 * record.retries


class Broken(Exception):
    """The moment at which everything stops."""


def test_a_shipment_that_is_broken_off_sends_only_the_rest(
    depot_at: Callable[[object], Depot], files: list[Path], tmp_path: Path
) -> None:
    application = SimulatedDepot(tmp_path / "depot", DepotPhysics())
    application.folder.mkdir()
    with served(application) as address:
        depot = depot_at(address)
        put, left, lock = depot.put, [15], threading.Lock()

        def failing(*given: Any) -> Stored:
            with lock:
                left[0] -= 1
                if left[0] < 0:
                    raise Broken
            return put(*given)

        depot.put = failing  # type: ignore[method-assign]
        with pytest.raises(Broken):
            send(files, depot, 3)
        arrived = len(list(application.folder.iterdir()))
        assert 0 < arrived <= 15
        depot.put = put  # type: ignore[method-assign]
        # Content that changed since goes again, under the same name.
        files[0].write_bytes(b"no longer empty")
        record = send(files, depot, 3)
    assert holds(application.folder, files)
    assert sum(one.kept for one in record.files) in (arrived - 1, arrived)


def test_a_folder_is_a_depot(
    depot_at: Callable[[object], Depot], files: list[Path], tmp_path: Path
) -> None:
    depot = depot_at(tmp_path / "landing")
    with pytest.raises(OutsideError, match="no folder"):
        depot.names()
    day = datetime(2031, 4, 5)
    more = {"template": "{date:%Y/%m}/{run}-{name}", "run": "r1", "date": day}
    send(files[:3], depot, **more, delete_after=True)
    assert depot.names() == [f"2031/04/r1-part-00{n}.csv" for n in range(3)]
    assert [path.exists() for path in files[:4]] == [False, False, False, True]
    assert not list((tmp_path / "landing").rglob("*unfinished*"))
    from_folder = list((tmp_path / "landing").rglob("*.csv"))
    application = SimulatedDepot(tmp_path / "depot", DepotPhysics())
    application.folder.mkdir()
    with served(application) as address:
        send(from_folder, depot_at(address), 2)
        # From one store to another place.
        back = ShipRequest(
            tuple(Remote(f"{address}/{path.name}") for path in from_folder),
            depot_at(tmp_path / "back"),
        )
        with Pools() as pools:
            ship(back, pools.threads(2))
    assert holds(tmp_path / "back", from_folder)


def test_names_that_would_collide_or_leave_the_depot_are_refused(
    depot_at: Callable[[object], Depot], files: list[Path], tmp_path: Path
) -> None:
    depot = depot_at(tmp_path / "landing")
    for template, what in {
        "x": "would both be x",
        "../{name}": "no place below",
        "/{name}": "no place below",
        "{nmae}": "cannot be filled in",
        "{date:%Y}/{name}/": "no place|would both",
    }.items():
        if template.endswith("/"):
            continue
        with pytest.raises(RequestError, match=what):
            send(files, depot, template=template)
    assert not (tmp_path / "landing").exists()
    request = ShipRequest((), depot, "{stem}.{run}", "r", datetime(2031, 1, 1))
    assert name_of(request, Path("a.csv.gz")) == "a.r"


class Never:
    """A depot that is never ready; see core.ship.depot.Depot."""

    place = "nowhere"

    def find(self, name: str) -> Stored | None:
        raise Unready("it sleeps", 7.0)

    def put(self, *_: Any) -> Stored:
        raise AssertionError

    def delete(self, name: str) -> None: ...

    def names(self) -> list[str]:
        return []

    def close(self) -> None: ...


def test_patience_ends_with_a_sentence(files: list[Path]) -> None:
    waits: list[float] = []
    with pytest.raises(OutsideError, match=rf"in {TRIES} tries \(it sleeps\)"), Pools() as pools:
        ship(ShipRequest((files[0],), Never()), pools.threads(1), pause=waits.append)
    assert len(waits) == TRIES - 1
    assert all(wait >= 7 for wait in waits)


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("3", 3.0),
        ("0.5", 0.5),
        ("Wed, 01 Jan 2020 00:00:00 GMT", 0.0),
        ("soon", None),
        ("inf", None),
        ("nan", None),
        ("-1", None),
        ("9" * 400, 1e12),
        ("Wed, 01 Jan 99999 00:00:00 GMT", None),
        ("", None),
    ],
)
def test_retry_after_is_read_as_seconds_or_a_date(text: str, seconds: float | None) -> None:
    assert seconds_asked(text) == seconds


def test_digests_are_read_from_their_header() -> None:
    digest = hashlib.sha256(b"x").hexdigest()
    field = "sha-512=:AAAA:, sha-256=:LXEWQrcmsEQBYnyp+6wy9chTD7GQPMTbAiWHF5IaSIE=:"
    assert read_field(field) == digest
    assert read_field("sha-256=:not base64:") is None
    assert read_field("") is None


def test_a_store_without_digests_is_read_back(
    depot_at: Callable[[object], Depot], files: list[Path], tmp_path: Path
) -> None:
    class Plain(SimulatedDepot):
        """The same store, saying nothing of digests."""

        async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
            async def mute(message: Any) -> None:
                if "headers" in message:
                    kept = [one for one in message["headers"] if b"digest" not in one[0].lower()]
                    message = {**message, "headers": kept}
                await send(message)

            await super().__call__(scope, receive, mute)

    application = Plain(tmp_path / "depot", DepotPhysics())
    application.folder.mkdir()
    with served(application) as address:
        record = send(files[:4], depot_at(address), 2)
        assert {one.digest for one in record.files} == {
            hashlib.sha256(path.read_bytes()).hexdigest() for path in files[:4]
        }
        assert all(one.kept for one in send(files[:4], depot_at(address), 2).files)


def test_a_large_file_ships_in_bounded_memory(
    depot_at: Callable[[object], Depot], tmp_path: Path
) -> None:
    path = tmp_path / "large.bin"
    with path.open("wb") as file:
        for block in range(60):
            file.write(bytes([block]) * (1 << 20))
    tracemalloc.start()
    send([path], depot_at(tmp_path / "landing"), 1)
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert peak < 8 << 20
    assert (tmp_path / "landing" / "large.bin").read_bytes() == path.read_bytes()


def test_physics_come_from_a_file_and_options_win(tmp_path: Path) -> None:
    path = tmp_path / "physics.toml"
    path.write_text("[depot]\nlatency = 0.02\nreset_share = 0.1\n")
    expected = DepotPhysics(latency=0.5, reset_share=0.1)
    assert read_physics(str(path), "depot", DepotPhysics, latency=0.5) == expected
    for text, what in {
        "[depot]\nwind = 3\n": "'wind' is not known",
        "[depot]\nreset_share = 2\n": "reset_share cannot be 2",
        "latency = 1\n": r"section \[latency\], which is not known",
        "[depot": "cannot be read",
    }.items():
        path.write_text(text)
        with pytest.raises(RequestError, match=what):
            read_physics(str(path), "depot", DepotPhysics)
    with pytest.raises(RequestError, match="no physics file"):
        read_physics(str(tmp_path / "none.toml"), "depot", DepotPhysics)


def test_ship_from_the_command_line(splarn: Splarn, files: list[Path], tmp_path: Path) -> None:
    ran = splarn("ship", "parts/part-00*.csv", "--to", "landing", "--as", "{run}/{name}", "--json")
    assert ran.code == 0, ran.err
    names = [entry["name"] for entry in ran.json["files"]]
    assert len(names) == 10
    assert all((tmp_path / "landing" / name).is_file() for name in names)
    shown = splarn("ship", "parts", "--to", "landing", "--streams", "2")
    assert "Proven: every file there" in shown.out
    assert "had arrived before" in splarn("ship", "parts", "--to", "landing").out
    entries = splarn("ledger", "--kind", "ship", "--json").json["entries"]
    assert len(entries) == 3
    for words, what in (
        (["parts"], "No depot is named"),
        (["parts", "--to", "moon://a/b"], "kind moon: cannot be opened"),
        (["parts", "--to", "landing", "--sent", "burn"], "use keep or delete"),
        (["nothing", "--to", "landing"], "no file or folder"),
    ):
        wrong = splarn("ship", *words)
        assert (wrong.code, what in wrong.err) == (2, True), wrong.err
