"""Words that people rely on, tried to be made lies: verified, kept, every name, numbers."""

from __future__ import annotations

import gzip
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from splarn.core import kernel
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load import (
    BadRows,
    LoadLevers,
    LoadRequest,
    inputs_from_files,
    inputs_from_manifest,
    load,
    undo,
)
from splarn.core.reading.faults import read_rejects
from splarn.core.shape.manifest import read_manifest
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.source.codecs import Packing
from splarn.core.target.notes import LoadNote
from splarn.core.tuning.trial_table import TRIAL, left_tables, remove_table, trial_table
from splarn.core.work.pool import Inline
from splarn.engines import open_engine, opener
from tests.conftest import ask
from tests.engines.gauges import GAUGES, count, readings, request, run
from tests.plain import without_kernel

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
        made = shape(
            [source], GAUGES, tmp_path / codec, PartsFormat("csv", Packing(), 6000), Inline()
        )
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
        shape([path], GAUGES, folder, PartsFormat("csv", codec, 9000), Inline())
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


@pytest.mark.parametrize("route", ["straight", "landing"])
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


@pytest.mark.skipif(not kernel.available(), reason="Splarn has no kernel here")
@pytest.mark.parametrize("route", ["straight", "landing"])
@pytest.mark.parametrize("kind", list(RULES))
def test_one_cell_that_a_rule_changes_among_many_is_told(
    kind: str, route: str, table: str, tmp_path: Path, request_target: Any
) -> None:
    target = request_target(kind)
    first = run(target, table, readings(tmp_path / "a.csv", 1, 10))
    assert first.hashed and first.notes == ()
    # No sum and no extreme has it, and hardly any sample.
    only = "new.reading_no = 7321"
    for statement in RULES[kind]:
        rule = statement.replace("BEGIN UPDATE", f"WHEN {only} BEGIN UPDATE").replace(
            "FOR EACH ROW EXECUTE", f"FOR EACH ROW WHEN ({only}) EXECUTE"
        ).replace("FOR EACH ROW SET", f"FOR EACH ROW IF {only} THEN SET")  # fmt: skip
        ask(target, rule.format(t=table) + ("; END IF" if "IF new" in rule else ""), False)
    path = readings(tmp_path / "b.csv", 11, 12_000)
    # MariaDB cannot tell these from other rows, but where there are none.
    mode = "empty" if kind == "mariadb" else "append"
    wanted = request(target, table, path, table_mode=mode, levers=LoadLevers(route=route))
    record = load(wanted, Inline())
    assert not record.hashed
    assert record.verified is False or any("hash of every cell" in note for note in record.notes)


@pytest.fixture
def request_target(request: pytest.FixtureRequest, tmp_path: Path) -> Any:
    def url(kind: str) -> str:
        if kind in ("sqlite", "duckdb"):
            return f"{kind}:///{tmp_path / 'ruled.db'}"
        return str(request.getfixturevalue(kind))

    return url


def test_rows_read_back_are_those_that_were_read(target: str, table: str, tmp_path: Path) -> None:
    record = run(target, table, readings(tmp_path / "a.csv", 1, 5000))
    assert record.hashed or record.compared > 50
    with without_kernel():
        record = run(target, f"{table}_k", readings(tmp_path / "c.csv", 1, 5000))
    assert record.compared > 50 and not record.hashed
    assert run(target, f"{table}_n", readings(tmp_path / "b.csv", 1, 9), verify=False).compared == 0


def test_only_rows_that_were_looked_for_are_counted(
    target: str, table: str, tmp_path: Path
) -> None:
    layout = Layout("gaps", Dialect(), (Field("reading_no", "integer"), Field("level", "number")))
    path = tmp_path / "gaps.csv"
    lines = [f"{'' if n % 4 else n},{n % 3}.5\n" for n in range(40)]
    path.write_text("reading_no,level\n" + "".join(lines))
    inputs = inputs_from_files([path], layout)
    with without_kernel():
        record = load(LoadRequest(opener(target), table, layout, inputs), Inline())
    assert (record.verified, record.rows_loaded, record.compared) == (True, 40, 10)


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
    assert session.tables.kind(f"{table}_landing_{record.load_id[-4:]}") == ""
    session.close()
    if (mode, target.split(":")[0]) != ("append", "mariadb"):
        undo(opener(target), record.load_id)
        assert count(target, table) == 100


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


def test_notes_are_found_by_an_earlier_spelling_and_no_other_table_is_asked_for(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    run(target, table, readings(tmp_path / "a.csv", 1, 90))
    session = open_engine(target).connect()
    (note,) = session.notes.loads(table)
    for other in range(30):
        foreign = replace(note, load_id=f"{table}-{other}", table=f"{table}_{other}")
        session.notes.put_load(foreign)
    session.commit()
    mine = f"WHERE load_id = '{note.load_id}' AND part_id = ''"
    ask(target, f"UPDATE splarn_progress SET table_name = '\"{table}\"' {mine}", rows=False)
    kept, asked = session.tables.canonical, []

    def canonical(name: str) -> str:
        asked.append(name)
        return kept(name)

    monkeypatch.setattr(session.tables, "canonical", canonical)
    assert session.notes.loads(table) == [note]
    assert len(asked) <= 2
    session.rollback()
    for other in range(30):
        session.notes.forget(f"{table}_{other}")
    session.commit()
    session.close()


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
        assert session.tables.kind(table) == ""
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
        session.tables.create(name, GAUGES)
        session.notes.put_load(LoadNote(sweep_id, name, TRIAL, "sweep", "2031-01-01"))
        session.commit()
        session.close()
    assert living.claims.claim(ids[0])
    left = [note for note in left_tables(keeper) if table in note.table]
    for note in left:
        remove_table(opener(target), note)
    removed = [note.table for note in left]
    assert removed == [keeper.tables.canonical(trial_table(ids[1]))]
    assert keeper.tables.kind(trial_table(ids[0])) == "table"
    assert keeper.tables.kind(trial_table(ids[1])) == ""
    living.close()
    keeper.close()


# Numbers.


def test_numbers_that_do_not_follow_are_said(tmp_path: Path, table: str) -> None:
    target = f"duckdb:///{tmp_path / 't.duckdb'}"
    ask(target, f"CREATE SEQUENCE {table}_q", False)
    ask(target, f"CREATE TABLE {table} (reading_no BIGINT DEFAULT nextval('{table}_q'), gauge "
        "VARCHAR, level DECIMAL(9, 2), day DATE)", False)  # fmt: skip
    path = readings(tmp_path / "a.csv", 1, 70)
    record = run(target, table, path, table_mode="append", numbers="files")
    assert any("reading_no was stored up to 70" in note for note in record.notes), record.notes
    filled = run(target, f"{table}_f", path)
    assert not any("sequence" in note for note in filled.notes)


def test_numbers_with_gaps_mark_no_rows(mariadb: str, table: str) -> None:
    session = open_engine(mariadb).connect()
    try:
        session.tables.create(table, GAUGES)
        session.link.run(f"ALTER TABLE {table} ADD COLUMN nr BIGINT AUTO_INCREMENT PRIMARY KEY")  # type: ignore[attr-defined]
        one = session.tables.canonical(table)
        assert session.rows.can_mark(one, GAUGES.names)
        session.link.run("SET SESSION auto_increment_increment = 2")  # type: ignore[attr-defined]
        assert not session.rows.can_mark(one, GAUGES.names)
    finally:
        session.close()
