"""Files on their way into depots and out of them: none lost, none another, no wait for a day."""

from __future__ import annotations

import hashlib
import os
import re
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from splarn.core.errors import OutsideError
from tests.conftest import Splarn, ask

# Nothing is removed before it is proven.


def linked(folder: Path, way: str) -> str:
    """Another way to the folder that the sources are in."""
    here = folder / "in"
    if way == "symlinked":
        (folder / "link").symlink_to(here)
        return "link"
    return {"absolute": str(here), "relative": "in", "dotted": "in/../in"}[way]


@pytest.mark.parametrize("way", ["absolute", "relative", "dotted", "symlinked"])
def test_a_source_is_never_its_own_copy(splarn: Splarn, home: Path, way: str) -> None:
    before = {path.name: path.read_bytes() for path in (home / "in").iterdir()}
    ran = splarn("ship", home / "in", "--to", linked(home, way), "--sent", "delete")
    assert ran.code == 2
    assert "is itself the file" in ran.err
    assert {path.name: path.read_bytes() for path in (home / "in").iterdir()} == before


@pytest.mark.parametrize("link", [os.link, os.symlink])
def test_a_depot_file_that_is_a_link_to_the_source_is_no_copy(
    splarn: Splarn, home: Path, link: Callable[[Path, Path], None]
) -> None:
    (home / "depot").mkdir()
    link(home / "in" / "a.csv", home / "depot" / "a.csv")
    ran = splarn("ship", "in", "--to", "depot", "--sent", "delete")
    assert (ran.code, "is itself the file a.csv" in ran.err) == (2, True)
    assert (home / "in" / "a.csv").read_text().startswith("reading_no")


