"""Benchmarks of engines by description: each against Splarn's own module for the same engine."""

from __future__ import annotations

import os
import secrets
import shutil
import sys
from pathlib import Path

from benchmarks.load import MARIADB, POSTGRESQL, loading, made_parts
from benchmarks.measure import Row, compare

# A described engine takes at most this much longer than the module.
REACH = 1 / 1.05


def described(folder: Path, repeats: int, scale: float) -> list[Row]:
    """The same parts by the shipped description and by the module, one and two streams."""
    sys.path.insert(0, str(Path(__file__).parents[1]))
    from tests.descriptions import describe

    parts, _, size = made_parts(folder, scale)
    # Servers read files as users of their own.
    here = Path("/tmp") / f"splarn-bench-{secrets.token_hex(4)}"
    here.mkdir(mode=0o755)
    try:
        shutil.copytree(parts, here / "parts")
        os.environ.setdefault("SPLARN_TEST_KEY", "")
        rows: list[Row] = []
        for kind, url, streams in (
            ("postgresql", POSTGRESQL, 1), ("postgresql", POSTGRESQL, 2), ("mariadb", MARIADB, 2),
            ("duckdb", f"duckdb:///{here}/bench.duckdb", 1),
        ):  # fmt: skip
            target = describe(kind, url, here / f"{kind}.toml")
            ours, module = (
                loading(here, here / "parts", one, streams, at=url) for one in (target, url)
            )
            rows += compare(
                f"{kind} by description, {streams} stream{'s' * (streams > 1)}", "its module",
                ours, module, repeats, REACH, size, REACH,
            )  # fmt: skip
        return rows
    finally:
        shutil.rmtree(here)


DESCRIBED = {"described": described}
