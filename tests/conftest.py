"""What tests share: the built program, made-up data, and targets on real servers."""

from __future__ import annotations

import importlib.util
import json
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest
from hypothesis import settings
from jsonschema import Draft202012Validator
from jsonschema.exceptions import best_match
from sqlalchemy.engine import make_url

from splarn.core.inference.infer import infer_layout
from splarn.core.layout import Layout
from splarn.core.ship import Depot
from splarn.demo.scenario import Delivery, make_passages
from splarn.depots import open_depot
from splarn.engines import is_file, open_engine
from tests.descriptions import describe
from tests.servers import OwnPostgresql

# Modules are compiled once, rather than by each of the many commands that tests give.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.dont_write_bytecode = False

# Machines are noisy: no test fails for being slow.
settings.register_profile("splarn", deadline=None)
settings.load_profile("splarn")

SERVERS_REQUIRED = bool(os.environ.get("SPLARN_TEST_REQUIRE_SERVERS"))
S3 = os.environ.get("SPLARN_TEST_S3", "http://127.0.0.1:4568")
POSTGRESQL = os.environ.get(
    "SPLARN_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres"
)


MARIADB = os.environ.get("SPLARN_TEST_MARIADB", "mariadb://root@127.0.0.1:3306/mysql")


def pytest_xdist_auto_num_workers() -> int:
    """One more than there are cores, since many tests wait for servers and broken-off programs."""
    return (os.cpu_count() or 1) + 1


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What goes the same ways many times is not measured, which would take half as long again.

    That is property tests, and those of several engines but for the first of them.
    """
    others = set(TARGETS[1:])
    for item in items:
        parameters = getattr(item, "callspec", None)
        again = parameters is not None and others & set(map(str, parameters.params.values()))
        if again or getattr(getattr(item, "obj", None), "is_hypothesis_test", False):
            item.add_marker("no_cover")


@dataclass(frozen=True)
class Ran:
    """What one run of the program gave back."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Splarn = Callable[..., Ran]


