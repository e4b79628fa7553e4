"""Words that people rely on, tried to be made lies: already in, verified, taken back, replaced."""

from __future__ import annotations

import gzip
import stat
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from splarn.core.codecs import Packing
from splarn.core.details import LoadDetails
from splarn.core.engine import LoadNote, PartNote
from splarn.core.errors import OutsideError, RequestError
from splarn.core.faults import read_rejects
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load import (
    BadRows,
    LoadLevers,
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    inputs_from_manifest,
    load,
    undo,
)
from splarn.core.pool import Inline
from splarn.core.shape.manifest import read_manifest
from splarn.core.shape.output import Output
from splarn.core.shape.shaper import shape
from splarn.core.trial.runner import TRIAL, remove_left, trial_table
from splarn.engines import identity, open_engine, opener
from tests.conftest import ask

GAUGES = Layout(
    "gauges",
    Dialect(),
    (
        Field("reading_no", "integer", required=True),
        Field("gauge"),
        Field("level", "number", precision=9, scale=2),
        Field("day", "date"),
    ),
)


def readings(path: Path, first: int, last: int, bad: tuple[int, ...] = ()) -> Path:
    """A file of readings; those in `bad` have no number for a level."""
    path.parent.mkdir(parents=True, exist_ok=True)
    levels = {n: "deep" if n in bad else f"{n % 700}.{n % 90 + 10}" for n in range(first, last + 1)}
    lines = [f"{n},RM-{n % 9},{level},2031-01-0{n % 9 + 1}\n" for n, level in levels.items()]
    path.write_text("reading_no,gauge,level,day\n" + "".join(lines))
    return path


def request(target: str, table: str, *paths: Path, **more: Any) -> LoadRequest:
    inputs = more.pop("inputs", None)
    # Parts have no header of their own.
    layout = GAUGES if inputs is None else replace(GAUGES, dialect=Dialect(header=False))
    inputs = inputs or inputs_from_files(paths, GAUGES)
    return LoadRequest(opener(target), table, layout, inputs, **{"batch_rows": 100, **more})


def run(target: str, table: str, *paths: Path, **more: Any) -> LoadRecord:
    record = load(request(target, table, *paths, **more), Inline())
    assert record.verified is not False, record.differences
    return record


def count(target: str, table: str) -> int:
    return int(ask(target, f"SELECT count(*) FROM {table}")[0][0])


# Already in.


def spellings(target: str, table: str) -> list[str]:
    """Other ways to write the same table."""
    kind = target.split(":")[0]
    if kind == "postgresql":
        return [
            f"public.{table}",
            f'"public"."{table}"',
            f"{target.rpartition('/')[2]}.public.{table}",
        ]
    if kind == "mariadb":
        return [f"{target.rpartition('/')[2]}.{table}", f'"{table}"']
    return [f"main.{table}", table.upper(), f"MAIN.{table.title()}", f'"{table}"']


def test_a_table_is_one_however_it_is_written(target: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 300)
    first = run(target, table, path)
    for other in spellings(target, table):
        again = run(target, other, path, table_mode="append")
        assert (again.done_before, again.load_id) == (True, first.load_id), other
        few = readings(tmp_path / "few.csv", 301, 310)
        with pytest.raises(RequestError, match=first.load_id):
            run(target, other, path, few, table_mode="append")
    assert count(target, table) == 300


def test_another_search_path_is_the_same_table(postgresql: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 100)
    first = run(postgresql, table, path)
    ask(postgresql, f"CREATE SCHEMA s_{table}", False)
    with_path = f"{postgresql}?options=-csearch_path%3Ds_{table}%2Cpublic"
    again = run(with_path, table, path, table_mode="append")
    assert again.load_id == first.load_id
    again = run(with_path, f"public.{table}", path, table_mode="append")
    assert again.load_id == first.load_id
    # What is in the other schema is another table, with notes of its own.
    other = run(postgresql, f"s_{table}.{table}", path)
    assert (other.done_before, other.rows_loaded) == (False, 100)
    assert undo(opener(with_path), other.load_id).rows_removed == 100
    assert count(postgresql, table) == 100


