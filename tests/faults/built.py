"""Rounds about tables that others built: partitions, generated columns, constraints, views."""

from __future__ import annotations

from collections import Counter

from tests.faults.common import MODES, hold, load_words, some_target
from tests.faults.program import begin, splarn
from tests.faults.world import Target, World, expected, rejects_kept

COLUMNS = "reading_no BIGINT NOT NULL, lock_code VARCHAR(40), toll NUMERIC(9, 2), note VARCHAR(200)"


def built(world: World) -> None:
    """A table that somebody else built: it keeps its make, and no row is lost in it, or refused."""
    target = some_target(world)
    how = world.chance.choice(_ways(target.kind))
    source = world.file("a.csv", world.chance.randint(150, 700), bad=world.chance.randint(0, 2))
    # These the target's constraint refuses.
    refused = {row[0] for row in source.rows if how == "constraint" and row[1] == "L07"}
    target.do(*_statements(target, how))
    make = _make(target)
    mode = world.chance.choice([one for one in MODES if one[1] != "create"])
    words = [*load_words(world, target, source), *mode]
    for _ in range(world.chance.randint(0, 2)):
        begin(world.folder, *words).kill_after(world.chance.uniform(0.05, 0.9))
    for _ in range(8):
        ended = splarn(world.folder, *words)
        if ended.code != 3:
            break
    assert ended.code in (0, 2), f"{target.kind} {how} {mode}: {ended.said}"
    assert "itself failed" not in ended.said, ended.said
    if ended.code == 2:
        # Said before anything was done.
        assert "error" in ended.json, ended.said
        if how != "view":
            hold(target.rows(), Counter(), f"{target.kind} {how} {mode}: {ended.said}")
            assert _make(target) == make, f"{target.kind} {how} {mode} refused, yet changed"
        return
    good = Counter({row: count for row, count in expected(source).items() if row[0] not in refused})
    hold(target.rows(), good, f"{target.kind} {how} {mode}")
    kept = Counter([*source.bad, *refused])
    hold(rejects_kept(world.folder / "rejects"), kept, f"{target.kind} {how} {mode} rejects")
    assert _make(target) == make, f"{target.kind} {how} {mode}: not built as before"
    if how == "generated":
        name = target.quoted(world.table)
        wrong = target.ask(f"SELECT count(*) FROM {name} WHERE pence <> toll * 100")
        assert int(wrong[0][0]) == 0, f"{target.kind} {mode}: {wrong}"


def _ways(kind: str) -> list[str]:
    ways = ["generated", "constraint", "view", "index", "defaults"]
    if kind in ("postgresql", "mariadb"):
        ways += ["partitions", "identity", "foreign"]
    return ways


def _statements(target: Target, how: str) -> list[str]:
    name, base = target.quoted(target.world.table), target.quoted(f"{target.world.table}_base")
    kind = target.kind
    stored = "VIRTUAL" if kind == "duckdb" else "STORED"
    if how == "generated":
        made = f"pence NUMERIC(12, 2) GENERATED ALWAYS AS (toll * 100) {stored}"
        return [f"CREATE TABLE {name} ({COLUMNS}, {made})"]
    if how == "constraint":
        return [f"CREATE TABLE {name} ({COLUMNS}, CHECK (lock_code <> 'L07'))"]
    if how == "view":
        return [f"CREATE TABLE {base} ({COLUMNS})", f"CREATE VIEW {name} AS SELECT * FROM {base}"]
    if how == "index":
        index = target.quoted(f"{target.world.table}_i")
        return [
            f"CREATE TABLE {name} ({COLUMNS}, PRIMARY KEY (reading_no))",
            f"CREATE INDEX {index} ON {name} (lock_code)",
        ]
    if how == "defaults":
        return [f"CREATE TABLE {name} ({COLUMNS}, origin VARCHAR(20) DEFAULT 'weir' NOT NULL)"]
    if how == "identity":
        number = {
            "postgresql": "nr BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
            "mariadb": "nr BIGINT AUTO_INCREMENT PRIMARY KEY",
        }[kind]
        return [f"CREATE TABLE {name} ({number}, {COLUMNS})"]
    if how == "foreign":
        locks = ", ".join(f"('L{number:02d}')" for number in range(40))
        return [
            f"CREATE TABLE {base} (code VARCHAR(40) PRIMARY KEY)",
            f"INSERT INTO {base} VALUES {locks}",
            f"CREATE TABLE {name} ({COLUMNS}, FOREIGN KEY (lock_code) REFERENCES {base} (code))",
        ]
    if kind == "mariadb":
        return [f"CREATE TABLE {name} ({COLUMNS}) PARTITION BY HASH (reading_no) PARTITIONS 3"]
    pieces = [target.quoted(f"{target.world.table}_{n}") for n in range(3)]
    return [
        f"CREATE TABLE {name} ({COLUMNS}) PARTITION BY HASH (reading_no)",
        *(
            f"CREATE TABLE {piece} PARTITION OF {name} "
            f"FOR VALUES WITH (MODULUS 3, REMAINDER {number})"
            for number, piece in enumerate(pieces)
        ),
    ]


def _make(target: Target) -> object:
    """How the table is built, as the engine itself tells."""
    table = target.world.table
    if target.kind == "sqlite":
        return target.ask(
            f"SELECT type, name, sql FROM sqlite_master WHERE tbl_name = '{table}' ORDER BY name"
        )
    if target.kind == "mariadb":
        (found,) = target.ask(f"SHOW CREATE TABLE {target.quoted(table)}")
        # Where the numbers are goes on with the rows.
        return [word for word in found[1].split() if not word.startswith("AUTO_INCREMENT=")]
    if target.kind == "duckdb":
        return [
            target.ask(
                "SELECT column_name, data_type, is_nullable, column_default "
                f"FROM duckdb_columns() WHERE table_name = '{table}' ORDER BY column_index"
            ),
            target.ask(
                "SELECT constraint_text FROM duckdb_constraints() "
                f"WHERE table_name = '{table}' ORDER BY 1"
            ),
            target.ask(f"SELECT sql FROM duckdb_indexes() WHERE table_name = '{table}'"),
        ]
    return [
        target.ask(
            "SELECT attname, atttypid, attnotnull, attgenerated, attidentity FROM pg_attribute "
            f"WHERE attrelid = '{table}'::regclass AND attnum > 0 AND NOT attisdropped "
            "ORDER BY attnum"
        ),
        target.ask(f"SELECT relkind FROM pg_class WHERE relname = '{table}'"),
        target.ask(
            "SELECT conname, pg_get_constraintdef(oid) FROM pg_constraint "
            f"WHERE conrelid = '{table}'::regclass ORDER BY 1"
        ),
        target.ask(f"SELECT indexname, indexdef FROM pg_indexes WHERE tablename = '{table}'"),
        target.ask(f"SELECT count(*) FROM pg_inherits WHERE inhparent = '{table}'::regclass"),
    ]
