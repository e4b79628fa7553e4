"""Rounds over depots and the simulated engine: parts on their way, the line being what it is."""

from __future__ import annotations

import json
import os
import shutil
import socket
import sqlite3
import time
from collections import Counter
from pathlib import Path
from urllib.parse import urlsplit

from tests.faults.program import Running, begin, splarn, until_done
from tests.faults.proxy import Proxy, Trouble
from tests.faults.world import ENGINES, SERVERS, Row, Target, World, differs, expected

S3 = os.environ.get("SPLARN_TEST_S3", "http://127.0.0.1:4568")
# The simulated engine reads parts itself, so it needs them too.
KEYS = {
    "AWS_ACCESS_KEY_ID": "S3RVER", "AWS_SECRET_ACCESS_KEY": "S3RVER", "AWS_ENDPOINT_URL": S3,
}  # fmt: skip


class StandIns:
    """The simulated depot and engine of one round, in a process of their own."""

    def __init__(self, world: World) -> None:
        self.folder = world.folder / "standin"
        self._running: Running = begin(
            world.folder, "standin", "--folder", self.folder, "--depot-port", "0",
            "--engine-port", "0", "--json", env=KEYS,
        )  # fmt: skip
        until = time.monotonic() + 30
        while not (found := self._running.heard()):
            assert time.monotonic() < until, "the stand-ins do not answer"
            time.sleep(0.05)
        self.depot, self.engine = (str(json.loads(found)[key]) for key in ("depot", "engine"))

    def close(self) -> None:
        """Ends them."""
        self._running.kill()
        self._running.wait()


class Millrace(Target):
    """The simulated engine; its tables are read from its files."""

    kind = "millrace"

    def __init__(self, world: World, services: StandIns) -> None:
        super().__init__(world)
        self.url = services.engine
        self._folder = services.folder

    def rows(self, table: str | None = None) -> Counter[Row]:
        """See Target. Of the files that its catalogue lists at this moment."""
        import pyarrow.feather as feather

        (catalogue,) = self._folder.rglob("catalogue.sqlite")
        book = sqlite3.connect(catalogue)
        try:
            files = book.execute(
                "SELECT file FROM chunks WHERE within = ?", (table or self.world.table,)
            ).fetchall()
        finally:
            book.close()
        found: Counter[Row] = Counter()
        for (name,) in files:
            for row in feather.read_table(str(catalogue.parent / name)).to_pylist():
                toll = f"{float(row['toll']):.2f}"
                found[row["reading_no"], row["lock_code"], toll, row["note"]] += 1
        return found


def stores() -> list[str]:
    """The kinds of depots that there are here."""
    pieces = urlsplit(S3)
    try:
        socket.create_connection((pieces.hostname or "", pieces.port or 80), 0.5).close()
    except OSError:
        return ["folder", "http"]
    return ["folder", "http", "s3"]


