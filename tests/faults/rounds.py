"""The rounds: what goes wrong in each, and what must hold all the same."""

from __future__ import annotations

import gzip
import json
import os
import shutil
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

from tests.faults.depots import carried
from tests.faults.program import Ended, begin, splarn, until_done
from tests.faults.proxy import Proxy, Trouble
from tests.faults.world import (
    ENGINES,
    SERVERS,
    Source,
    Target,
    World,
    differs,
    expected,
    rejects_kept,
)

MODES = (
    ("--table-mode", "create"),
    ("--table-mode", "append"),
    ("--table-mode", "append", "--route", "landing"),
    ("--table-mode", "empty", "--yes"),
    ("--table-mode", "replace", "--yes"),
    ("--table-mode", "append", "--indexes", "rebuild"),
)


def _no_server(world: World) -> bool:
    """Whether a round that is about servers has none to be about."""
    return not SERVERS


def available() -> list[str]:
    """The kinds of targets that there are here."""
    return [kind for kind in ENGINES if kind in ("sqlite", "duckdb") or kind in SERVERS]


def some_target(world: World, *kinds: str) -> Target:
    """A target of one of the kinds, or of any."""
    here = [kind for kind in available() if not kinds or kind in kinds]
    target = ENGINES[world.chance.choice(here)](world)
    world.closing.append(target)
    return target


def load_words(world: World, target: Target, *sources: Source, url: str = "") -> list[str]:
    """A load of some files, in small batches."""
    words = target.words()
    if url:
        words[1] = url
    return [
        "load", *(str(source.path) for source in sources), "--layout", str(world.layout), *words,
        "--bad-rows", "set-aside", "--batch-rows", str(world.chance.choice((40, 90, 200))),
        "--streams", str(world.chance.choice((1, 1, 2))), "--json",
    ]  # fmt: skip


def hold(found: Counter[object], wanted: Counter[object], what: str) -> None:
    """Raises AssertionError when two multisets differ."""
    difference = differs(found, wanted)  # type: ignore[arg-type]
    assert not difference, f"{what}: {difference}"


def told_truly(ended: Ended, target: Target, wanted: Counter[object]) -> None:
    """A command that says that all is verified and in must be right."""
    if ended.code == 0 and ended.json.get("verified"):
        hold(target.rows(), wanted, "said to be verified")  # type: ignore[arg-type]


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
    if _no_server(world):
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


def spelled(world: World) -> None:
    """The same content again: under another spelling of the table, packed anew, or as parts."""
    target = some_target(world)
    source = world.file("a.csv", world.chance.randint(50, 400))
    until_done(world.folder, *load_words(world, target, source))
    wanted = expected(source)
    name = world.table
    spellings = {
        "sqlite": [f"main.{name}", name.upper()],
        "duckdb": [f"main.{name}", name.upper(), f"MAIN.{name.upper()}"],
        "postgresql": [f"public.{name}"],
        "mariadb": [f"{target.parsed.database}.{name}"],
    }[target.kind]
    way = world.chance.choice(("spelling", "packed", "parts", "parts-first", "renamed"))
    layout = ["--layout", str(world.layout)]
    append = ["--table-mode", "append", "--json"]
    if way == "spelling":
        table = world.chance.choice(spellings)
        words = ["load", str(source.path), *layout, *target.words(table), *append]
    elif way == "packed":
        packed = world.folder / "in" / "again.csv.gz"
        packed.write_bytes(gzip.compress(source.path.read_bytes()))
        words = ["load", str(packed), *layout, *target.words(), *append]
    elif way == "renamed":
        copy = world.folder / "in" / "copy.csv"
        shutil.copy(source.path, copy)
        words = ["load", str(copy), *layout, *target.words(), *append]
    else:
        parts = world.folder / "parts"
        codec = world.chance.choice(("none", "zstd:1", "gzip:1"))
        shaped = splarn(
            world.folder, "shape", source.path, *layout, "--into", parts, "--part-size", "4KiB",
            "--codec", codec,
        )  # fmt: skip
        assert shaped.code == 0, shaped.said
        words = ["load", str(parts), *target.words(), *append]
        if way == "parts-first":
            # The parts come first, then the file that they were made of.
            other = world.file("b.csv", 200)
            shutil.rmtree(parts)
            splarn(world.folder, "shape", other.path, *layout, "--into", parts,
                   "--part-size", "4KiB", "--codec", codec)  # fmt: skip
            until_done(world.folder, *words)
            wanted = expected(source, other)
            words = ["load", str(other.path), *layout, *target.words(), *append]
    ended = splarn(world.folder, *words)
    assert ended.code in (0, 2), ended.said
    hold(target.rows(), wanted, f"{target.kind} {way} {words}")
    if ended.code == 0:
        assert ended.json["done_before"], ended.said


