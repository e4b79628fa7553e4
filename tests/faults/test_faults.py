"""A few rounds of each kind of fault; `python -m tests.faults` runs as many as one likes."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import SERVERS_REQUIRED
from tests.faults.rounds import ROUNDS

ROUNDS_EACH = 2


@pytest.mark.parametrize("kind", [one.__name__ for _, one in ROUNDS])
def test_rounds_of_faults_leave_every_promise_kept(kind: str) -> None:
    words = ["--only", kind, "--rounds", str(ROUNDS_EACH), "--first", "7001", "--jobs", "1"]
    done = subprocess.run(
        [sys.executable, "-m", "tests.faults", *words],
        cwd=Path(__file__).parents[2], capture_output=True, text=True, check=False, timeout=400,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert f"{ROUNDS_EACH} passed, 0 failed" in done.stdout
    servers = "postgresql, mariadb" in done.stdout
    assert servers or not SERVERS_REQUIRED, done.stdout
    if not servers and kind in ("cut", "secret"):
        pytest.skip("no PostgreSQL and MariaDB whose lines could be cut")