@pytest.mark.parametrize("kind", ["sqlite", "duckdb"])
def test_a_file_by_another_path_is_one_target(kind: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 50)
    home = tmp_path / "home"
    home.mkdir()
    first = run(f"{kind}:///{home / 't.db'}", table, path)
    (tmp_path / "link").symlink_to(home)
    (tmp_path / "linked.db").symlink_to(home / "t.db")
    for other in (
        tmp_path / "link" / "t.db",
        tmp_path / "linked.db",
        home / ".." / "home" / "t.db",
    ):
        assert run(f"{kind}:///{other}", table, path, table_mode="append").load_id == first.load_id
        assert identity(f"{kind}:///{other}") == identity(f"{kind}:///{home / 't.db'}")


def test_content_is_in_whatever_its_codec_and_cut(target: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 2000)
    packed = tmp_path / "b.csv.gz"
    packed.write_bytes(gzip.compress(path.read_bytes()))
    first = run(target, table, path)
    assert run(target, table, packed, table_mode="append").load_id == first.load_id
    made = shape([path], GAUGES, tmp_path / "p", Output("csv", Packing("zstd", 1), 9000), Inline())
    parts = inputs_from_manifest(made.manifest)
    with pytest.raises(RequestError, match=f"holds records that are in .*{first.load_id}"):
        run(target, table, inputs=parts, table_mode="append")
    # And the other way round, one part being enough.
    other = f"{table}_o"
    second = run(target, other, inputs=parts[1:2])
    with pytest.raises(RequestError, match=second.load_id):
        run(target, other, packed, table_mode="append")
    with pytest.raises(RequestError, match=second.load_id):
        run(target, other, inputs=parts, table_mode="append")
    assert run(target, other, inputs=parts[2:], table_mode="append").rows_loaded > 0
    assert count(target, table) == 2000


def test_content_that_is_coming_in_is_claimed_before_its_first_row(
    target: str, table: str, tmp_path: Path
) -> None:
    paths = [readings(tmp_path / f"{n}.csv", n * 1000, n * 1000 + 99) for n in range(3)]
    run(target, table, paths[0])
    engine = open_engine(target)
    holder = engine.connect()
    try:
        (entry,) = inputs_from_files(paths[1:2], GAUGES)
        one = holder.canonical(table)
        note = LoadNote("load-x", one, "open", "append", "2031-01-01",
                        LoadDetails(stage="load", part_count=1))  # fmt: skip
        holder.lock(one)
        holder.note_load(note)
        holder.note_part(PartNote("load-x", entry.content_id, "1.csv", "open", 0, 0, 0, table=one))
        holder.commit()
        holder.release(one)
        assert holder.claim("load-x")
        if target.startswith("duckdb"):
            holder.connection.rollback()  # type: ignore[attr-defined]
        with pytest.raises(OutsideError, match=r"1\.csv holds records that the load load-x is bri"):
            run(target, table, *paths[1:], table_mode="append")
        # What is not being brought in may come.
        assert run(target, table, paths[2], table_mode="append").rows_loaded == 100
    finally:
        holder.close()
    assert count(target, table) == 200


