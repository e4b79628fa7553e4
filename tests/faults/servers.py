"""Rounds about the servers themselves: restarted, crashed, full, without connections."""

from __future__ import annotations

import secrets
import shutil
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path
from typing import Any

from tests.faults.common import MODES, hold, load_words, some_target
from tests.faults.program import Ended, begin, splarn, until_done
from tests.faults.world import SERVERS, Target, World, expected, rejects_kept
from tests.servers import OwnMariadb, OwnPostgresql, fill, mount_small, unmount

# The servers' users must be able to reach it, so it is no folder of the round's.
PLACE = Path("/tmp")
CONNECTIONS = {"postgresql": "-c max_connections=9", "mariadb": "--max-connections=8"}
SMALL = {"postgresql": "-c wal_level=minimal -c max_wal_senders=0", "mariadb": ""}


class OwnServer:
    """A server of the round's own, on a small disk of its own where one can be had."""

    def __init__(self, kind: str) -> None:
        self.kind = kind
        self.folder = PLACE / f"splarn-own-{secrets.token_hex(4)}"
        self.small = mount_small(self.folder, "220m")
        self.server: OwnPostgresql | OwnMariadb
        if kind == "postgresql":
            binaries = OwnPostgresql.binaries_here()
            assert binaries is not None
            self.server = OwnPostgresql(binaries, self.folder)
        else:
            self.server = OwnMariadb(self.folder)
        self.start()

    def start(self) -> None:
        """Starts it with few connections."""
        options = (CONNECTIONS[self.kind], SMALL[self.kind])
        self.server.start(*[one for one in options if one])

    def close(self) -> None:
        """Ends it and removes all of it."""
        with suppress(Exception):
            self.server.crash()
        if self.small:
            unmount(self.folder)
        shutil.rmtree(self.folder, ignore_errors=True)


def here() -> list[str]:
    """The kinds of which a server of one's own can be made."""
    found = []
    if "postgresql" in SERVERS and OwnPostgresql.binaries_here() is not None:
        found.append("postgresql")
    if "mariadb" in SERVERS and OwnMariadb.is_here():
        found.append("mariadb")
    return found


def _target(world: World, kind: str) -> tuple[Target, OwnServer]:
    own = OwnServer(kind)
    world.closing.append(own)
    target = some_target(world, kind)
    target.url = own.server.url
    target.connect = own.server.connect  # type: ignore[method-assign]
    return target, own


def _well_said(ended: Ended | None) -> None:
    if ended is None:
        return
    assert ended.code in (0, 3), ended.said
    assert "itself failed" not in ended.said, ended.said
    assert "Traceback" not in ended.said, ended.said
    if "too many" in ended.said.lower():
        assert "when others have left" in ended.said, ended.said


def unsteady(world: World) -> None:
    """A server that is restarted, crashes, fills up or has no connection left during a load."""
    kinds = here()
    if not kinds:
        return
    kind = world.chance.choice(kinds)
    target, own = _target(world, kind)
    ways = ["restarted", "crashed", "crowded"] + (["full"] if own.small else [])
    how = world.chance.choice(ways)
    before = world.file("old.csv", world.chance.randint(20, 200))
    until_done(world.folder, *load_words(world, target, before))
    mode = world.chance.choice([one for one in MODES if one[1] != "create"])
    least = 4000 if how == "full" else 600
    sources = world.files(2, least=least, most=2 * least, bad=world.chance.randint(0, 3))
    words = [*load_words(world, target, *sources), *mode]
    {"restarted": _restart, "crashed": _restart, "crowded": _crowd, "full": _fill}[how](
        world, own, words, how
    )
    done = until_done(world.folder, *words)
    kept = [before] if mode[1] == "append" else []
    hold(target.rows(), expected(*kept, *sources), f"{kind} {how} {mode}")
    bad = Counter(number for source in sources for number in source.bad)
    hold(rejects_kept(world.folder / "rejects"), bad, f"{kind} {how} rejects")
    undone = splarn(world.folder, "undo", done.json["load_id"], "--to", target.url, "--yes")
    if kind == "postgresql" or mode[1] != "append":
        assert undone.code == 0, f"{how} {mode}: {undone.said}"
        hold(target.rows(), expected(before), f"{kind} {how} {mode} taken back")


def _restart(world: World, own: OwnServer, words: list[str], how: str) -> None:
    running = begin(world.folder, *words)
    time.sleep(world.chance.uniform(0.1, 1.2))
    own.server.stop() if how == "restarted" else own.server.crash()
    away = world.chance.random() < 0.5
    if not away:
        own.start()
    _well_said(running.wait())
    if away:
        _well_said(splarn(world.folder, *words))
        own.start()


def _crowd(world: World, own: OwnServer, words: list[str], how: str) -> None:
    """Others hold the connections, all of them or all but a few, before or during the load."""
    others: list[Any] = []
    running = None
    late = world.chance.random() < 0.5
    if late:
        running = begin(world.folder, *words)
        time.sleep(world.chance.uniform(0.0, 0.6))
    with suppress(Exception):
        while len(others) < 30:
            others.append(own.server.connect())
    for _ in range(world.chance.choice((0, 0, 1, 2))):
        if others:
            others.pop().close()
    try:
        _well_said((running or begin(world.folder, *words)).wait())
    finally:
        for one in others:
            with suppress(Exception):
                one.close()


def _fill(world: World, own: OwnServer, words: list[str], how: str) -> None:
    filler = fill(own.folder, world.chance.choice((0, 100_000, 400_000)))
    running = begin(world.folder, *words)
    time.sleep(world.chance.uniform(0.5, 2.5))
    filler.unlink()
    _well_said(running.wait())
    with suppress(Exception):
        own.server.connect().close()
        return
    # A server that found no room for its log has ended itself.
    with suppress(Exception):
        own.server.crash()
    own.start()
