"""Engines by description that are far: over Arrow Flight SQL, and parts in stores."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import splarn as library
from splarn.core.errors import OutsideError, RequestError
from splarn.engines.described.looking_over import read_description
from splarn.engines.described.trying import try_out
from splarn.standin.depot import SimulatedDepot
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import served
from tests.conftest import SERVERS_REQUIRED
from tests.descriptions import SHIPPED
from tests.engines.lives import session_of
from tests.engines.sluices import parts

TOKEN = "larkmere-lower-pool"
HTTPFS = os.environ.get("SPLARN_TEST_HTTPFS", "")


@pytest.fixture
def flight(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A description of a server that speaks Arrow Flight SQL."""
    pytest.importorskip("adbc_driver_flightsql")
    monkeypatch.setenv("SPLARN_TEST_TOKEN", TOKEN)
    words = [sys.executable, "-m", "tests.flight_sql", str(tmp_path / "far.duckdb")]
    server = subprocess.Popen(
        words, cwd=Path(__file__).parents[2], stdout=subprocess.PIPE, text=True
    )
    assert server.stdout is not None
    port = server.stdout.readline().strip()
    text = (SHIPPED / "duckdb.toml").read_text()
    lines = [
        line for line in text.splitlines()
        if not line.startswith(("module", "arguments", "begin", "streams", "one_process"))
    ]  # fmt: skip
    at = lines.index("[connection]")
    shown = '"adbc.flight.sql.authorization_header" = "Bearer ${SPLARN_TEST_TOKEN}"'
    lines[at + 1 : at + 1] = [
        f'flight = "grpc://127.0.0.1:{port}"', f"arguments = {{ db_kwargs = {{ {shown} }} }}",
    ]  # fmt: skip
    path = tmp_path / "far.toml"
    path.write_text("\n".join(lines))
    yield path
    server.kill()
    server.communicate()


def test_an_engine_over_flight_sql_holds_what_it_declares(flight: Path, tmp_path: Path) -> None:
    tried, promise = try_out(read_description(flight), tmp_path, lambda part: part)
    assert [one for one in tried if one.holds is False] == []
    assert promise == "once, by transaction"
    target, manifest = f"described:{flight}", parts(tmp_path, 6)
    # A part that is not what its manifest says ends the load; those before it are in, once.
    last = manifest.folder / manifest.parts[-1].path
    kept = last.read_bytes()
    last.write_bytes(kept.replace(b"LK", b"\xff\xff", 1))
    with pytest.raises(OutsideError):
        library.load(manifest, target, "levels", streams=2)
    last.write_bytes(kept)
    record = library.load(manifest, target, "levels", streams=2)
    assert (record.verified, record.resumed, record.rows_loaded) == (True, True, 180)
    assert library.load(manifest, target, "levels").done_before
    with session_of(target) as session:
        counted = session.link.run("SELECT count(*), count(DISTINCT no) FROM levels")
        assert [tuple(row) for row in counted.rows] == [(180, 180)]
    assert library.undo(record.load_id, target).rows_removed == 180


def test_over_flight_sql_no_transaction_is_promised_that_is_none(
    flight: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SPLARN_TEST_TOKEN", "another")
    manifest, target = parts(tmp_path, 2), f"described:{flight}"
    with pytest.raises(RequestError, match="keeps no transactions") as refused:
        library.load(manifest, target, "levels")
    assert "another" not in str(refused.value)
    text = flight.read_text()
    flight.write_text(text.replace("transactions = true", "transactions = false"))
    with pytest.raises(OutsideError, match=r"UNAUTHENTICATED|Unauthenticated"):
        library.load(manifest, target, "levels")


@pytest.fixture
def http(tmp_path: Path) -> Iterator[str]:
    """A place in the simulated depot."""
    (tmp_path / "store").mkdir()
    with served(SimulatedDepot(tmp_path / "store", DepotPhysics())) as address:
        yield f"{address}/x"


@pytest.mark.parametrize("kind", ["http", "s3"])
def test_duckdb_by_description_reads_parts_out_of_stores(
    kind: str, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    if not HTTPFS:
        reason = "no DuckDB with its extension for stores: set SPLARN_TEST_HTTPFS, see .ci/servers"
        (pytest.fail if SERVERS_REQUIRED else pytest.skip)(reason)
    place = request.getfixturevalue(kind)
    (extension,) = Path(HTTPFS).glob("duckdb_extension_httpfs/extensions/*/httpfs.duckdb_extension")
    begins = [
        f"LOAD '{extension}'", "SET s3_use_ssl = false", "SET s3_url_style = 'path'",
        f"SET s3_endpoint = '{os.environ.get('AWS_ENDPOINT_URL', 'http://none').split('//')[1]}'",
        "SET s3_access_key_id = ${AWS_ACCESS_KEY_ID}",
        "SET s3_secret_access_key = '${AWS_SECRET_ACCESS_KEY}'",
    ]  # fmt: skip
    text = (SHIPPED / "duckdb.toml").read_text()
    text = text.replace('"larkmere.duckdb"', f'"{tmp_path}/near.duckdb"')
    text = text.replace("[abilities]", f"begins = {begins!r}\n[abilities]")
    (tmp_path / "near.toml").write_text(text)
    manifest = parts(tmp_path, 5)
    library.ship(manifest, place)
    env = {
        **os.environ, "PYTHONPATH": HTTPFS, "SPLARN_TEST_PLACE": place,
        **dict.fromkeys(("AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY"), "S3RVER"),
    }  # fmt: skip
    told = subprocess.run(
        [sys.executable, "-c", FROM_A_STORE],
        cwd=tmp_path, env=env, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert (told.returncode, told.stdout.split()) == (
        0,
        ["once,", "by", "transaction", "150", "150"],
    ), told.stderr


# By another DuckDB than this one, so in a process of its own.
FROM_A_STORE = """
import os
from pathlib import Path
import splarn
from splarn.depots.arrived import below
from splarn.engines.described.looking_over import read_description
from splarn.engines.described.trying import try_out
from splarn.core.source.places import Remote
place, target = os.environ["SPLARN_TEST_PLACE"], "described:near.toml"
def put(part):
    splarn.ship([part], place + "-tried")
    return Remote(below(place + "-tried", part.name))
tried, promise = try_out(read_description(Path("near.toml")), Path(), put)
assert not [one for one in tried if one.holds is False], tried
print(promise)
loaded = splarn.load(place, target, "levels")
assert loaded.verified
print(loaded.rows_loaded)
assert splarn.load(place, target, "levels").done_before
print(splarn.undo(loaded.load_id, target).rows_removed)
"""
