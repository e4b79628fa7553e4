"""Engines by description: the shipped ones on real servers, one of our own that loses replies."""

from __future__ import annotations

import random
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy.engine import make_url

import splarn as library
from splarn.core.errors import OutsideError, RequestError
from splarn.demo.scenario import Delivery, make_passages
from splarn.engines import open_engine
from splarn.engines.described.looking_over import read_description
from splarn.engines.described.promises import (
    ASK_FIRST,
    BY_HISTORY,
    BY_TRANSACTION,
    promise_of,
    said_of,
)
from splarn.engines.described.templates import Name, Quoting
from splarn.engines.described.trying import try_out
from splarn.standin.sluice import FAULTS
from tests.conftest import Splarn, ask
from tests.descriptions import KEY, KINDS, describe
from tests.engines.sluices import HISTORY, LEVELS, UNDER_WAY, levels, parts


@pytest.fixture
def place(tmp_path: Path) -> Iterator[Path]:
    """A folder that a server's own user may read."""
    folder = Path("/tmp") / f"splarn-described-{tmp_path.name}-{random.randrange(10**6)}"
    folder.mkdir(mode=0o755)
    yield folder
    shutil.rmtree(folder)


@pytest.fixture(params=KINDS)
def shipped(
    request: pytest.FixtureRequest, place: Path, monkeypatch: pytest.MonkeyPatch
) -> tuple[str, str]:
    """A shipped description that leads to the tests' own database, and the built-in's URL."""
    kind = request.param
    url = f"duckdb:///{place}/own.duckdb"
    if kind != "duckdb":
        url = request.getfixturevalue(kind)
    monkeypatch.setenv(KEY, make_url(url).password or "")
    return describe(kind, url, place / f"{kind}.toml"), url


def test_shipped_descriptions_give_the_rows_and_digests_of_the_built_in_engine(
    shipped: tuple[str, str], place: Path, table: str
) -> None:
    described, url = shipped
    delivery = make_passages(place / "delivery", 4000, 5)
    layout = library.infer_layout(delivery.paths).layout
    library.check(delivery.paths, layout, good=place / "good")
    made = library.shape(place / "good", place / "parts", layout=layout, part_size="64KiB")
    record = library.load(made.manifest, described, table, streams=2)
    assert (record.verified, record.rows_loaded) == (True, delivery.good)
    assert record.promises[0].count(BY_TRANSACTION) == 1
    own = library.load(made.manifest, url, f"{table}_own", again=True)
    assert record.digests == own.digests
    names = ", ".join(layout.names)
    both = [ask(url, f"SELECT {names} FROM {one} ORDER BY 1") for one in (table, f"{table}_own")]
    assert both[0] == both[1]
    # Once, taken back, replaced and brought back.
    assert library.load(made.manifest, described, table).done_before
    few = library.load(
        made.manifest.folder / made.manifest.parts[0].path, described, table,
        layout=layout.headless, table_mode="replace", remove_more=True, again=True,
    )  # fmt: skip
    assert few.verified
    assert ask(url, f"SELECT count(*) FROM {table}") == [(made.manifest.parts[0].rows,)]
    library.undo(few.load_id, described)
    assert ask(url, f"SELECT count(*) FROM {table}") == [(delivery.good,)]


def test_everything_declared_by_a_shipped_description_holds(
    shipped: tuple[str, str], place: Path, splarn: Splarn
) -> None:
    described, _ = shipped
    told = splarn("doctor", "--engine", described.partition(":")[2], "--json")
    assert told.code == 0, told.out
    assert told.json["promise"] == BY_TRANSACTION
    assert all(one["holds"] is not False for one in told.json["tried"])
    # By way of a folder that both see, too.
    (place / "depot").mkdir(mode=0o755)
    words = ("doctor", "--engine", described.partition(":")[2], "--depot", place / "depot")
    assert splarn(*words).code == 0
    assert not list((place / "depot").rglob("*.csv"))