def edited(world: World) -> None:
    """Rows that somebody edits after a load: undo must see it, and leave them."""
    target = some_target(world)
    source = world.file("a.csv", world.chance.randint(60, 300))
    first = None
    append = world.chance.random() < 0.5
    if append:
        first = world.file("first.csv", 80)
        until_done(world.folder, *load_words(world, target, first))
        if target.kind == "mariadb":
            target.do(f"ALTER TABLE {world.table} ADD COLUMN nr BIGINT AUTO_INCREMENT PRIMARY KEY")
    words = load_words(world, target, source)
    done = until_done(world.folder, *words, *(["--table-mode", "append"] if append else []))
    table, row = target.quoted(world.table), world.chance.choice(source.rows)
    other = world.chance.choice([one for one in source.rows if one[2] != row[2]])
    edits = {
        "cell": [f"UPDATE {table} SET lock_code = 'Q99' WHERE reading_no = {row[0]}"],
        "moved": [
            f"UPDATE {table} SET toll = {other[2]} WHERE reading_no = {row[0]}",
            f"UPDATE {table} SET toll = {row[2]} WHERE reading_no = {other[0]}",
        ],
        "column": [
            f"ALTER TABLE {table} ADD COLUMN inspector VARCHAR(20)",
            f"UPDATE {table} SET inspector = 'N. N.' WHERE reading_no = {row[0]}",
        ],
        "deleted": [f"DELETE FROM {table} WHERE reading_no = {row[0]}"],
    }
    how = world.chance.choice(list(edits))
    target.do(*edits[how])
    seen = target.rows()
    undone = splarn(
        world.folder, "undo", done.json["load_id"], "--to", target.url, "--yes", "--json"
    )
    assert undone.code == 2, f"{how}: {undone.said}"
    hold(target.rows(), seen, f"{target.kind} {how}: edits must stay")
    forced = splarn(
        world.folder, "undo", done.json["load_id"], "--to", target.url, "--yes", "--with-changes"
    )
    assert forced.code in (0, 2), forced.said
    if forced.code == 0 and first is not None and target.kind != "postgresql":
        hold(target.rows(), expected(first), "taken back with changes")


def taken_back(world: World) -> None:
    """A load that is taken back, perhaps after a kill: just its rows go."""
    target = some_target(world)
    first = world.file("first.csv", world.chance.randint(50, 300))
    until_done(world.folder, *load_words(world, target, first))
    if target.kind == "mariadb":
        target.do(f"ALTER TABLE {world.table} ADD COLUMN nr BIGINT AUTO_INCREMENT PRIMARY KEY")
    second = world.file("second.csv", world.chance.randint(300, 900))
    mode = world.chance.choice([mode for mode in MODES if mode[1] != "create"])
    words = [*load_words(world, target, second), *mode]
    if world.chance.random() < 0.5:
        begin(world.folder, *words).kill_after(world.chance.uniform(0.1, 0.8))
    else:
        until_done(world.folder, *words)
    listed = target.ask(f"SELECT load_id, state FROM {target.quoted('splarn_progress')} "
                        f"WHERE part_id = '' AND table_name LIKE '%{world.table}%' "
                        "ORDER BY started")  # fmt: skip
    if len(listed) < 2:
        return
    undo = ["undo", listed[-1][0], "--to", target.url, "--yes", "--json"]
    for _ in range(4):
        ended = splarn(world.folder, *undo)
        if ended.code != 3:
            break
        time.sleep(0.4)
    assert ended.code in (0, 2), ended.said
    if ended.code == 0 or "already" in ended.said:
        hold(target.rows(), expected(first), f"{target.kind} {mode} taken back")


def emptied_notes(world: World) -> None:
    """Notes that somebody removes in the middle: a load must not begin anew over its own rows."""
    target = some_target(world, "sqlite", "postgresql", "mariadb")
    first = world.file("first.csv", 60)
    until_done(world.folder, *load_words(world, target, first))
    sources = world.files(2, least=500, most=1200)
    words = [*load_words(world, target, *sources), "--table-mode", "append"]
    ended = begin(world.folder, *words).kill_after(world.chance.uniform(0.4, 1.2))
    if ended is not None and ended.code == 0:
        return
    notes = target.quoted("splarn_progress")
    mine = f"table_name LIKE '%{world.table}%'"
    how = world.chance.choice(("all", "load", "part"))
    if target.kind != "sqlite" and how == "all":
        how = "mine"
    target.do(
        {
            "all": f"DELETE FROM {notes}",
            "mine": f"DELETE FROM {notes} WHERE {mine}",
            "load": f"DELETE FROM {notes} WHERE {mine} AND part_id = ''",
            "part": f"DELETE FROM {notes} WHERE {mine} AND part_id <> '' AND name = 'r0.csv'",
        }[how]
    )
    ended = splarn(world.folder, *words)
    rows = target.rows()
    twice = [row for row, count in rows.items() if count > 1]
    assert not twice, f"{how}: rows are in twice ({ended.code}) {ended.said}"
    if ended.code == 0:
        hold(rows, expected(first, *sources), f"{how}: said to be done")


