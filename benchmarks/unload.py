"""Benchmarks of unload: PostgreSQL's rows out, against its own client's copy into a file."""

from __future__ import annotations

from pathlib import Path

from benchmarks.load import POSTGRESQL, TABLE, loading, made_parts
from benchmarks.measure import Row, compare, have, missing, run, splarn


def unloaded(folder: Path, repeats: int, scale: float) -> list[Row]:
    """CSV and Parquet, unlooked at and verified."""
    if not have("psql"):
        return [missing("unload from PostgreSQL", "psql \\copy", "psql")]
    parts, _, size = made_parts(folder, scale)
    loading(folder, parts, POSTGRESQL, 2)()
    rows: list[Row] = []
    for form, verify, reach in (
        ("csv", "--no-verify", 1.0), ("csv", "--verify", None), ("parquet", "--no-verify", 0.8),
    ):  # fmt: skip
        words = ("--from", POSTGRESQL, "--table", TABLE, "--into", folder / "out", "--again")
        command = splarn("unload", *words, "--format", form, verify, "--json")
        copy = f"\\copy {TABLE} to '{folder}/out.csv' csv"
        rows += compare(
            f"unload from PostgreSQL to {form}, 2 streams{', verified' * (verify == '--verify')}",
            "psql \\copy into a file",
            lambda command=command: run(command, folder, ["postgres"]),
            lambda copy=copy: run(["psql", "-q", POSTGRESQL, "-c", copy], folder, ["postgres"]),
            repeats, reach, size, reach,
        )  # fmt: skip
    return rows


UNLOAD = {"unload": unloaded}
