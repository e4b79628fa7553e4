"""Rounds of loads by a description: killed, cut, robbed of replies, in every mode of the table."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from pathlib import Path
from typing import Any

from sqlalchemy.engine import make_url

from tests.descriptions import KEY, KINDS, PROMISES, describe
from tests.faults.common import available, hold, some_target
from tests.faults.program import begin, splarn, until_done
from tests.faults.proxy import Proxy, Trouble
from tests.faults.world import Source, World, expected

MODES = ("create", "append", "empty", "replace")


class Place:
    """A folder that the servers' own users may read, gone with the round."""

    def __init__(self) -> None:
        self.path = Path(tempfile.mkdtemp(prefix="splarn-faults-"))
        self.path.chmod(0o755)

    def close(self) -> None:
        """Removes it."""
        shutil.rmtree(self.path, ignore_errors=True)


def by_description(world: World) -> None:
    """A load by a shipped description meets what others do, and keeps what it promised."""
    kind = world.chance.choice([*(kind for kind in KINDS if kind in available()), "sluice"])
    # The simulated engine keeps its tables as SQLite does.
    target = some_target(world, "sqlite" if kind == "sluice" else kind)
    place = Place()
    world.closing.append(place)
    password = make_url(target.url).password or ""
    env = {**os.environ, KEY: password}
    calm = describe(kind, target.url, place.path / "calm.toml")
    asking = kind == "sluice" and world.chance.random() < 0.5
    if asking:
        # Without its history, rows are counted, and where that does not tell it must say so.
        path = place.path / "calm.toml"
        text = re.sub(r"(?m)^(came_in|times|clock) = .*$", "", path.read_text())
        if world.chance.random() < 0.5:
            # Nor by marks, so that rows from before are counted too.
            text = re.sub(r"(?m)^brought = .*$", "", text)
        path.write_text(text)
    mode = world.chance.choice(MODES)
    before: list[Source] = []
    if mode != "create":
        before = [world.file("old.csv", world.chance.randint(50, 300), folder="old")]
        until_done(world.folder, *_words(world, place, calm, before, "old", "create"), env=env)
    sources = world.files(world.chance.randint(1, 3), least=200, most=1200)
    words = _words(world, place, calm, sources, "new", mode)
    if kind in ("postgresql", "mariadb") and world.chance.random() < 0.5:
        what = world.chance.choice(("cut", "stall", "half-close", "lose-reply"))
        troubles = [
            Trouble(what, word=b"COMMIT", nth=world.chance.randint(1, 7))
            if world.chance.random() < 0.6
            else Trouble(what, after=world.chance.randint(200, 20_000))
            for _ in range(world.chance.randint(1, 3))
        ]
        proxy = Proxy(target.port, troubles)
        world.closing.append(proxy)
        through = describe(kind, target.url, place.path / "through.toml", proxy.port)
        for _ in range(len(troubles)):
            ended = splarn(world.folder, *_by(words, through), env=env)
            assert ended.code in (0, 3), ended.said
            assert "itself failed" not in ended.said, ended.said
    for _ in range(world.chance.randint(0, 3)):
        begin(world.folder, *words, env=env).kill_after(world.chance.uniform(0.2, 1.6))
    if asking:
        ended = splarn(world.folder, *words, env=env)
        if ended.code == 3 and "cannot be known" in ended.said:
            once = expected(*(before if mode == "append" else []), *sources)
            if mode in ("create", "append"):
                assert not target.rows() - once, "rows are there twice"
            return
    ended = until_done(world.folder, *words, env=env)
    kept = before if mode == "append" else []
    hold(target.rows(), expected(*kept, *sources), f"{kind} {mode}")
    told = ended.json["promises"][0]
    assert ("ask first" if asking else PROMISES[kind]) in told, told
    again = splarn(world.folder, *words, env=env)
    # Beside other rows nothing tells them from these, which is said rather than promised.
    assert again.code == 0, again.said
    hold(target.rows(), expected(*kept, *sources), "after another time")
    if (
        kind == "sluice"
        and mode == "append"
        and "brought =" in (place.path / "calm.toml").read_text()
    ):
        words = ("undo", ended.json["load_id"], "--to", calm, "--yes")
        assert splarn(world.folder, *words, env=env).code == 0
        hold(target.rows(), expected(*kept), "after taking it back")


def _words(
    world: World, place: Place, url: str, sources: list[Source], name: str, mode: str
) -> list[Any]:
    """A load of the sources' parts, which are made first."""
    parts = place.path / name
    made = splarn(
        world.folder, "shape", *(str(one.path) for one in sources), "--layout", world.layout,
        "--into", parts, "--part-size", world.chance.choice(("2KiB", "6KiB", "20KiB")),
    )  # fmt: skip
    assert made.code == 0, made.said
    return [
        "load", parts, "--to", url, "--table", world.table, "--table-mode", mode, "--yes",
        "--streams", world.chance.choice((1, 2, 3)), "--json",
    ]  # fmt: skip


def _by(words: list[Any], url: str) -> list[Any]:
    return [url if str(word).startswith("described:") else word for word in words]
