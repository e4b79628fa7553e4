"""Tables over the life of loads: replaced, emptied, added to, taken back, broken off anywhere."""

from __future__ import annotations

import itertools
from dataclasses import replace
from pathlib import Path

import pytest

from splarn.core.errors import RequestError, ShortfallError
from splarn.core.load import (
    BadRows,
    load,
    undo,
)
from splarn.core.source.source import Source
from splarn.core.target.levers import LoadLevers
from splarn.core.work.pool import Inline
from splarn.engines import open_engine, opener
from tests.conftest import ask
from tests.engines.lives import (
    GAUGES,
    beside,
    digests,
    done_beside,
    index_names,
    make_index,
    readings,
    request,
    run,
    session_of,
)
from tests.engines.test_load import Broken, pull_the_plug

WAYS = [
    ("empty", LoadLevers()),
    ("empty", LoadLevers(route="landing")),
    ("replace", LoadLevers()),
    ("replace", LoadLevers(indexes="rebuild")),
    ("append", LoadLevers(indexes="rebuild")),
    ("append", LoadLevers(route="landing")),
]


@pytest.mark.parametrize(("mode", "levers"), WAYS)
def test_a_load_broken_off_anywhere_ends_in_its_rows_and_can_be_taken_back(
    target: str, table: str, files: tuple[Path, Path], mode: str, levers: LoadLevers,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    old, new = files
    first = run(target, table, old)
    make_index(target, table)
    before = digests(target, table)
    rows = {"append": 1300}.get(mode, 900)
    wanted = request(target, table, new, table_mode=mode, levers=levers)
    for after in itertools.count():
        with monkeypatch.context() as patch:
            pull_the_plug(patch, after)
            try:
                load(wanted, Inline())
                break
            except Broken:
                pass
        if done_beside(target, table, first):
            break  # Only the removal of what nothing needs any more was broken off.
        if levers.route == "landing" or mode == "replace":
            assert ask(target, f"SELECT count(*) FROM {table}")[0][0] in (400, rows)
    assert after > 2
    # The last of these loads went on with the one before it, or came after it was whole.
    assert load(replace(wanted, table_mode="append"), Inline()).done_before
    assert ask(target, f"SELECT count(*), count(DISTINCT gauge) FROM {table}") == [
        (rows, 18 if mode == "append" else 9)
    ]
    assert len(index_names(target, table)) == 1
    (last,) = done_beside(target, table, first)
    cannot = mode == "append" and target.startswith("mariadb")
    if cannot:
        with pytest.raises(RequestError, match="nothing tells them from its own"):
            undo(opener(target), last.load_id)
        return
    done = undo(opener(target), last.load_id)
    assert (done.rows_removed, done.rows_restored) == (900, 0 if mode == "append" else 400)
    assert digests(target, table) == before
    assert len(index_names(target, table)) == 1
    assert beside(target, table) == []
    with pytest.raises(RequestError, match="taken back already"):
        undo(opener(target), last.load_id)
    assert undo(opener(target), first.load_id).rows_removed == 400
    with session_of(target) as session:
        assert session.tables.columns(table) is None


@pytest.mark.parametrize(("mode", "levers"), WAYS)
def test_an_unfinished_load_can_be_taken_back(
    target: str, table: str, files: tuple[Path, Path], mode: str, levers: LoadLevers,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    old, new = files
    run(target, table, old)
    make_index(target, table)
    before = digests(target, table)
    wanted = request(target, table, new, table_mode=mode, levers=levers)
    for after in (1, 3, 5):
        with monkeypatch.context() as patch:
            pull_the_plug(patch, after)
            with pytest.raises(Broken):
                load(wanted, Inline())
        with session_of(target) as session:
            (left,) = (note for note in session.notes.loads(table) if note.state == "open")
            rows = sum(part.rows for part in session.notes.parts([left.load_id]))
        if mode == "append" and levers.route == "straight" and rows and "mariadb" in target:
            with pytest.raises(RequestError, match="nothing tells them"):
                undo(opener(target), left.load_id)
            return
        undo(opener(target), left.load_id)
        assert digests(target, table) == before
        assert len(index_names(target, table)) == 1
        assert beside(target, table) == []


def test_rows_that_others_changed_are_not_taken_back(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    old, new = files
    run(target, table, old)
    if target.startswith("mariadb"):
        ask(target, f"ALTER TABLE {table} ADD COLUMN id BIGINT AUTO_INCREMENT KEY", False)
    second = run(target, table, new, table_mode="append")
    ask(target, f"INSERT INTO {table} (reading_no, gauge) VALUES (5000, 'XX-1')", False)
    ask(target, f"UPDATE {table} SET level = 1 WHERE reading_no = 1100", False)
    with pytest.raises(RequestError, match=r"(not taken back|tells them)"):
        undo(opener(target), second.load_id)
    assert ask(target, f"SELECT count(*) FROM {table}") == [(1301,)]
    if not target.startswith("duckdb"):
        # What others added stays when the load's own rows are as they were.
        third = run(target, table, new, table_mode="append", again=True)
        ask(target, f"INSERT INTO {table} (reading_no, gauge) VALUES (5001, 'XX-2')", False)
        assert undo(opener(target), third.load_id).rows_removed == 900
        assert ask(target, f"SELECT count(*) FROM {table}") == [(1302,)]


def test_levers_that_an_engine_lacks_are_errors(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    engine = open_engine(target)
    for lever, values in {"durability": ("relaxed", "none"), "route": ("landing",)}.items():
        for value in values:
            levers = LoadLevers(**{"route": "landing", lever: value})
            wanted = request(target, table, files[0], levers=levers, table_mode="replace")
            if value in engine.levers[lever]:
                assert load(wanted, Inline()).verified is True
                assert ask(target, f"SELECT count(*) FROM {table}") == [(400,)]
            else:
                with pytest.raises(RequestError, match=f"lacks {lever} {value}; it has full"):
                    load(wanted, Inline())
            wanted = replace(wanted, levers=LoadLevers(durability="none"))
            with pytest.raises(RequestError, match=r"landing tables|lacks"):
                load(wanted, Inline())


def test_an_unlogged_landing_table_that_a_crash_emptied_is_filled_again(
    postgresql: str, table: str, files: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    levers = LoadLevers(durability="none", route="landing")
    wanted = request(postgresql, table, files[0], levers=levers)
    with monkeypatch.context() as patch:
        pull_the_plug(patch, 3)
        with pytest.raises(Broken):
            load(wanted, Inline())
    (landing,) = beside(postgresql, table)
    kind = ask(postgresql, f"SELECT relpersistence FROM pg_class WHERE relname = '{landing}'")
    assert kind == [("u",)]
    # What the server does with such tables when it starts after a crash.
    ask(postgresql, f"TRUNCATE {landing}", False)
    record = load(wanted, Inline())
    assert (record.resumed, record.rows_loaded, record.verified) == (True, 400, True)
    kind = ask(postgresql, f"SELECT relpersistence FROM pg_class WHERE relname = '{table}'")
    assert kind == [("p",)]
    assert ask(postgresql, f"SELECT count(*) FROM {table}") == [(400,)]


NUMBERED = {
    "sqlite": "INTEGER PRIMARY KEY AUTOINCREMENT",
    "duckdb": "BIGINT DEFAULT nextval('{table}_numbers')",
    "postgresql": "BIGINT GENERATED ALWAYS AS IDENTITY",
    "mariadb": "BIGINT AUTO_INCREMENT PRIMARY KEY",
}


def test_numbers_are_the_files_or_the_tables_own_by_choice(
    target: str, table: str, tmp_path: Path
) -> None:
    kind = target.split(":")[0]
    if kind == "duckdb":
        ask(target, f"CREATE SEQUENCE {table}_numbers", False)
    numbered = NUMBERED[kind].format(table=table)
    rest = "gauge VARCHAR(20), level DECIMAL(8, 2), day DATE"
    ask(target, f"CREATE TABLE {table} (reading_no {numbered}, {rest})", False)
    path, more = readings(tmp_path / "a.csv", 71, 90), readings(tmp_path / "b.csv", 500, 520)
    record = run(target, table, path, table_mode="append")
    assert "--numbers table" in record.notes[0]
    spread = f"SELECT min(reading_no), max(reading_no) FROM {table}"
    assert ask(target, spread) == [(71, 90)]
    own = f"INSERT INTO {table} (gauge) VALUES ('own')"
    if kind != "duckdb":
        ask(target, own, False)
        assert ask(target, f"SELECT max(reading_no) FROM {table}") == [(91,)]
    filled = run(target, table, more, table_mode="append", numbers="table")
    assert filled.notes == ()
    assert ask(target, f"SELECT max(reading_no) < 200 FROM {table}")[0][0]
    # Rows that the table numbered can be told apart in every engine.
    assert undo(opener(target), filled.load_id).rows_removed == 21
    with pytest.raises(RequestError, match="choice of numbers 'guess'"):
        run(target, table, more, table_mode="append", numbers="guess")


def test_only_chosen_columns_are_stored(target: str, table: str, files: tuple[Path, Path]) -> None:
    record = run(target, table, files[0], columns=("gauge", "reading_no"))
    assert [digest.name for digest in record.digests] == ["reading_no", "gauge"]
    with session_of(target) as session:
        assert [column.name for column in session.tables.columns(table)] == ["reading_no", "gauge"]
    with pytest.raises(RequestError, match="no field flow"):
        run(target, table, files[1], columns=("flow",), table_mode="append")


def test_a_replaced_table_may_have_other_columns(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    first = run(target, table, files[0], columns=("gauge", "day"))
    with pytest.raises(RequestError, match="lacks reading_no; it lacks level"):
        run(target, table, files[1], table_mode="empty")
    second = run(target, table, files[1], table_mode="replace")
    assert ask(target, f"SELECT count(level) FROM {table}") == [(900,)]
    undo(opener(target), second.load_id)
    with session_of(target) as session:
        assert [column.name for column in session.tables.columns(table)] == ["gauge", "day"]
    again = run(target, table, files[0], columns=("gauge", "day"), table_mode="append")
    assert (again.load_id, again.done_before) == (first.load_id, True)


def test_a_table_that_others_hang_on_is_not_replaced(
    postgresql: str, mariadb: str, table: str, files: tuple[Path, Path]
) -> None:
    run(postgresql, table, files[0])
    ask(postgresql, f"CREATE VIEW {table}_v AS SELECT * FROM {table}", False)
    with pytest.raises(RequestError, match=f"the view {table}_v shows it"):
        run(postgresql, table, files[1], table_mode="replace")
    run(mariadb, table, files[0])
    ask(mariadb, f"ALTER TABLE {table} ADD PRIMARY KEY (reading_no)", False)
    child = f"CREATE TABLE {table}_c (n BIGINT, FOREIGN KEY (n) REFERENCES {table} (reading_no))"
    ask(mariadb, child, False)
    with pytest.raises(RequestError, match=f"a foreign key of {table}_c refers to it"):
        run(mariadb, table, files[1], table_mode="replace")


def test_what_was_before_is_only_kept_where_wanted(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    run(target, table, files[0])
    for mode in ("empty", "replace"):
        record = run(target, table, files[1], table_mode=mode, keep_old=False, again=True)
        assert (record.before, beside(target, table)) == (None, [])
        with pytest.raises(RequestError, match="not kept"):
            undo(opener(target), record.load_id)


def test_a_load_goes_on_the_way_it_began_and_says_so(
    target: str, table: str, files: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    wanted = request(target, table, files[0], levers=LoadLevers(route="landing"))
    with monkeypatch.context() as patch:
        pull_the_plug(patch, 3)
        with pytest.raises(Broken):
            load(wanted, Inline())
    record = load(replace(wanted, levers=LoadLevers(), table_mode="append"), Inline())
    assert record.notes == (
        "An unfinished load goes on the way it began: route landing; table mode create.",
    )
    assert (record.verified, beside(target, table)) == (True, [])


def test_notes_of_the_first_splarn_are_understood(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    old = run(target, table, files[0])
    # It named parts after all of their records, and kept no details.
    whole = Source.of(files[0]).identity(GAUGES).whole
    mine = f"load_id = '{old.load_id}' AND part_id <> ''"
    ask(target, f"UPDATE splarn_progress SET part_id = '{whole}' WHERE {mine}", False)
    ask(target, "ALTER TABLE splarn_progress DROP COLUMN details", False)
    again = run(target, table, files[0], table_mode="append")
    assert (again.load_id, again.done_before) == (old.load_id, True)
    assert run(target, table, files[1], table_mode="append").rows_loaded == 900
    with pytest.raises(RequestError, match="taken back exactly"):
        undo(opener(target), old.load_id)


def test_a_share_of_bad_rows_is_allowed(target: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 4000)
    lines = path.read_text().splitlines(keepends=True)
    for at in (10, 2000, 3999):
        lines[at] = "not,a,number,at all\n"
    path.write_text("".join(lines))
    strict = request(target, table, path, bad_rows=BadRows(share=0.0005))
    with pytest.raises(ShortfallError, match=r"more than 0.05 % of the rows are bad"):
        load(strict, Inline())
    record = load(replace(strict, bad_rows=BadRows(share=0.01)), Inline())
    assert (record.rows_loaded, record.rows_rejected, record.verified) == (3997, 3, True)