def carried(world: World) -> None:
    """Parts that go over a depot into any engine, lines being cut and programs killed."""
    services = StandIns(world)
    world.closing.append(services)
    kind = world.chance.choice(stores())
    env: dict[str, str] = {}
    here = place = ""
    if kind == "folder":
        here = place = str(world.folder / "depot")
    elif kind == "http":
        pieces = urlsplit(services.depot)
        troubles = [
            Trouble(world.chance.choice(("cut", "stall", "half-close")),
                    after=world.chance.randint(100, 30_000))
            for _ in range(world.chance.randint(0, 3))
        ]  # fmt: skip
        proxy = Proxy(pieces.port or 80, troubles)
        world.closing.append(proxy)
        here = f"http://127.0.0.1:{proxy.port}/x"
        place = f"{services.depot}/x/"
    else:
        here = place = f"s3://larkmere/{world.table}/"
        env = KEYS
    sources = world.files(world.chance.randint(1, 3), least=300, most=2000)
    parts = world.folder / "parts"
    shaped = splarn(
        world.folder, "shape", *(source.path for source in sources), "--layout", world.layout,
        "--into", parts, "--part-size", "16KiB",
        "--codec", world.chance.choice(("none", "gzip:1", "zstd:1")),
    )  # fmt: skip
    assert shaped.code == 0, shaped.said
    contents = {path.name: path.read_bytes() for path in parts.iterdir()}
    after = world.chance.choice(("keep", "delete"))
    words = ["ship", str(parts), "--to", here, "--streams", "3", "--sent", after]
    running = begin(world.folder, *words, env=env)
    if world.chance.random() < 0.5:
        running.kill_after(world.chance.uniform(0.1, 0.8))
        left = [path for path in parts.iterdir() if "datapackage" in path.name]
        if not left and after == "delete":
            return
    else:
        ended = running.wait()
        assert "itself failed" not in ended.said, ended.said
    kept = [str(path) for path in parts.iterdir() if not path.name.startswith(".")]
    kept = [path.removesuffix(".splarn-leaving") for path in kept]
    if kept:
        # What was removed is in the depot by now, so that the rest is shipped file by file; the
        # manifest may have gone before a part whose line was cut too often.
        until_done(world.folder, "ship", *kept, "--to", here, "--streams", "3", env=env)
    if kind == "folder":
        for name, content in contents.items():
            assert (Path(here) / name).read_bytes() == content, f"{name} is not what it was"
    loaded_from = str(Path(here) / "datapackage.json") if kind == "folder" else place
    chosen = world.chance.choice(["millrace", "sqlite", "duckdb", *SERVERS])
    target: Target
    target = Millrace(world, services) if chosen == "millrace" else ENGINES[chosen](world)
    world.closing.append(target)
    load = ["load", loaded_from, *target.words(), "--streams", "2", "--batch-rows", "90", "--json"]
    for _ in range(world.chance.randint(0, 2)):
        begin(world.folder, *load, env=env).kill_after(world.chance.uniform(0.2, 1.2))
    until_done(world.folder, *load, env=env)
    difference = differs(target.rows(), expected(*sources))
    assert not difference, f"{kind} into {chosen}: {difference}"
    again = splarn(world.folder, *load, env=env)
    assert (again.code, again.json.get("done_before")) == (0, True), again.said
    difference = differs(target.rows(), expected(*sources))
    assert not difference, f"{kind} into {chosen}, once more: {difference}"
    shutil.rmtree(parts, ignore_errors=True)


def shipped(world: World) -> None:
    """Files that are shipped and removed, by odd paths and under change: none may be lost."""
    sources = world.files(world.chance.randint(1, 3), least=30, most=400)
    inside = sources[0].path.parent
    contents = {source.path.name: source.path.read_bytes() for source in sources}
    depot = world.folder / "depot"
    depot.mkdir()
    how = world.chance.choice(
        ("plain", "itself", "symlinked", "dotted", "hard", "linked", "append", "killed")
    )
    to: Path | str = depot
    name = sources[0].path.name
    if how == "itself":
        to = inside
    elif how == "symlinked":
        to = world.folder / "link"
        to.symlink_to(inside)
    elif how == "dotted":
        to = f"{inside}/../{inside.name}"
    elif how == "hard":
        os.link(sources[0].path, depot / name)
    elif how == "linked":
        (depot / name).symlink_to(sources[0].path)
    words = ["ship", str(inside), "--to", str(to), "--sent", "delete", "--streams", "2"]
    running = begin(world.folder, *words)
    late = b"7,L07,7.00,late\n"
    if how == "append":
        time.sleep(world.chance.uniform(0.0, 0.5))
        try:
            with sources[0].path.open("r+b") as file:
                file.seek(0, os.SEEK_END)
                file.write(late)
            contents[name] += late
        except FileNotFoundError:
            pass
    if how == "killed":
        running.kill_after(world.chance.uniform(0.05, 0.6))
        splarn(world.folder, *words)
    else:
        ended = running.wait()
        assert "itself failed" not in ended.said, ended.said
    for one, content in contents.items():
        places = [inside / one, depot / one, inside / f"{one}.splarn-leaving"]
        kept = [path for path in places if path.is_file() and path.read_bytes() == content]
        assert kept, f"{how}: {one} is nowhere whole"
