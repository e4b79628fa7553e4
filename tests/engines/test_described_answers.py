"""What a described engine is asked beside loading: times, bad rows, marks, its compute."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

import splarn as library
from splarn.core.errors import OutsideError, RequestError, ShortfallError
from splarn.engines.described.looking_over import read_description
from splarn.engines.described.promises import said_of
from splarn.engines.described.trying import try_out
from splarn.standin.sluice import FAULTS, connect
from tests.conftest import ask
from tests.descriptions import describe
from tests.engines.lives import session_of
from tests.engines.sluices import LEVELS, levels, parts


@pytest.fixture
def target(tmp_path: Path) -> str:
    """Sluice by its shipped description."""
    FAULTS.clear()
    return describe("sluice", f"sqlite:///{tmp_path}/sluice.db", tmp_path / "sluice.toml")


def changed(tmp_path: Path, was: str, now: str) -> None:
    path = tmp_path / "sluice.toml"
    text = path.read_text()
    assert was in text
    path.write_text(text.replace(was, now))


def spoiled(home: Path, count: int = 3, rows: int = 40) -> list[Path]:
    """Files without heads, each with two bad rows: the 3rd and the last."""
    made = []
    for number in range(count):
        lines = [f"{n},LK-{n % 7},{n * 3}" for n in range(number * rows, (number + 1) * rows)]
        lines[2], lines[-1] = "upper,LK-1,7", lines[-1] + ",more"
        path = home / f"levels-{number}.csv"
        path.write_text("\n".join(lines) + "\n")
        made.append(path)
    return made


def rejected(folder: Path) -> list[tuple[str, int]]:
    """File and row of every row set aside."""
    lines = [line for path in folder.rglob("*.jsonl") for line in path.read_text().splitlines()]
    return sorted((Path(one["path"]).name, one["row"]) for one in map(json.loads, lines))


BAD = [(f"levels-{number}.csv", row) for number in range(3) for row in (3, 40)]


@pytest.mark.parametrize("fault", ["lost", "refused"])
def test_beside_other_rows_a_lost_reply_doubles_and_loses_nothing(
    sluice: Any, tmp_path: Path, fault: str
) -> None:
    target = sluice()
    old = tmp_path / "old.csv"
    old.write_text("".join(f"{n},LK-{n % 7},{n * 3}\n" for n in range(1000, 1100)))
    manifest = parts(tmp_path, 4)
    for first in range(4):
        table = f"levels_{first}"
        library.load([old], target, table, layout=LEVELS, again=True)
        FAULTS[:] = [*[""] * first, fault]
        with pytest.raises(OutsideError):
            library.load(manifest, target, table, table_mode="append")
        FAULTS.clear()
        record = library.load(manifest, target, table, table_mode="append")
        assert (record.verified, record.rows_loaded) == (True, 120)
        assert levels(tmp_path, table) == [(220, 220)]


def test_rows_from_elsewhere_are_not_taken_for_a_part(sluice: Any, tmp_path: Path) -> None:
    target = sluice()
    manifest = parts(tmp_path, 3)
    FAULTS[:] = ["", "refused"]
    with pytest.raises(OutsideError):
        library.load(manifest, target, "levels")
    FAULTS.clear()
    # Somebody's own rows, as many as no part has.
    ask(f"sqlite:///{tmp_path}/sluice.db", "INSERT INTO levels VALUES (-1, 'LK-0', 0)", False)
    with pytest.raises(OutsideError, match="cannot be known"):
        library.load(manifest, target, "levels")


def test_bad_rows_are_left_out_and_told_of_whatever_is_lost(target: str, tmp_path: Path) -> None:
    files, aside = spoiled(tmp_path), {"bad_rows": 6, "rejects": tmp_path / "rejects"}
    with pytest.raises(OutsideError, match="row 3 of"):
        library.load(files, target, "halted", layout=LEVELS)
    assert "sets none aside" not in " ".join(said_of(read_description(tmp_path / "sluice.toml")))
    for number, faults in enumerate(([], ["lost"], ["", "refused"], ["", "", "late"])):
        table = f"levels_{number}"
        FAULTS[:] = faults
        if faults:
            with pytest.raises(OutsideError):
                library.load(files, target, table, layout=LEVELS, again=True, **aside)
            # What was written of parts that are in goes too: it is asked for again.
            shutil.rmtree(tmp_path / "rejects", ignore_errors=True)
        FAULTS.clear()
        record = library.load(files, target, table, layout=LEVELS, again=not faults, **aside)
        assert (record.verified, record.rows_loaded, record.rows_rejected) == (True, 114, 6)
        assert levels(tmp_path, table) == [(114, 114)]
        assert rejected(tmp_path / "rejects") == BAD
        shutil.rmtree(tmp_path / "rejects")


def test_more_bad_rows_than_allowed_end_the_load(target: str, tmp_path: Path) -> None:
    files = spoiled(tmp_path)
    aside = {"bad_rows": 3, "rejects": tmp_path / "rejects"}
    for _ in range(2):
        with pytest.raises(ShortfallError, match="more than 3 rows"):
            library.load(files, target, "levels", layout=LEVELS, streams=1, **aside)
    aside["bad_rows"] = 6
    record = library.load(files, target, "levels", layout=LEVELS, **aside)
    assert (record.verified, record.rows_loaded, record.rows_rejected) == (True, 114, 6)
    assert (levels(tmp_path), rejected(tmp_path / "rejects")) == ([(114, 114)], BAD)


def test_a_load_into_a_table_with_rows_is_taken_back_by_its_mark(
    target: str, tmp_path: Path
) -> None:
    first, second = parts(tmp_path, 4), spoiled(tmp_path)
    library.load(first, target, "levels")
    place = f"sqlite:///{tmp_path}/sluice.db"
    before = ask(place, "SELECT * FROM levels ORDER BY 1")
    aside = {"bad_rows": "1000", "rejects": tmp_path / "rejects"}
    words: dict[str, Any] = {"layout": LEVELS, "table_mode": "append", **aside}
    FAULTS[:] = ["", "lost"]
    with pytest.raises(OutsideError):
        library.load(second, target, "levels", **words)
    FAULTS.clear()
    record = library.load(second, target, "levels", **words)
    assert (record.verified, record.rows_loaded) == (True, 114)
    assert library.load(second, target, "levels", **words).done_before
    # A later load, and rows that nobody noted, stay.
    third = tmp_path / "third.csv"
    third.write_text("9001,LK-1,5\n9002,LK-2,6\n")
    library.load([third], target, "levels", layout=LEVELS, table_mode="append")
    ask(place, "INSERT INTO levels VALUES (-1, 'LK-0', 0, NULL)", False)
    mine = "SELECT brought_by FROM levels GROUP BY brought_by HAVING count(*) = 114"
    ask(place, f"UPDATE levels SET level = 8 WHERE no = 5 AND brought_by = ({mine})", False)
    with pytest.raises(RequestError, match="column level have other values"):
        library.undo(record.load_id, target)
    undone = library.undo(record.load_id, target, with_changes=True)
    assert undone.rows_removed == 114
    there = ask(place, "SELECT * FROM levels ORDER BY 1")
    assert [row for row in there if 0 <= row[0] < 9000] == before
    assert [row[0] for row in there if row not in before] == [-1, 9001, 9002]


def test_times_are_those_of_the_engines_history(target: str, tmp_path: Path) -> None:
    changed(tmp_path, "rows_a_second = 20000", "rows_a_second = 1000")
    record = library.load(parts(tmp_path, 6), target, "levels", streams=3)
    told = ask(f"sqlite:///{tmp_path}/sluice.db",
               "SELECT queued, started, finished FROM sluice_history")  # fmt: skip
    seconds = sorted(finished - started for _, started, finished in told)
    assert sorted(part.seconds for part in record.parts) == pytest.approx(seconds, abs=1e-6)
    # One unit is at work on one file at a time: the others wait, which is no part's own time.
    assert sum(part.seconds for part in record.parts) <= record.phases["load"] + 1e-6
    at_work = max(end for *_, end in told) - min(start for _, start, _ in told)
    assert record.phases["load"] == pytest.approx(at_work, abs=1e-6)
    with session_of(target) as session:
        (now,) = ask(f"sqlite:///{tmp_path}/sluice.db", "SELECT now FROM sluice_clock")[0]
        assert session.clock() == pytest.approx(now, abs=30)


def test_a_compute_is_started_and_waited_for(target: str, tmp_path: Path) -> None:
    changed(tmp_path, "rows_a_second = 20000", "resize_seconds = 0.4, wake_seconds = 0.3")
    manifest, place = parts(tmp_path, 4), tmp_path / "sluice.db"
    connect(str(place)).cursor().execute("UPDATE sluice_compute SET awake = NULL")
    record = library.load(manifest, target, "levels", tier="u3")
    assert (record.verified, [one.tier for one in record.compute][-2:]) == (True, ["u3", "u1"])
    (ready,) = ask(f"sqlite:///{place}", "SELECT awake FROM sluice_compute")[0]
    queued = ask(f"sqlite:///{place}", "SELECT min(queued) FROM sluice_history")[0][0]
    assert queued >= ready - 0.002
    assert record.phases["size"] > 0.7
    # It is u1 again, and where nothing starts it, the engine's own word is told.
    assert ask(f"sqlite:///{place}", "SELECT tier FROM sluice_size") == [("u1",)]
    connect(str(place)).cursor().execute("UPDATE sluice_compute SET awake = NULL")
    changed(tmp_path, 'start = "WAKE"', "")
    with pytest.raises(OutsideError, match="WAKE it"):
        library.load(manifest, target, "others")


@pytest.mark.parametrize(
    ("was", "now", "said"),
    [
        ("SELECT queued, started,", "SELECT started, queued,", "in no order"),
        ("SELECT now FROM", "SELECT now - 7200 FROM", "seconds of the same clock"),
        ("SELECT now FROM", "SELECT 'noon' FROM", "statements.clock of"),
        ("SELECT queued, started, finished", "SELECT queued, started", "three numbers"),
        ('brought = "brought_by = {mark}"', 'brought = "{mark} < 7"', "statements.brought"),
        (" LEAVING BAD ROWS", "", "upstream"),
        ("SELECT row, field, reason", "SELECT row - 1, field, reason", "mend aside or refused"),
        ("SELECT row, field, reason, record", "SELECT row, field", "row, field, reason and record"),
        ("sum(row_count)", "2 * sum(row_count)", "mend statements.came_in"),
        ("sum(row_count)", "'all of it', sum(row_count)", "must answer a number"),
        ("SELECT name, type, CASE", "SELECT name || type, CASE", "YES or NO for each column"),
        ("WHEN 'true' THEN 1", "WHEN 'true' THEN 'noon'", "must answer numbers"),
        ("count(*) FROM sluice_under_way WHERE tag = {tag}", "1 WHERE '' <> {tag}", "under_way"),
    ],
)  # fmt: skip
def test_an_answer_that_is_not_so_is_found_by_trying(
    target: str, tmp_path: Path, was: str, now: str, said: str
) -> None:
    description = read_description(tmp_path / "sluice.toml")
    tried, promise = try_out(description, tmp_path, lambda part: part)
    assert promise
    changed(tmp_path, was, now)
    tried, promise = try_out(
        read_description(tmp_path / "sluice.toml"), tmp_path, lambda part: part
    )
    failed = [one for one in tried if one.holds is False]
    assert said in " ".join(one.answer for one in failed)
    assert promise == ""