def test_claims_lie_beside_the_file_and_do_not_pile_up(
    tmp_path: Path, table: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = f"sqlite:///{tmp_path / 't.db'}"
    one = open_engine(target).connect()
    assert one.claim("load-1")
    (claim,) = (path for path in tmp_path.iterdir() if path.name.endswith(".splarn-claim"))
    assert stat.S_IMODE(claim.stat().st_mode) == 0o666
    # Another temporary folder is no way around it.
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    other = open_engine(target).connect()
    assert not other.claim("load-1")
    left = claim.with_name(claim.name.replace("load-1", "load-0"))
    left.touch()
    assert other.claim("load-2")
    assert not left.exists()
    one.close()
    other.close()
    assert [path.name for path in tmp_path.iterdir()] == ["t.db"]


def test_notes_that_somebody_removed_are_missed(target: str, table: str, tmp_path: Path) -> None:
    first = readings(tmp_path / "a.csv", 1, 100)
    run(target, table, first)
    for how in (f"table_name LIKE '%{table}' AND part_id = ''",
                f"table_name LIKE '%{table}' AND part_id <> ''", "1 = 1"):  # fmt: skip
        if how == "1 = 1" and not target.startswith(("sqlite", "duckdb")):
            continue
        ask(target, f"DELETE FROM splarn_progress WHERE {how}", False)
        with pytest.raises(RequestError, match="removed from splarn_progress by somebody"):
            run(target, table, first, table_mode="append")
        assert count(target, table) == 100
        # The table emptied, nothing can be doubled.
        assert run(target, table, first, table_mode="empty").rows_loaded == 100
        assert run(target, table, first, table_mode="append").done_before


def test_a_load_that_the_target_has_no_note_of_is_missed(
    target: str, table: str, tmp_path: Path
) -> None:
    path = readings(tmp_path / "a.csv", 1, 100)
    run(target, table, path)
    wanted = request(target, table, readings(tmp_path / "b.csv", 101, 150), table_mode="append")
    with pytest.raises(RequestError, match="removed from splarn_progress"):
        load(replace(wanted, expected=("20310101-000000-abcd",)), Inline())
    assert load(replace(wanted, expected=("20310101-000000-abcd",), again=True), Inline()).verified


# Verified, and kept.


def test_rejects_of_files_of_one_name_are_all_kept(target: str, table: str, tmp_path: Path) -> None:
    one = readings(tmp_path / "A" / "x.csv", 1, 40, bad=(3, 9))
    two = readings(tmp_path / "B" / "x.csv", 41, 90, bad=(50, 60, 70))
    kept = tmp_path / "rejects"
    record = run(target, table, one, two, bad_rows=BadRows(), rejects=kept)
    faults = [fault for path in kept.rglob("*.jsonl") for fault in read_rejects(path)]
    assert record.rows_rejected == 5
    assert sorted(int(fault.raw.split(",")[0]) for fault in faults) == [3, 9, 50, 60, 70]
    assert {fault.path for fault in faults} == {str(one), str(two)}


def test_rejects_that_are_missing_in_the_end_are_said(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = readings(tmp_path / "a.csv", 1, 40, bad=(3, 9))
    monkeypatch.setattr("splarn.core.load.stream.write_rejects", lambda *_: 0)
    record = load(
        request(target, table, path, bad_rows=BadRows(), rejects=tmp_path / "r"), Inline()
    )
    assert record.verified is False
    assert "2 rows of" in record.differences[0]


def test_rejects_of_parts_name_the_delivery(target: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 2000, bad=(2, 1000, 1999))
    lines = path.read_text().splitlines()
    for codec in ("none", "gzip"):
        source = path
        if codec == "gzip":
            source = tmp_path / "a.csv.gz"
            source.write_bytes(gzip.compress(path.read_bytes()))
        made = shape([source], GAUGES, tmp_path / codec, Output("csv", Packing(), 6000), Inline())
        kept = tmp_path / f"rejects-{codec}"
        name = f"{table}_{codec}"
        inputs = inputs_from_manifest(made.manifest)
        run(target, name, inputs=inputs, bad_rows=BadRows(), rejects=kept)
        faults = [fault for one in kept.rglob("*.jsonl") for fault in read_rejects(one)]
        assert sorted((f.path, f.line, f.row) for f in faults) == [
            (str(source), number + 1, number) for number in (2, 1000, 1999)
        ]
        assert all(lines[fault.line - 1] == fault.raw.rstrip() for fault in faults)


def test_bytes_that_changed_in_a_part_of_the_same_size_are_found(
    target: str, table: str, tmp_path: Path
) -> None:
    path = readings(tmp_path / "a.csv", 1, 900)
    for codec in (Packing(), Packing("gzip", 1)):
        folder = tmp_path / codec.codec
        shape([path], GAUGES, folder, Output("csv", codec, 9000), Inline())
        inputs = inputs_from_manifest(read_manifest(folder))
        victim = inputs[1].path
        assert isinstance(victim, Path)
        data = victim.read_bytes()
        if codec.codec == "none":
            spoilt = data.replace(b"RM-4", b"RM-5", 1)
        else:
            other = gzip.compress(gzip.decompress(data).replace(b"RM-4", b"RM-5", 1), 9)
            spoilt = other[: len(data)].ljust(len(data), b"\0")
        assert len(spoilt) == len(data)
        victim.write_bytes(spoilt)
        wanted = request(target, f"{table}_{codec.codec}", inputs=inputs_from_manifest(
            read_manifest(folder)))  # fmt: skip
        with pytest.raises(
            OutsideError, match="does not hold the bytes that were listed in its ma"
        ):
            load(wanted, Inline())
        victim.write_bytes(data)
        record = load(replace(wanted, inputs=inputs_from_manifest(read_manifest(folder))), Inline())
        assert (record.resumed, record.verified, record.rows_loaded) == (True, True, 900)


RULES = {
    "sqlite": [
        "CREATE TRIGGER {t}_g AFTER INSERT ON {t} BEGIN UPDATE {t} SET gauge = lower(gauge) "
        "WHERE reading_no = new.reading_no; END"
    ],
    "postgresql": [
        "CREATE FUNCTION {t}_f() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN NEW.gauge := lower(NEW.gauge); RETURN NEW; END'",
        "CREATE TRIGGER {t}_g BEFORE INSERT ON {t} FOR EACH ROW EXECUTE FUNCTION {t}_f()",
    ],
    "mariadb": [
        "CREATE TRIGGER {t}_g BEFORE INSERT ON {t} FOR EACH ROW SET NEW.gauge = lower(NEW.gauge)"
    ],
}


@pytest.mark.parametrize("route", ["direct", "landing"])
@pytest.mark.parametrize("kind", list(RULES))
def test_a_rule_that_changes_text_of_one_length_is_seen(
    kind: str, route: str, table: str, tmp_path: Path, request_target: Any
) -> None:
    target = request_target(kind)
    run(target, table, readings(tmp_path / "a.csv", 1, 10))
    for statement in RULES[kind]:
        ask(target, statement.format(t=table), False)
    path = readings(tmp_path / "b.csv", 11, 400)
    wanted = request(target, table, path, table_mode="append", levers=LoadLevers(route=route))
    record = load(wanted, Inline())
    assert record.verified is False
    assert "something in the target changes values" in record.differences[-1]
    assert "RM-" in record.differences[-1]
    if route == "landing":
        assert count(target, table) == 10, "what is not right was not to be moved"


@pytest.fixture
def request_target(request: pytest.FixtureRequest, tmp_path: Path) -> Any:
    def url(kind: str) -> str:
        if kind in ("sqlite", "duckdb"):
            return f"{kind}:///{tmp_path / 'ruled.db'}"
        return str(request.getfixturevalue(kind))

    return url


def test_rows_read_back_are_those_that_were_read(target: str, table: str, tmp_path: Path) -> None:
    record = run(target, table, readings(tmp_path / "a.csv", 1, 5000))
    assert record.compared > 50
    assert run(target, f"{table}_n", readings(tmp_path / "b.csv", 1, 9), verify=False).compared == 0


@pytest.mark.parametrize("mode", ["append", "empty"])
def test_rows_that_clash_when_they_are_moved_are_told_apart(
    target: str, table: str, tmp_path: Path, mode: str
) -> None:
    run(target, table, readings(tmp_path / "a.csv", 1, 100))
    # What only the table itself refuses, and no copy of it.
    clash = {
        "sqlite": "CREATE TRIGGER {t}_g BEFORE INSERT ON {t} WHEN new.reading_no IN (150, 190) "
        "BEGIN SELECT raise(ABORT, 'not wanted'); END",
        "postgresql": "ALTER TABLE {t} ADD FOREIGN KEY (reading_no) REFERENCES {t}_n (n)",
        "mariadb": "ALTER TABLE {t} ADD FOREIGN KEY (reading_no) REFERENCES {t}_n (n)",
        "duckdb": "CREATE UNIQUE INDEX {t}_u ON {t} (reading_no)",
    }[target.split(":")[0]]
    numbers = [n for n in range(1, 301) if n not in (150, 190)]
    if "REFERENCES" in clash:
        ask(target, f"CREATE TABLE {table}_n (n BIGINT PRIMARY KEY)", False)
        values = ", ".join(f"({n})" for n in numbers)
        ask(target, f"INSERT INTO {table}_n VALUES {values}", False)
    ask(target, clash.format(t=table), False)
    first = 101
    if target.startswith("duckdb"):
        if mode == "empty":
            return
        first = 99
    path = readings(tmp_path / "b.csv", first, 200)
    levers = LoadLevers(route="landing")
    wanted = request(target, table, path, table_mode=mode, levers=levers)
    with pytest.raises(OutsideError, match="cannot be moved into"):
        load(wanted, Inline())
    assert count(target, table) == 100
    record = load(replace(wanted, bad_rows=BadRows(), rejects=tmp_path / "r"), Inline())
    assert (record.rows_rejected, record.verified) == (2, True), record.differences
    faults = [fault for one in (tmp_path / "r").rglob("*.jsonl") for fault in read_rejects(one)]
    lines = path.read_text().splitlines()
    assert {fault.kind for fault in faults} == {"engine"}
    assert all(lines[fault.line - 1] == fault.raw.rstrip() for fault in faults)
    assert count(target, table) == (100 if mode == "append" else 0) + 200 - first + 1 - 2
    session = open_engine(target).connect()
    assert session.kind(f"{table}_landing_{record.load_id[-4:]}") == ""
    session.close()
    if (mode, target.split(":")[0]) != ("append", "mariadb"):
        undo(opener(target), record.load_id)
        assert count(target, table) == 100


# Taken back.


EDITS = {
    "a cell of one length": ["UPDATE {t} SET gauge = 'XX-1' WHERE reading_no = 77"],
    "amounts moved": [
        "UPDATE {t} SET level = 10.11 WHERE reading_no = 77",
        "UPDATE {t} SET level = 77.87 WHERE reading_no = 10",
    ],
    "a new column": ["ALTER TABLE {t} ADD COLUMN seen VARCHAR(9)"],
    "a filled column": [
        "ALTER TABLE {t} ADD COLUMN seen VARCHAR(9)",
        "UPDATE {t} SET seen = 'yes' WHERE reading_no = 77",
    ],
    "a row less": ["DELETE FROM {t} WHERE reading_no = 77"],
}


@pytest.mark.parametrize("edit", list(EDITS))
@pytest.mark.parametrize("mode", ["create", "append", "empty", "replace"])
def test_what_was_edited_since_is_not_taken_back_without_a_second_word(
    target: str, table: str, tmp_path: Path, mode: str, edit: str
) -> None:
    if mode != "create":
        run(target, table, readings(tmp_path / "old.csv", 5001, 5050))
    if mode == "append" and target.startswith("mariadb"):
        ask(target, f"ALTER TABLE {table} ADD COLUMN nr BIGINT AUTO_INCREMENT PRIMARY KEY", False)
    loaded = run(target, table, readings(tmp_path / "a.csv", 1, 200), table_mode=mode)
    for statement in EDITS[edit]:
        ask(target, statement.format(t=table), False)
    before = sorted(map(str, ask(target, f"SELECT * FROM {table}")))
    with pytest.raises(RequestError, match=r"was not taken back, because .*--with-changes"):
        undo(opener(target), loaded.load_id)
    assert sorted(map(str, ask(target, f"SELECT * FROM {table}"))) == before
    again = request(target, table, tmp_path / "a.csv", table_mode="append")
    with pytest.raises(RequestError, match="have been changed since"):
        load(again, Inline())
    undo(opener(target), loaded.load_id, with_changes=True)
    if mode == "create":
        with pytest.raises(Exception, match=r"(?i)no such table|exist"):
            count(target, table)
    elif not (mode == "append" and target.startswith("postgresql")):
        assert count(target, table) == 50


def test_a_table_whose_name_looks_like_a_table_aside_is_only_itself(
    target: str, tmp_path: Path, table: str
) -> None:
    name = f"{table}_next_ab12"
    run(target, name, readings(tmp_path / "a.csv", 1, 50))
    levers = LoadLevers(route="landing")
    second = run(
        target, name, readings(tmp_path / "b.csv", 51, 90), table_mode="empty", levers=levers
    )
    assert count(target, name) == 40
    assert undo(opener(target), second.load_id).rows_restored == 50
    assert count(target, name) == 50


# Replaced.


def test_a_replaced_table_is_to_everybody_what_it_was(
    postgresql: str, table: str, tmp_path: Path
) -> None:
    t = table
    run(postgresql, t, readings(tmp_path / "a.csv", 1, 50))
    for statement in (
        f"CREATE ROLE {t}_owner", f"CREATE ROLE {t}_reader",
        f"ALTER TABLE {t} ADD COLUMN nr BIGINT GENERATED BY DEFAULT AS IDENTITY",
        f"ALTER TABLE {t} ADD CONSTRAINT {t}_key PRIMARY KEY (reading_no)",
        f"ALTER TABLE {t} ADD CONSTRAINT {t}_pair UNIQUE (reading_no, gauge)",
        f"ALTER TABLE {t} ADD CONSTRAINT {t}_high CHECK (level < 100000)",
        f"CREATE INDEX {t}_days ON {t} (day)",
        f"CREATE UNIQUE INDEX {t}_some ON {t} (reading_no) WHERE level > 5",
        f"COMMENT ON TABLE {t} IS 'Readings, it''s all'", f"COMMENT ON COLUMN {t}.level IS 'in m'",
        f"GRANT SELECT ON {t} TO {t}_reader WITH GRANT OPTION",
        f"GRANT UPDATE (gauge) ON {t} TO {t}_reader", f"GRANT SELECT ON {t} TO PUBLIC",
        f"ALTER TABLE {t} SET (fillfactor = 70)", f"ALTER TABLE {t} REPLICA IDENTITY FULL",
        f"CREATE POLICY seen ON {t} FOR SELECT TO {t}_reader USING (gauge <> 'RM-1')",
        f"CREATE POLICY kept ON {t} AS RESTRICTIVE FOR UPDATE USING (true) WITH CHECK (level > 0)",
        f"ALTER TABLE {t} ENABLE ROW LEVEL SECURITY", f"ALTER TABLE {t} FORCE ROW LEVEL SECURITY",
        f"SELECT nextval(pg_get_serial_sequence('{t}', 'nr')) FROM generate_series(1, 500)",
        f"ALTER TABLE {t} OWNER TO {t}_owner",
    ):  # fmt: skip
        ask(postgresql, statement, False)
    facts = (
        f"SELECT relname, pg_get_indexdef(indexrelid) FROM pg_index JOIN pg_class c ON c.oid = "
        f"indexrelid WHERE indrelid = '{t}'::regclass ORDER BY 1",
        "SELECT conname, contype, pg_get_constraintdef(oid) FROM pg_constraint "
        f"WHERE conrelid = '{t}'::regclass ORDER BY 1",
        "SELECT pg_get_userbyid(relowner), (SELECT array_agg(a::text ORDER BY a::text) "
        "FROM unnest(relacl) a), reloptions, relreplident, relrowsecurity, "
        f"relforcerowsecurity, obj_description(oid) FROM pg_class WHERE oid = '{t}'::regclass",
        "SELECT attname, attacl::text, attidentity, col_description(attrelid, attnum) "
        f"FROM pg_attribute WHERE attrelid = '{t}'::regclass AND attnum > 0 ORDER BY 1",
        f"SELECT policyname, permissive, roles, cmd, qual, with_check FROM pg_policies "
        f"WHERE tablename = '{t}' ORDER BY 1",
        f"SELECT nextval(pg_get_serial_sequence('{t}', 'nr')) > 500",
    )
    before = [sorted(map(str, ask(postgresql, statement))) for statement in facts]
    done = run(postgresql, t, readings(tmp_path / "b.csv", 51, 120), table_mode="replace")
    assert [sorted(map(str, ask(postgresql, statement))) for statement in facts] == before
    assert count(postgresql, t) == 70
    undo(opener(postgresql), done.load_id)
    assert [sorted(map(str, ask(postgresql, statement))) for statement in facts] == before
    assert count(postgresql, t) == 50
    ask(postgresql, f"DROP TABLE {t}", False)
    for role in ("owner", "reader"):
        ask(postgresql, f"DROP ROLE {t}_{role}", False)


TIES = {
    "is a partition of": "CREATE TABLE {t}_p (LIKE {t}) PARTITION BY RANGE (reading_no); "
    "ALTER TABLE {t}_p ATTACH PARTITION {t} FOR VALUES FROM (0) TO (10000)",
    "the view {t}_v shows it": "CREATE VIEW {t}_v AS SELECT gauge FROM {t}",
    "has the rule {t}_r": "CREATE RULE {t}_r AS ON DELETE TO {t} DO INSTEAD NOTHING",
    "the publication {t}_b publishes it": "CREATE PUBLICATION {t}_b FOR TABLE {t}",
    "it has the statistics {t}_s": "CREATE STATISTICS {t}_s ON gauge, day FROM {t}",
    "uses its rows": "CREATE FUNCTION {t}_f({t}) RETURNS int LANGUAGE sql AS 'SELECT 1'",
    "{t}_c inherits from it": "CREATE TABLE {t}_c () INHERITS ({t})",
    "it owns the sequence {t}_q": "CREATE SEQUENCE {t}_q OWNED BY {t}.reading_no",
}


@pytest.mark.parametrize("tie", list(TIES))
def test_what_cannot_be_carried_over_stands_in_the_way_by_name(
    postgresql: str, table: str, tmp_path: Path, tie: str
) -> None:
    run(postgresql, table, readings(tmp_path / "a.csv", 1, 50))
    for statement in TIES[tie].format(t=table).split("; "):
        ask(postgresql, statement, False)
    with pytest.raises(RequestError, match=f"cannot be replaced, since .*{tie.format(t=table)}"):
        run(postgresql, table, readings(tmp_path / "b.csv", 51, 90), table_mode="replace")
    assert count(postgresql, table) == 50


def test_a_partitioned_table_stays_one(postgresql: str, table: str, tmp_path: Path) -> None:
    for statement in (
        f"CREATE TABLE {table} (reading_no bigint NOT NULL, gauge text, level numeric(9, 2), "
        "day date) PARTITION BY RANGE (reading_no)",
        f"CREATE TABLE {table}_low PARTITION OF {table} FOR VALUES FROM (0) TO (100)",
        f"CREATE TABLE {table}_high PARTITION OF {table} FOR VALUES FROM (100) TO (10000)",
    ):
        ask(postgresql, statement, False)
    done = run(postgresql, table, readings(tmp_path / "a.csv", 50, 150), table_mode="append")
    assert count(postgresql, f"{table}_low") == 50
    with pytest.raises(RequestError, match="it is partitioned"):
        run(postgresql, table, readings(tmp_path / "b.csv", 1, 9), table_mode="replace")
    assert undo(opener(postgresql), done.load_id).rows_removed == 101


def test_what_is_no_table_is_named(target: str, table: str, tmp_path: Path) -> None:
    run(target, table, readings(tmp_path / "a.csv", 1, 5))
    ask(target, f"CREATE VIEW {table}_v AS SELECT * FROM {table}", False)
    with pytest.raises(RequestError, match="is a view, and a load needs a table"):
        run(target, f"{table}_v", readings(tmp_path / "b.csv", 6, 9), table_mode="append")


# Names.


ODD_NAMES = [
    "50 % of {t}", "{t}:a.b", '{t} "q"', "{t}'s", "{t}`x", "select {t}", "{t} é%s%(x)s",
    "{t}\\;--", "{t}[1]?{{0}}",
]  # fmt: skip


@pytest.mark.parametrize("name", ODD_NAMES)
def test_names_of_every_character_are_loaded_and_taken_back(
    target: str, table: str, tmp_path: Path, name: str
) -> None:
    path = readings(tmp_path / "a.csv", 1, 90)
    fields = tuple(
        replace(field, name=f"{field.name} {mark}")
        for field, mark in zip(GAUGES.fields, ("%", ":x'\"`", "a.b", "order by"), strict=True)
    )
    layout = Layout("odd", Dialect(header=False), fields)
    path.write_text("".join(path.read_text().splitlines(True)[1:]))
    written = '"' + name.format(t=table).replace('"', '""') + '"'
    inputs = inputs_from_files([path], layout)
    wanted = LoadRequest(opener(target), written, layout, inputs, batch_rows=40)
    for mode, levers in (
        ("create", LoadLevers()),
        ("replace", LoadLevers()),
        ("empty", LoadLevers(route="landing")),
    ):
        record = load(replace(wanted, table_mode=mode, levers=levers), Inline())
        assert (record.rows_loaded, record.verified) == (90, True)
    assert load(replace(wanted, table_mode="append"), Inline()).done_before
    undo(opener(target), record.load_id)


def test_names_over_the_engines_limit_are_refused_before_anything_is_made(
    postgresql: str, mariadb: str, table: str, tmp_path: Path
) -> None:
    path = readings(tmp_path / "a.csv", 1, 9)
    for target, most in ((postgresql, "63 bytes"), (mariadb, "64 characters")):
        with pytest.raises(RequestError, match=f"longer than the {most} that the target takes"):
            run(target, "x" * 65, path)
        long = replace(
            GAUGES, fields=(*GAUGES.fields[:3], replace(GAUGES.fields[3], name="d" * 65))
        )
        (entry,) = inputs_from_files([path], GAUGES)
        with pytest.raises(RequestError, match=f"field name ddd.*{most}.* in the layout"):
            load(LoadRequest(opener(target), table, long, (entry,)), Inline())
        session = open_engine(target).connect()
        assert session.kind(table) == ""
        session.close()
    for odd, why in (("day ", "ends with a blank"), ("day 🚤", "holds 🚤, a character beyond")):
        changed = replace(GAUGES, fields=(*GAUGES.fields[:3], replace(GAUGES.fields[3], name=odd)))
        other = tmp_path / "other.csv"
        other.write_text(path.read_text().replace("day", odd, 1))
        for name, layout, source in ((table + odd, GAUGES, path), (table, changed, other)):
            (entry,) = inputs_from_files([source], layout)
            with pytest.raises(RequestError, match=f"{why}.* which the target does not take"):
                load(LoadRequest(opener(mariadb), name, layout, (entry,)), Inline())


# Trials.


def test_what_a_killed_sweep_left_is_removed_and_nobody_elses(
    target: str, table: str, tmp_path: Path
) -> None:
    engine = open_engine(target)
    living, keeper = engine.connect(), engine.connect()
    ids = [f"sweep-{table}-{n}" for n in range(2)]
    for sweep_id in ids:
        session = engine.connect()
        name = trial_table(sweep_id)
        session.create(name, GAUGES)
        session.note_load(LoadNote(sweep_id, name, TRIAL, "sweep", "2031-01-01"))
        session.commit()
        session.close()
    assert living.claim(ids[0])
    removed = [name for name in remove_left(opener(target), keeper) if table in name]
    assert removed == [keeper.canonical(trial_table(ids[1]))]
    assert keeper.kind(trial_table(ids[0])) == "table"
    assert keeper.kind(trial_table(ids[1])) == ""
    living.close()
    keeper.close()


# Numbers.


def test_numbers_that_do_not_follow_are_said(tmp_path: Path, table: str) -> None:
    target = f"duckdb:///{tmp_path / 't.duckdb'}"
    ask(target, f"CREATE SEQUENCE {table}_q", False)
    ask(target, f"CREATE TABLE {table} (reading_no BIGINT DEFAULT nextval('{table}_q'), gauge "
        "VARCHAR, level DECIMAL(9, 2), day DATE)", False)  # fmt: skip
    path = readings(tmp_path / "a.csv", 1, 70)
    record = run(target, table, path, table_mode="append", identity="keep")
    assert any("reading_no was stored up to 70" in note for note in record.notes), record.notes
    filled = run(target, f"{table}_f", path)
    assert not any("sequence" in note for note in filled.notes)


def test_numbers_with_gaps_mark_no_rows(mariadb: str, table: str) -> None:
    session = open_engine(mariadb).connect()
    try:
        session.create(table, GAUGES)
        session.run(f"ALTER TABLE {table} ADD COLUMN nr BIGINT AUTO_INCREMENT PRIMARY KEY")  # type: ignore[attr-defined]
        one = session.canonical(table)
        assert session.can_mark(one, GAUGES.names)
        session.run("SET SESSION auto_increment_increment = 2")  # type: ignore[attr-defined]
        assert not session.can_mark(one, GAUGES.names)
    finally:
        session.close()