def ruled(world: World) -> None:
    """A target whose rules change or refuse values: verified must not be said of what they bent."""
    target = some_target(world, "sqlite", "postgresql", "mariadb")
    seed = world.file("seed.csv", 10)
    until_done(world.folder, *load_words(world, target, seed))
    table = target.quoted(world.table)
    trigger = target.quoted(f"{world.table}_t")
    target.do(
        *{
            "sqlite": [
                f"CREATE TRIGGER {trigger} AFTER INSERT ON {table} BEGIN UPDATE {table} SET "
                "note = upper(note) WHERE reading_no = new.reading_no; END"
            ],
            "postgresql": [
                f"CREATE FUNCTION {trigger}() RETURNS trigger LANGUAGE plpgsql AS "
                "'BEGIN NEW.note := upper(NEW.note); RETURN NEW; END'",
                f"CREATE TRIGGER {trigger} BEFORE INSERT ON {table} FOR EACH ROW "
                f"EXECUTE FUNCTION {trigger}()",
            ],
            "mariadb": [
                f"CREATE TRIGGER {trigger} BEFORE INSERT ON {table} FOR EACH ROW "
                "SET NEW.note = upper(NEW.note)"
            ],
        }[target.kind]
    )
    source = world.file("a.csv", world.chance.randint(80, 400))
    route = world.chance.choice(([], ["--route", "landing"]))
    words = [*load_words(world, target, source), "--table-mode", "append", *route]
    ended = splarn(world.folder, *words)
    assert ended.code != 0, f"{target.kind} {route}: {ended.said}"
    assert not ended.json.get("verified"), ended.said


def hostile(world: World) -> None:
    """Tables and columns with every character that a name may have."""
    target = some_target(world)
    marks = ["%", "'", '"', "`", "[x]", ";", "--", " ", "é", "🚤", "select", ":a", "\\", "a.b"]
    marks += ["$1", "%s", "%(a)s", "{0}", "?", "ÄÖ", "#", "/*", "\t"]
    if target.kind == "mariadb":
        # Not in its character set for names, and none may end with a blank.
        marks.remove("🚤")
    world.chance.shuffle(marks)
    table = f"{world.table} {''.join(marks[:4])}".strip()
    names = [f"n {marks[5]}", f"{marks[6]}t", marks[7] + "x", "note"]
    if target.kind == "mariadb":
        names[0] = names[0].rstrip()
    layout = json.loads(world.layout.read_text())
    for field, name in zip(layout["schema"]["fields"], names, strict=True):
        field["name"] = name
    source = world.file("a.csv", 120)
    quoted = ",".join('"' + name.replace('"', '""') + '"' for name in names)
    text = source.path.read_text(encoding="utf-8")
    source.path.write_text(quoted + text[text.index("\n") :], encoding="utf-8")
    world.layout.write_text(json.dumps(layout))
    written = '"' + table.replace('"', '""') + '"'
    mode = world.chance.choice(MODES)
    words = [
        "load", str(source.path), "--layout", str(world.layout), "--to", target.url, "--table",
        written, "--batch-rows", "50", "--json", *mode,
    ]  # fmt: skip
    ended = splarn(world.folder, *words)
    assert ended.code == 0, f"{target.kind} {table!r} {names}: {ended.said}"
    listed = ", ".join(target.quoted(name) for name in names)
    where = target.quoted(table)

    def rows() -> Counter[object]:
        found = target.ask(f"SELECT {listed} FROM {where}")
        return Counter((int(n), a, f"{float(b):.2f}", c) for n, a, b, c in found)

    try:
        hold(rows(), expected(source), f"{target.kind} {table!r} {names}")
        again = splarn(world.folder, *words)
        assert (again.code, again.json.get("done_before")) == (0, True), again.said
        undone = splarn(world.folder, "undo", ended.json["load_id"], "--to", target.url, "--yes")
        assert undone.code == 0, undone.said
    finally:
        if target.kind in ("postgresql", "mariadb"):
            target.do(f"DROP TABLE IF EXISTS {where}")


def secret(world: World) -> None:
    """Secrets in any place of a target's URL, which cannot be reached or refuses."""
    if _no_server(world):
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
    words = ["ship", str(inside), "--to", str(to), "--after", "delete", "--streams", "2"]
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
)


def round_of(seed: int) -> Callable[[World], None]:
    """The round that a number stands for."""
    import random

    chance = random.Random(seed * 7919)
    return chance.choices([one for _, one in ROUNDS], [weight for weight, _ in ROUNDS])[0]