class Zygote:
    """The program with its imports done, from which each run is forked; see tests/zygote.py."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.zygote"], cwd=Path(__file__).parents[1], text=True,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True,
        )  # fmt: skip

    def run(self, words: list[str], folder: Path, env: dict[str, str], notes: Path) -> Ran:
        """One run of the program; what it prints passes through files in `notes`."""
        out, err = notes / "out", notes / "err"
        request = {"words": words, "folder": str(folder), "environment": env,
                   "out": str(out), "err": str(err)}  # fmt: skip
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        late = threading.Timer(170, os.killpg, (self._process.pid, signal.SIGKILL))
        late.start()
        try:
            self._process.stdin.write(json.dumps(request) + "\n")
            self._process.stdin.flush()
            answer = self._process.stdout.readline()
        finally:
            late.cancel()
        assert answer, f"splarn {words} did not end in time"
        return Ran(json.loads(answer)["code"], out.read_text(), err.read_text())

    def close(self) -> None:
        """Ends it."""
        self._process.communicate(timeout=10)


def _documents() -> Any:
    """docs/documents.py, which says what each command prints with --json."""
    path = Path(__file__).parents[1] / "docs/documents.py"
    spec = importlib.util.spec_from_file_location("documents", path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@cache
def validator_of(name: str) -> Any:
    """What holds a document strictly to what is said of it."""
    documents = _documents()
    return Draft202012Validator(documents.schema_of(documents.DOCUMENTS[name], strict=True))


def hold_to_its_shape(words: list[str], ran: Ran) -> None:
    """Every document that any test sees is what the reference says, no key more or less."""
    if ran.code >= 2:
        name = "any, failing"
    else:
        command = next(word for word in words if not word.startswith("-"))
        modes = [f"{command} {word}" for word in words]
        name = next((one for one in modes if one in _known()), command)
    try:
        document = json.loads(ran.out)
    except ValueError:
        return
    if isinstance(document, dict) and set(document) == {"error", "exit_code"}:
        name = "any, failing"
    elif name == "ledger" and "document" in document:
        name = "ledger ID"
    wrong = best_match(validator_of(name).iter_errors(document))
    assert wrong is None, f"{' '.join(words)}: {wrong.json_path}: {wrong.message[:300]}"


@cache
def _known() -> frozenset[str]:
    return frozenset(_documents().DOCUMENTS)


@pytest.fixture(scope="session")
def zygote() -> Iterator[Zygote]:
    found = Zygote()
    yield found
    found.close()


@pytest.fixture
def splarn(tmp_path: Path, zygote: Zygote, tmp_path_factory: pytest.TempPathFactory) -> Splarn:
    """Runs the program in the test's own folder, each time in a process of its own."""
    notes = tmp_path_factory.mktemp("notes")

    def run(*words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> Ran:
        environment = {**os.environ, "COLUMNS": "120", **(env or {})}
        ran = zygote.run([str(word) for word in words], cwd or tmp_path, environment, notes)
        if "--json" in words:
            hold_to_its_shape([str(word) for word in words], ran)
        return ran

    return run


@pytest.fixture(scope="session")
def delivery(tmp_path_factory: pytest.TempPathFactory) -> Delivery:
    """20,000 passages in five files, a few of them spoiled in known ways."""
    return make_passages(tmp_path_factory.mktemp("delivery"), 20_000, seed=11)


@pytest.fixture(scope="session")
def layout(delivery: Delivery) -> Layout:
    return infer_layout(delivery.paths).layout


@pytest.fixture(scope="session")
def postgresql() -> Iterator[str]:
    """The URL of a database of its own on a PostgreSQL server."""
    psycopg = pytest.importorskip("psycopg")
    name = f"splarn_test_{secrets.token_hex(4)}"
    try:
        server = psycopg.connect(POSTGRESQL, autocommit=True, connect_timeout=5)
    except psycopg.OperationalError as error:
        if SERVERS_REQUIRED:
            pytest.fail(f"no PostgreSQL at {POSTGRESQL}: {error}")
        pytest.skip(f"no PostgreSQL at {POSTGRESQL}; set SPLARN_TEST_POSTGRESQL to its URL")
    with server:
        server.execute(f"CREATE DATABASE {name}")
        yield f"{POSTGRESQL.rpartition('/')[0]}/{name}"
        server.execute(f"DROP DATABASE {name} WITH (FORCE)")


@pytest.fixture(scope="session")
def mariadb() -> Iterator[str]:
    """The URL of a database of its own on a MariaDB server."""
    pymysql = pytest.importorskip("pymysql")
    name = f"splarn_test_{secrets.token_hex(4)}"
    url = make_url(MARIADB)
    try:
        server = pymysql.connect(
            host=url.host, port=url.port or 3306, user=url.username, password=url.password or "",
            connect_timeout=5, autocommit=True,
        )  # fmt: skip
    except pymysql.err.OperationalError as error:
        if SERVERS_REQUIRED:
            pytest.fail(f"no MariaDB at {MARIADB}: {error}")
        pytest.skip(f"no MariaDB at {MARIADB}; set SPLARN_TEST_MARIADB to its URL")
    with server, server.cursor() as cursor:
        cursor.execute(f"CREATE DATABASE {name}")
        yield f"{MARIADB.rpartition('/')[0]}/{name}"
        cursor.execute(f"DROP DATABASE {name}")


@pytest.fixture(scope="module")
def own_postgresql() -> Iterator[OwnPostgresql]:
    """A server of the test's own."""
    binaries = OwnPostgresql.binaries_here()
    if binaries is None:
        if SERVERS_REQUIRED:
            pytest.fail("no program initdb of PostgreSQL")
        pytest.skip("no program initdb of PostgreSQL, to make a server that may crash")
    folder = Path("/tmp") / f"splarn-own-{secrets.token_hex(4)}"
    server = OwnPostgresql(binaries, folder)
    server.start()
    yield server
    server.crash()
    shutil.rmtree(folder, ignore_errors=True)


# The kinds of targets that engine tests run on; another list runs them on engines of others.
TARGETS = os.environ.get("SPLARN_TEST_TARGETS", "sqlite,duckdb,postgresql,mariadb").split(",")


def also(*described: str) -> pytest.MarkDecorator:
    """Has a test run on engines by description besides."""
    more = [] if "SPLARN_TEST_TARGETS" in os.environ else described
    return pytest.mark.parametrize("target", [*TARGETS, *more], indirect=True)


@pytest.fixture(params=TARGETS)
def target(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """The URL of each kind of target in turn; a server's comes from a fixture of its name."""
    if is_file(request.param):
        return f"{request.param}:///{tmp_path / 'target.db'}"
    return str(request.getfixturevalue(request.param))


@pytest.fixture
def described_sluice(tmp_path: Path) -> str:
    """The simulated engine that takes statements, by its shipped description."""
    return describe("sluice", f"sqlite:///{tmp_path / 'target.db'}", tmp_path / "sluice.toml")


@pytest.fixture
def described_duckdb(tmp_path: Path) -> str:
    """DuckDB by its shipped description."""
    return describe("duckdb", f"duckdb:///{tmp_path / 'target.db'}", tmp_path / "duckdb.toml")


@pytest.fixture
def table() -> str:
    """A table name that no other test uses."""
    return f"passages_{secrets.token_hex(4)}"


@pytest.fixture
def lake(tmp_path: Path) -> str:
    """A lake in a folder."""
    return f"lake:///{tmp_path / 'lake'}"


def ask_lake(url: str, statement: str) -> list[tuple[Any, ...]]:
    """Rows of a query over a lake's tables, read by the Iceberg library and asked by DuckDB."""
    duckdb = pytest.importorskip("duckdb")
    sql = pytest.importorskip("pyiceberg.catalog.sql")
    folder = make_url(url).database
    catalog = sql.SqlCatalog(
        "splarn", uri=f"sqlite:///{folder}/catalog.db", warehouse=f"file://{folder}"
    )
    with duckdb.connect() as connection:
        for name in catalog.list_tables("main"):
            connection.register(name[-1], catalog.load_table(name).scan().to_arrow())
        found = connection.execute(statement).fetchall()
    catalog.close()
    return [tuple(row) for row in found]


def ask(url: str, statement: str, rows: bool = True) -> list[tuple[Any, ...]]:
    """Rows of a query, by the engine's own driver; without `rows`, a change that is committed."""
    if url.startswith("lake:"):
        assert rows, "nobody changes single rows of a lake"
        return ask_lake(url, statement)
    session = open_engine(url).connect()
    try:
        cursor = session.link.driver.cursor()  # type: ignore[attr-defined]
        cursor.execute(statement)
        if rows:
            return [tuple(row) for row in cursor.fetchall()]
        session.link.driver.commit()  # type: ignore[attr-defined]
        return []
    finally:
        session.close()


@pytest.fixture
def depot_at() -> Iterator[Callable[[object], Depot]]:
    """Opens depots, which are closed afterwards."""
    opened: list[Depot] = []

    def open_one(place: object) -> Depot:
        opened.append(open_depot(str(place)))
        return opened[-1]

    yield open_one
    for depot in opened:
        depot.close()


@pytest.fixture
def s3(monkeypatch: pytest.MonkeyPatch) -> str:
    """A place of the test's own in an S3-protocol store on loopback."""
    where = urlsplit(S3)
    with socket.socket() as found:
        if found.connect_ex((where.hostname or "", where.port or 80)):
            if SERVERS_REQUIRED:
                pytest.fail(f"no S3-protocol store at {S3}")
            pytest.skip(f"no S3-protocol store at {S3}; set SPLARN_TEST_S3 to its address")
    monkeypatch.setenv("AWS_ENDPOINT_URL", S3)
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", "S3RVER")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "S3RVER")
    return f"s3://larkmere/{secrets.token_hex(4)}"
