"""`python -m benchmarks [NAME…]`: runs the named benchmarks, or all, and prints their ratios."""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

from benchmarks.choice import CHOICE
from benchmarks.cluster import CLUSTER
from benchmarks.decide import DECIDE
from benchmarks.described import DESCRIBED
from benchmarks.flow import FLOW
from benchmarks.foretold import FORETOLD
from benchmarks.lake import LAKE
from benchmarks.load import LOADS
from benchmarks.measure import Row, show
from benchmarks.prepare import PREPARE
from benchmarks.scans import SCANS
from benchmarks.sweeps import SWEEPS
from benchmarks.unload import UNLOAD

ALL = {
    **PREPARE, **LOADS, **CHOICE, **SWEEPS, **DECIDE, **FORETOLD, **FLOW, **DESCRIBED, **UNLOAD,
    **LAKE, **SCANS, **CLUSTER,
}  # fmt: skip


def main() -> int:
    """Runs what was asked for."""
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("names", nargs="*", metavar="NAME", help=f"of {', '.join(ALL)}")
    parser.add_argument("--repeats", type=int, default=5, help="interleaved repeats of each side")
    parser.add_argument("--scale", type=float, default=1.0, help="share of the full data size")
    parser.add_argument("--folder", type=Path, help="where the data is made; a temporary one")
    given = parser.parse_args()
    unknown = [name for name in given.names if name not in ALL]
    if unknown:
        parser.error(f"there is no benchmark {unknown[0]!r}")
    rows: list[Row] = []
    with tempfile.TemporaryDirectory(prefix="splarn-bench-") as scratch:
        folder = given.folder or Path(scratch)
        folder.mkdir(parents=True, exist_ok=True)
        for name in given.names or ALL:
            print(f"{name} …", file=sys.stderr)
            rows += ALL[name](folder, given.repeats, given.scale)
    if rows:
        show(rows)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