class Store(BaseHTTPRequestHandler):
    """An HTTP store over a folder; `odd` says how it misbehaves."""

    folder: Path
    odd = ""

    def log_message(self, *_: Any) -> None: ...

    def _path(self) -> Path:
        return self.folder / self.path.strip("/").partition("?")[0]

    def do_HEAD(self) -> None:
        if not self._path().is_file():
            self.send_error(404)
            return
        data = self._path().read_bytes()
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.send_header("Last-Modified", "Wed, 01 Jan 2031 00:00:00 GMT")
        self.end_headers()

    def do_GET(self) -> None:
        if not self._path().is_file():
            self.send_error(404)
            return
        data = self._path().read_bytes()
        first = re.match(r"bytes=(\d+)-", self.headers.get("Range", ""))
        at = int(first[1]) if first else 0
        self.seen.append(dict(self.headers))
        if self.odd == "changes" and at:
            # Another version: a store that heeds If-Range sends all of it.
            data = data.replace(b"RM-4", b"XX-4")
            self.send_response(200)
            self.send_header("ETag", '"two"')
            at = 0
        else:
            self.send_response(206 if first else 200)
            if first:
                self.send_header("Content-Range", f"bytes {at}-{len(data) - 1}/{len(data)}")
            self.send_header("ETag", '"one"')
        self.send_header("Content-Length", str(len(data) - at))
        self.end_headers()
        if self.odd in ("breaks", "changes") and not at and not first:
            self.wfile.write(data[: len(data) // 3])
            self.wfile.flush()
            self.connection.shutdown(socket.SHUT_RDWR)
            return
        self.wfile.write(data[at:])

    def do_PUT(self) -> None:
        if self.odd == "rests":
            self.send_response(503)
            self.send_header("Retry-After", self.rest)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        data = self.rfile.read(int(self.headers["Content-Length"]))
        self._path().write_bytes(data)
        self.send_response(201)
        self.send_header("Content-Length", "0")
        self.end_headers()

    seen: list[dict[str, str]]
    rest = "86400"


@contextmanager
def store(folder: Path, odd: str = "", rest: str = "86400") -> Iterator[tuple[str, Any]]:
    kind = type("Mine", (Store,), {"folder": folder, "odd": odd, "seen": [], "rest": rest})
    server = ThreadingHTTPServer(("127.0.0.1", 0), kind)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", kind
    finally:
        server.shutdown()
        server.server_close()


def test_a_copy_that_goes_with_its_source_was_none(splarn: Splarn, home: Path) -> None:
    before = {path.name: path.read_bytes() for path in (home / "in").iterdir()}
    # The store serves the very folder that the sources lie in.
    with store(home / "in") as (url, _):
        ran = splarn("ship", "in/a.csv", "in/b.csv", "--to", url, "--sent", "delete")
    assert ran.code == 3, ran.err
    assert "was kept" in ran.err
    assert {path.name: path.read_bytes() for path in (home / "in").iterdir()} == before


def test_what_is_appended_while_it_is_on_its_way_is_kept(
    home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from splarn.core.ship import ShipRequest, ship
    from splarn.core.work.pool import Inline
    from splarn.depots.folder import FolderDepot

    source = home / "in" / "a.csv"

    class Late(FolderDepot):
        def put(self, *given: Any) -> Any:
            found = super().put(*given)
            with source.open("a") as file:
                file.write("9999,LATE,1.00\n")
            return found

    with pytest.raises(OutsideError, match="changed while it was"):
        ship(ShipRequest((source,), Late(home / "depot"), delete_after=True), Inline())
    assert source.read_text().endswith("9999,LATE,1.00\n")
    # Also in the last moment, when the copy is read back.
    get = FolderDepot.get

    def late(self: FolderDepot, *given: Any) -> Iterator[bytes]:
        aside = next((home / "in").glob("a.csv*leaving"))
        with aside.open("a") as file:
            file.write("9998,LATE,1.00\n")
        return get(self, *given)

    monkeypatch.setattr(FolderDepot, "get", late)
    with pytest.raises(OutsideError, match="so it was kept"):
        ship(ShipRequest((source,), FolderDepot(home / "depot"), delete_after=True), Inline())
    assert source.read_text().endswith("9999,LATE,1.00\n9998,LATE,1.00\n")


def test_what_is_shipped_and_removed_is_there(splarn: Splarn, home: Path) -> None:
    wanted = {p.name: hashlib.sha256(p.read_bytes()).digest() for p in (home / "in").iterdir()}
    assert splarn("ship", "in", "--to", "depot", "--sent", "delete").code == 0
    assert list((home / "in").iterdir()) == []
    found = {p.name: hashlib.sha256(p.read_bytes()).digest() for p in (home / "depot").iterdir()}
    assert found == wanted


def test_a_shipment_of_parts_that_broke_off_goes_on(splarn: Splarn, home: Path) -> None:
    shape = ("shape", "in", "--layout", "layout.json", "--into", "parts")
    shape = (*shape, "--codec", "none", "--part-size", "4KiB")
    assert splarn(*shape).code == 0
    wanted = {p.name: p.read_bytes() for p in (home / "parts").iterdir() if p.name[0] != "."}
    gone, aside, *_ = sorted(name for name in wanted if name != "datapackage.json")
    (home / "depot").mkdir()
    (home / "parts" / gone).rename(home / "depot" / gone)
    (home / "parts" / aside).rename(home / "parts" / f"{aside}.splarn-leaving")
    move = ("ship", "parts", "--to", "depot", "--sent", "delete", "--json")
    (home / "depot" / gone).write_bytes(wanted[gone].replace(b"RM-3", b"RM-4"))
    ran = splarn(*move)
    assert (ran.code, "does not have it as" in ran.json["error"]) == (3, True), ran.err
    (home / "depot" / gone).write_bytes(wanted[gone])
    ran = splarn(*move)
    assert ran.code == 0, ran.err
    assert {one["name"] for one in ran.json["files"] if one["kept"]} == {gone}
    assert {p.name: p.read_bytes() for p in (home / "depot").iterdir()} == wanted
    assert not [p for p in (home / "parts").iterdir() if p.name in wanted]


# Lines that break.


def test_http_goes_on_where_it_broke_off_only_in_the_same_version(
    splarn: Splarn, home: Path
) -> None:
    to = ("--layout", "layout.json", "--table", "t", "--json")
    for odd, code in (("breaks", 0), ("changes", 3)):
        with store(home / "in", odd) as (url, kind):
            ran = splarn("load", f"{url}/a.csv", "--to", f"sqlite:///{odd}.db", *to)
            assert ran.code == code, ran.err
            assert any(one.get("If-Range") == '"one"' for one in kind.seen)
    assert "changed while it was read" in ran.json["error"]
    assert ask(f"sqlite:///{home / 'breaks.db'}", "SELECT count(*), sum(reading_no) FROM t") == [
        (400, 80200)
    ]


@pytest.mark.parametrize("rest", ["86400", "9" * 400, "Wed, 01 Jan 2098 00:00:00 GMT"])
def test_a_depot_that_asks_for_a_day_is_not_waited_for(
    splarn: Splarn, home: Path, rest: str
) -> None:
    with store(home / "in", "rests", rest) as (url, _):
        ran = splarn("ship", "in/a.csv", "--to", f"{url}/x")
    assert (ran.code, "longer than Splarn waits" in ran.err) == (3, True), ran.err


@pytest.mark.parametrize(
    "place",
    [
        "http://[bad/a.csv",
        "ftp://127.0.0.1:1/a.csv",
        "http://127.0.0.1:99999/a.csv",
        "x1://y/z.csv",
    ],
)
def test_places_that_are_none_get_a_sentence(splarn: Splarn, home: Path, place: str) -> None:
    for words in (
        ["survey", place],
        ["load", place, "--layout", "layout.json", "--to", "sqlite:///t.db", "--table", "t"],
        ["ship", "in/a.csv", "--to", place.removesuffix("/a.csv")],
    ):
        ran = splarn(*words)
        assert ran.code in (2, 3), ran.out
        assert "itself failed" not in ran.err
        assert len(ran.err.splitlines()) == 1, ran.err