def test_a_described_engine_goes_from_a_sweep_to_a_run(
    postgresql: str, place: Path, splarn: Splarn, table: str, tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    monkeypatch.setenv(KEY, make_url(postgresql).password or "")
    describe("postgresql", postgresql, place / "engine.toml")
    parts(tmp_path, 12, 200)
    (place / "depot").mkdir(mode=0o755)
    (tmp_path / "splarn.toml").write_text(
        f'[source]\npaths = ["levels.csv"]\nlayout = "layout.json"\n'
        f'[target]\nurl = "described:{place}/engine.toml"\ntable = "{table}"\n'
        f'depot = "{place}/depot"\n[space]\npart_size = ["4KiB", "8KiB"]\ncodec = ["none"]\n'
        "load_streams = [1, 2]\nbatch_rows = [0]\ntransfer_streams = [1]\n"
        '[sweep]\nsample = "16KiB"\nstrategy = "star"\n'
    )
    library.write_layout(LEVELS, tmp_path / "layout.json")
    swept = splarn("sweep", "--json")
    assert swept.code == 0, swept.err
    assert not any(one["failure"] for one in swept.json["trials"])
    assert splarn("plan", "--deadline", "10m").code == 0
    ran = splarn("run", "plan.json", "--json")
    assert ran.code == 0, ran.err
    assert (ran.json["load"]["verified"], ran.json["load"]["rows_loaded"]) == (True, 2400)
    assert ask(postgresql, f"SELECT count(*), count(DISTINCT no) FROM {table}") == [(2400, 2400)]
    assert "Already in" in splarn("run", "plan.json").out
    assert splarn("undo", "last", "--yes").code == 0


def test_a_reply_that_is_lost_doubles_nothing_where_counting_tells(
    sluice: Any, tmp_path: Path
) -> None:
    target = sluice()
    assert promise_of(read_description(tmp_path / "sluice.toml")) == ASK_FIRST
    manifest = parts(tmp_path, 6)
    for number, fault in enumerate(("lost", "refused"), 1):
        for first in range(6):
            FAULTS[:] = [*[""] * first, fault]
            with pytest.raises(OutsideError):
                library.load(manifest, target, f"levels_{number}{first}")
            FAULTS.clear()
            record = library.load(manifest, target, f"levels_{number}{first}")
            assert record.verified
            assert record.resumed
            assert levels(tmp_path, f"levels_{number}{first}") == [(180, 180)]


@pytest.mark.parametrize("way", ["history", "counting", "once by file"])
def test_a_statement_that_goes_on_without_its_client_is_waited_for(
    sluice: Any, tmp_path: Path, way: str
) -> None:
    manifest = parts(tmp_path, 6)
    target = sluice(f"{UNDER_WAY}\n{HISTORY if way == 'history' else ''}")
    path = tmp_path / "sluice.toml"
    if way == "once by file":
        text = path.read_text().replace("[abilities]", "[abilities]\nonce_by_file = true")
        path.write_text(text.replace("arguments = {", "arguments = { once = true,"))
    assert not [one for one in said_of(read_description(path)) if "is not seen" in one]
    for first in range(0, 6, 2):
        FAULTS[:] = [*[""] * first, "late"]
        with pytest.raises(OutsideError):
            library.load(manifest, target, f"levels_{first}", streams=1)
        FAULTS.clear()
        record = library.load(manifest, target, f"levels_{first}", streams=3)
        assert (record.verified, record.resumed, record.rows_loaded) == (True, True, 180)
        while ask(f"sqlite:///{tmp_path}/sluice.db", "SELECT 1 FROM sluice_under_way"):
            time.sleep(0.05)
        assert levels(tmp_path, f"levels_{first}") == [(180, 180)]


def test_what_goes_on_unseen_is_said_with_the_promises(sluice: Any, tmp_path: Path) -> None:
    sluice(HISTORY)
    (said,) = (
        one for one in said_of(read_description(tmp_path / "sluice.toml")) if "not seen" in one
    )
    assert "begin again once it has ended" in said


def test_a_driver_that_tells_no_counts_is_asked_by_counting(sluice: Any, tmp_path: Path) -> None:
    target = sluice()
    path = tmp_path / "sluice.toml"
    text = path.read_text().replace("arguments = {", "arguments = { silent = true,")
    path.write_text(text)
    manifest = parts(tmp_path, 5)
    with pytest.raises(OutsideError, match=r"statements\.rows"):
        library.load(manifest, target, "levels_0")
    path.write_text(text.replace("[abilities]", "[abilities]\nstreams = false"))
    assert [one for one in try_out(read_description(path), tmp_path, lambda part: part)[0]
            if one.holds is False] == []  # fmt: skip
    for first in range(3):
        FAULTS[:] = [*[""] * first, "lost"]
        with pytest.raises(OutsideError):
            library.load(manifest, target, f"levels_{first}1", streams=3)
        FAULTS.clear()
        record = library.load(manifest, target, f"levels_{first}1", streams=3)
        assert (record.verified, record.rows_loaded) == (True, 150)
        assert library.load(manifest, target, f"levels_{first}1").done_before
        assert levels(tmp_path, f"levels_{first}1") == [(150, 150)]


def test_where_nothing_tells_the_load_stops_and_nothing_is_doubled(
    sluice: Any, tmp_path: Path
) -> None:
    target = sluice()
    manifest = parts(tmp_path, 6)
    FAULTS[:] = ["lost", "refused"]
    with pytest.raises(OutsideError):
        library.load(manifest, target, "levels", streams=2)
    FAULTS.clear()
    before = levels(tmp_path)
    for _ in range(2):
        with pytest.raises(OutsideError, match="cannot be known"):
            library.load(manifest, target, "levels", streams=2)
    assert levels(tmp_path) == before
    # Nor where a part may have come in by half.
    other = sluice(whole=False)
    shutil.rmtree(tmp_path / "parts")
    (tmp_path / "sluice.db").unlink()
    manifest = parts(tmp_path, 3)
    FAULTS[:] = ["torn"]
    with pytest.raises(OutsideError):
        library.load(manifest, other, "levels")
    with pytest.raises(OutsideError, match="cannot be known"):
        library.load(manifest, other, "levels")


@pytest.mark.parametrize("seed", range(6))
def test_the_engines_own_history_tells_after_any_faults(
    sluice: Any, tmp_path: Path, seed: int
) -> None:
    target = sluice(HISTORY)
    assert promise_of(read_description(tmp_path / "sluice.toml")) == BY_HISTORY
    manifest = parts(tmp_path, 8)
    chance = random.Random(seed)
    FAULTS[:] = [chance.choice(["", "", "lost", "refused"]) for _ in range(14)]
    for _ in range(40):
        try:
            record = library.load(manifest, target, "levels", streams=chance.choice([1, 3]))
            break
        except OutsideError:
            continue
    assert record.verified
    assert levels(tmp_path) == [(240, 240)]
    # The same content in another table is another load, of which the history must not say so.
    FAULTS[:] = ["refused"] * 3
    with pytest.raises(OutsideError):
        library.load(manifest, target, "others")
    FAULTS.clear()
    assert library.load(manifest, target, "others").verified


def test_an_ability_that_does_not_hold_is_found_by_trying(sluice: Any, tmp_path: Path) -> None:
    sluice()
    path = tmp_path / "sluice.toml"
    for lie, what in (
        ("transactions = true", "without a commit"),
        ("once_by_file = true", "the same part again"),
    ):
        sluice()
        path.write_text(path.read_text().replace("[abilities]", f"[abilities]\n{lie}"))
        tried, promise = try_out(read_description(path), tmp_path, lambda part: part)
        (failed,) = [one for one in tried if one.holds is False]
        assert what in failed.what
        assert lie.partition(" ")[0] in failed.answer
        assert promise == ""
    sluice()
    tried, promise = try_out(read_description(path), tmp_path, lambda part: part)
    assert [one.what for one in tried if one.holds is False] == []
    assert promise == ASK_FIRST


@pytest.mark.parametrize(
    ("was", "now", "said"),
    [
        ("{columns}", "{colums}", "{colums} is no value of it"),
        ('module = "splarn.standin.sluice"', 'module = "no_such_driver"', "cannot be imported"),
        ('module = "splarn.standin.sluice"', 'module = "json"', "no driver"),
        ('module = "splarn.standin.sluice"', "", "one of module, odbc and flight"),
        ("arguments = {", 'arguments = { password = "open-sesame", ', "${NAME}"),
        ("arguments = {", 'arguments = { inner = { pwd = "open-sesame" }, ', "${NAME}"),
        ('module = "splarn.standin.sluice"', 'odbc = "Driver=x;Pwd=open-sesame"', "${NAME}"),
        ("arguments = {", "arguments = { colour = 3, ", "does not take"),
        ('place = "sluice://lower-pool"', 'place = "sluice://a:b@pool"', "secret"),
        ("whole_parts = true", "whole_part = true", "the nearest is whole_parts"),
        ("TAKE IN", "TAKE INN", "failed in sluice://lower-pool"),
        ("info({name_text})", "info({name_text}) LIMIT 0", "does not see it"),
        ("[abilities]", "[abilities\n", "no TOML"),
        ('load.csv = ', 'load.parquet = ', "parquet"),
        ("version =", 'times = "SELECT 1"\nversion =', "statements.clock too"),
        ("version =", 'start = "WAKE"\nversion =', "statements.size too"),
        ("version =", 'aside.csv = "TAKE IN {address}"\nversion =', "statements.refused"),
        ("version =", 'brought = "load = 3"\nversion =', "{mark}"),
        ("version =", 'brought = "load = {mark}"\nversion =', "statements.load.csv"),
        ("[abilities]", "begins = [\"SET SESSION token = 'open-sesame'\"]\n[abilities]", "${NAME}"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_description_is_one_sentence(
    sluice: Any, tmp_path: Path, was: str, now: str, said: str
) -> None:
    target = sluice()
    path = tmp_path / "sluice.toml"
    text = path.read_text()
    assert was in text
    path.write_text(text.replace(was, now, 1))
    manifest = parts(tmp_path, 2)
    with pytest.raises((RequestError, OutsideError)) as refused:
        library.load(manifest, target, "levels")
    sentence = str(refused.value)
    assert said in sentence
    assert "\n" not in sentence
    if sentence.startswith("In "):
        assert "sluice.toml, line " in sentence


def test_values_in_statements_are_quoted_and_never_pasted() -> None:
    for text in ("it's", "a\\'; DROP TABLE x; --", '"q"', "{table}", "é\n"):
        plain, slashed = Quoting(['"', '"'], False), Quoting(["`", "`"], True)
        assert plain.filled("{a}", {"a": text}) == "'" + text.replace("'", "''") + "'"
        told = slashed.filled("{a}", {"a": text})
        assert told == "'" + text.replace("'", "''").replace("\\", "\\\\") + "'"
    assert plain.filled("{t} {{x}}", {"t": Name('lock."o""d"')}) == '"lock"."o""d" {x}'
    assert slashed.name("o`d") == "`o``d`"


def test_the_statement_that_makes_a_table_is_shown(sluice: Any, delivery: Delivery) -> None:
    layout = library.infer_layout(delivery.paths).layout
    told = open_engine(sluice()).ddl("passages", layout)
    assert told.startswith('CREATE TABLE "passages" ("passage_no" BIGINT')
    assert told.endswith(");")
