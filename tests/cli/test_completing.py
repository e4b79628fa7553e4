"""What a shell offers while a command is typed."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.cli.home import LOAD
from tests.conftest import Splarn


def offered(home: Path, *words: str) -> list[str]:
    """What bash would be given for these words, the last of which is still being typed."""
    told = subprocess.run(
        [sys.executable, "-c",
         "import sys; sys.argv[0] = 'splarn'; from splarn.cli.main import main; main()"],
        cwd=home, capture_output=True, text=True, check=False,
        env={**os.environ, "_SPLARN_COMPLETE": "complete_bash",
             "COMP_WORDS": " ".join(("splarn", *words)), "COMP_CWORD": str(len(words))},
    )  # fmt: skip
    assert "Traceback" not in told.stderr, told.stderr
    return [line.split("\t")[0] for line in told.stdout.split()]


@pytest.fixture
def loaded(splarn: Splarn, home: Path) -> str:
    ran = splarn(*LOAD, "--json")
    assert ran.code == 0, ran.err
    return str(ran.json["load_id"])


def test_a_shell_offers_what_there_is(home: Path, loaded: str) -> None:
    assert {"survey", "sweep"} <= set(offered(home, "s"))
    assert offered(home, "plot", "fr") == ["frontier"]
    assert offered(home, "undo", loaded[:8]) == [loaded]
    assert loaded in offered(home, "report", "")
    assert offered(home, "load", "--table", "") == ["t"]
    assert "sqlite:///t.db" in offered(home, "load", "--to", "sql")
    assert {"none,zstd", "none,gzip"} <= set(offered(home, "sweep", "--codec", "none,"))
    assert offered(home, "load", "--durability", "rel") == ["relaxed"]


def test_where_nothing_is_known_nothing_is_offered_and_nothing_breaks(home: Path) -> None:
    assert offered(home, "undo", "") == []
    (home / ".splarn").mkdir()
    (home / ".splarn" / "ledger.sqlite").write_text("no database")
    assert offered(home, "undo", "") == []
    assert offered(home, "forecast", "--sweep", "") == []
