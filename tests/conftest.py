"""What tests share: the built program, made-up data, and targets on real servers."""

from __future__ import annotations

import json
import os
import secrets
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from splarn.core.layout import Layout
from splarn.core.layout.inference import infer_layout
from splarn.demo.scenario import Delivery, make_passages
from splarn.engines import open_engine

# Machines are noisy: no test fails for being slow.
settings.register_profile("splarn", deadline=None)
settings.load_profile("splarn")

SERVERS_REQUIRED = bool(os.environ.get("SPLARN_TEST_REQUIRE_SERVERS"))
POSTGRESQL = os.environ.get(
    "SPLARN_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres"
)


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


@pytest.fixture
def splarn(tmp_path: Path) -> Splarn:
    """Runs the installed program in the test's own folder."""

    def run(*words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> Ran:
        done = subprocess.run(
            [sys.executable, "-m", "splarn", *map(str, words)],
            cwd=cwd or tmp_path,
            env={**os.environ, "COLUMNS": "120", **(env or {})},
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            timeout=170,
            check=False,
        )
        return Ran(done.returncode, done.stdout, done.stderr)

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


@pytest.fixture(params=["sqlite", "postgresql"])
def target(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    """The URL of each kind of target in turn."""
    if request.param == "sqlite":
        return f"sqlite:///{tmp_path / 'target.db'}"
    return str(request.getfixturevalue("postgresql"))


@pytest.fixture
def table() -> str:
    """A table name that no other test uses."""
    return f"passages_{secrets.token_hex(4)}"


def ask(url: str, statement: str) -> list[tuple[Any, ...]]:
    """Rows of a query, by the engine's own driver."""
    session = open_engine(url).connect()
    try:
        cursor = session.driver_connection.cursor()  # type: ignore[attr-defined]
        cursor.execute(statement)
        return [tuple(row) for row in cursor.fetchall()]
    finally:
        session.close()
