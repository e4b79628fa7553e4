"""The rounds: what goes wrong in each, and what must hold all the same."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable

from tests.faults.built import built
from tests.faults.common import (
    MODES,
    hold,
    load_words,
    no_server,
    some_target,
)
from tests.faults.depots import carried, shipped
from tests.faults.described import by_description
from tests.faults.flows import carried_out
from tests.faults.lakes import in_a_lake
from tests.faults.program import begin, splarn, until_done
from tests.faults.proxy import Proxy, Trouble
from tests.faults.servers import unsteady
from tests.faults.tables import edited, emptied_notes, hostile, ruled, spelled, taken_back
from tests.faults.world import (
    SERVERS,
    Source,
    World,
    differs,
    expected,
    rejects_kept,
)


def killed(world: World) -> None:
    """A load that is killed again and again, in any mode, then given until it ends well."""
    target = some_target(world)
    mode = world.chance.choice(MODES)
    before = [] if mode[1] == "create" else [world.file("old.csv", world.chance.randint(50, 400))]
    if before:
        until_done(world.folder, *load_words(world, target, *before))
    sources = world.files(world.chance.randint(1, 3), bad=world.chance.randint(0, 4))
    words = [*load_words(world, target, *sources), *mode]
    for _ in range(world.chance.randint(1, 3)):
        begin(world.folder, *words).kill_after(world.chance.uniform(0.05, 1.1))
    until_done(world.folder, *words)
    kept = before if mode[1] == "append" else []
    hold(target.rows(), expected(*kept, *sources), f"{target.kind} {mode}")
    bad = Counter(number for source in sources for number in source.bad)
    hold(rejects_kept(world.folder / "rejects"), bad, "rejects")
    # Given once more, it ends well and changes nothing.
    again = splarn(world.folder, *words)
    assert again.code == 0, again.said
    hold(target.rows(), expected(*kept, *sources), "after another time")


def cut(world: World) -> None:
    """A load whose connections are cut, stalled, half-closed or robbed of the reply to a commit."""
    if no_server(world):
        return
    target = some_target(world, "postgresql", "mariadb")
    sources = world.files(world.chance.randint(1, 2), bad=world.chance.randint(0, 3))
    what = world.chance.choice(("cut", "stall", "half-close", "lose-reply"))
    troubles = []
    for _ in range(world.chance.randint(1, 3)):
        if what == "lose-reply" or world.chance.random() < 0.4:
            troubles.append(Trouble(what, word=b"COMMIT", nth=world.chance.randint(1, 6)))
        else:
            troubles.append(Trouble(what, after=world.chance.randint(200, 60_000)))
    proxy = Proxy(target.port, troubles)
    world.closing.append(proxy)
    words = load_words(world, target, *sources, url=target.through(proxy.port))
    for _ in range(len(troubles) + 1):
        ended = splarn(world.folder, *words)
        assert ended.code in (0, 3), ended.said
        assert "itself failed" not in ended.said, ended.said
        assert "Traceback" not in ended.said, ended.said
        if ended.code == 0:
            hold(target.rows(), expected(*sources), "said to be done")
    words = load_words(world, target, *sources)
    until_done(world.folder, *words)
    hold(target.rows(), expected(*sources), f"{target.kind} {troubles}")
    bad = Counter(number for source in sources for number in source.bad)
    hold(rejects_kept(world.folder / "rejects"), bad, "rejects")


def changing(world: World) -> None:
    """A source that grows, shrinks, changes or vanishes while it is loaded, checked or shaped."""
    target = some_target(world)
    sources = world.files(2, least=400, most=1500)
    victim = world.chance.choice(sources).path
    original = victim.read_bytes()
    words = load_words(world, target, *sources)
    running = begin(world.folder, *words)
    time.sleep(world.chance.uniform(0.0, 0.7))
    how = world.chance.choice(("grow", "shrink", "change", "vanish"))
    if how == "grow":
        with victim.open("ab") as file:
            file.write(b"999999999,L01,1.00,late\n")
    elif how == "shrink":
        os.truncate(victim, len(original) // 2)
    elif how == "change":
        at = original.rfind(b",L") + 2
        with victim.open("r+b") as file:
            file.seek(at)
            file.write(b"Q")
    else:
        victim.unlink()
    ended = running.wait()
    assert "itself failed" not in ended.said, ended.said
    if ended.code == 0:
        # It was read before it changed, or after; as a whole either way.
        late = Source(victim, [(999999999, "L01", "1.00", "late")])
        rows = target.rows()
        ways = [expected(*sources)]
        if how == "grow":
            ways.append(expected(*sources, late))
        if how in ("shrink", "change"):
            return
        assert any(not differs(rows, way) for way in ways), f"{how}: half of it is in"
        return
    victim.write_bytes(original)
    again = splarn(world.folder, *words)
    if again.code == 3 and "splarn undo" in again.said:
        # Rows of the changed file are in; that is known, and they can be taken out.
        load_id = again.json["error"].partition("splarn undo ")[2].split("`")[0]
        undone = splarn(world.folder, "undo", load_id, "--to", target.url, "--yes")
        assert undone.code == 0, undone.said
    until_done(world.folder, *words)
    hold(target.rows(), expected(*sources), f"{target.kind} {how}")


def overlapping(world: World) -> None:
    """Two loads at once whose files overlap: no content may be in twice."""
    target = some_target(world, "sqlite", "postgresql", "mariadb")
    first, common, second = world.files(3, least=600, most=1500)
    until_done(world.folder, *load_words(world, target, world.file("seed.csv", 5)))
    words = [
        [*load_words(world, target, *pair), "--table-mode", "append"]
        for pair in ((first, common), (second, common))
    ]
    running = [begin(world.folder, *words[0])]
    time.sleep(world.chance.uniform(0.0, 0.5))
    running.append(begin(world.folder, *words[1]))
    ended = [one.wait() for one in running]
    for one in ended:
        assert one.code in (0, 2, 3), one.said
    rows = target.rows()
    assert not [row for row, count in rows.items() if count > 1], "rows are in twice"
    for one, mine in zip(ended, ((first, common), (second, common)), strict=True):
        if one.code == 0:
            hold(expected(*mine) - rows, Counter(), "said to be in")


def secret(world: World) -> None:
    """Secrets in any place of a target's URL, which cannot be reached or refuses."""
    if no_server(world):
        return
    target = some_target(world, *[kind for kind in ("postgresql", "mariadb") if kind in SERVERS])
    hidden = f"s3cr{world.chance.randrange(10**6)}t'x"
    places = {
        "password": "{kind}://u:${{HIDDEN}}@127.0.0.1:{port}/d",
        "user": "{kind}://${{HIDDEN}}@127.0.0.1:{port}/d",
        "database": "{kind}://{user}@127.0.0.1:{port}/${{HIDDEN}}",
        "host": "{kind}://u@${{HIDDEN}}:{port}/d",
        "query": "{kind}://{user}@127.0.0.1:{port}/d?application_name=${{HIDDEN}}",
    }
    how = world.chance.choice(list(places))
    if how == "host":
        hidden = f"no-such-{world.chance.randrange(10**6)}.invalid"
    url = places[how].format(kind=target.kind, port=target.port, user=target.parsed.username)
    source = world.file("a.csv", 20)
    for words in (
        ["load", source.path, "--layout", world.layout, "--to", url, "--table", "t", "--json"],
        ["sweep", source.path, "--layout", world.layout, "--to", url],
        ["undo", "20310101", "--to", url, "--yes"],
    ):
        ended = splarn(world.folder, *words, env={"HIDDEN": hidden})
        assert ended.code in (2, 3), ended.said
        assert "itself failed" not in ended.said, ended.said
        assert hidden not in ended.said, f"{how}: {ended.said}"
    for path in world.folder.rglob("*"):
        if path.is_file() and path.parent.name != ".notes":
            assert hidden.encode() not in path.read_bytes(), f"{how}: {path}"


ROUNDS: tuple[tuple[int, Callable[[World], None]], ...] = (
    (22, killed),
    (16, cut),
    (12, changing),
    (10, overlapping),
    (9, spelled),
    (7, edited),
    (6, taken_back),
    (4, emptied_notes),
    (3, ruled),
    (5, hostile),
    (2, secret),
    (6, shipped),
    (9, carried),
    (14, carried_out),
    (10, by_description),
    (5, unsteady),
    (10, built),
    (4, in_a_lake),
)


def round_of(seed: int) -> Callable[[World], None]:
    """The round that a number stands for."""
    import random

    chance = random.Random(seed * 7919)
    return chance.choices([one for _, one in ROUNDS], [weight for weight, _ in ROUNDS])[0]
