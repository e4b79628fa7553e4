"""What the tests of engines share."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from splarn.core.source import leaves
from splarn.standin.sluice import FAULTS
from tests.engines.lives import readings
from tests.engines.sluices import OWN


@pytest.fixture(autouse=True)
def few_bytes_tell_files_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    """Files of tests are small, and are to be known by how they begin as large ones are."""
    monkeypatch.setattr(leaves, "FIRST", 48)


@pytest.fixture
def files(tmp_path: Path) -> tuple[Path, Path]:
    """Readings of before and new ones, some of which are the same."""
    old, new = tmp_path / "old.csv", tmp_path / "new.csv"
    return readings(old, 1, 400), readings(new, 301, 1200, "RM")


@pytest.fixture
def sluice(tmp_path: Path) -> Any:
    """Writes a description of the engine of our own; `more` is what it may be asked."""
    FAULTS.clear()

    def write(more: str = "", whole: bool = True) -> str:
        path = tmp_path / "sluice.toml"
        path.write_text(
            OWN.format(path=tmp_path / "sluice.db", whole=str(whole).lower(), more=more)
        )
        return f"described:{path}"

    return write
