"""Rounds about tables that others write, name and change."""

from __future__ import annotations

import gzip
import json
import shutil
import time
from collections import Counter

from tests.faults.common import (
    MODES,
    hold,
    load_words,
    some_target,
)
from tests.faults.program import begin, splarn, until_done
from tests.faults.world import (
    World,
    expected,
)


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
