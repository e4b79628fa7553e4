"""The made-up data that benchmarks work on.

It is made in processes of its own: memory that this one had taken would count as that of every
command it starts.
"""

from __future__ import annotations

import multiprocessing
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

ROW_BYTES = 101


def apart(run: Callable[..., object], *given: Any) -> None:
    """Runs a function of this module in a process of its own.

    Raises RuntimeError when it fails there.
    """
    process = multiprocessing.get_context("spawn").Process(target=run, args=given)
    process.start()
    process.join()
    if process.exitcode:
        raise RuntimeError(f"{run.__name__} failed")


def one_file(folder: Path, size: float) -> tuple[Path, Path]:
    """One CSV file of about so many bytes, and its layout."""
    home = folder / f"source-{size / 1e6:.0f}"
    if not (home / "layout.json").exists():
        apart(_make_one, home, size)
    return home / "passages.csv", home / "layout.json"


def _make_one(home: Path, size: float) -> None:
    from splarn.core.inference.infer import infer_layout
    from splarn.core.layout.descriptor import write_layout
    from splarn.demo.scenario import make_passages

    made = make_passages(home / "made", int(size / ROW_BYTES), seed=1)
    path = home / "passages.csv"
    with made.paths[0].open("rb") as first:
        header = first.readline()
    with path.open("wb") as whole:
        whole.write(header)
        for part in made.paths:
            with part.open("rb") as file:
                file.readline()
                shutil.copyfileobj(file, whole, 1 << 20)
    shutil.rmtree(home / "made")
    write_layout(infer_layout([path]).layout, home / "layout.json")


def cleaned(path: Path, layout: Path, clean: Path) -> None:
    """The good rows of a file."""
    from splarn.core.layout.descriptor import read_layout
    from splarn.core.reading import read_parsed

    how = read_layout(layout)
    with clean.open("wb") as file:
        file.write((",".join(how.names) + "\n").encode())
        for parsed in read_parsed(path, "none", how):
            file.writelines(parsed.raw(0, len(parsed.good)))


def narrow_parts(folder: Path, rows: int) -> tuple[Path, int]:
    """A folder of narrow rows in two plain parts, and their bytes."""
    home = folder / f"narrow-{rows}"
    if not (home / "parts" / "datapackage.json").exists():
        apart(_make_narrow, home, rows)
    return home / "parts", sum(path.stat().st_size for path in (home / "parts").glob("*-0*"))


def _make_narrow(home: Path, rows: int) -> None:
    from splarn.core.inference.infer import infer_layout
    from splarn.core.shape.parts_format import PartsFormat
    from splarn.core.shape.shaper import shape
    from splarn.core.source.codecs import Packing
    from splarn.core.work.pool import Inline

    home.mkdir(parents=True, exist_ok=True)
    path = home / "gauges.csv"
    with path.open("w") as file:
        file.write("reading_no,gauge,day,level_mm,flow\n")
        for n in range(rows):
            day = f"2031-{n % 12 + 1:02}-{n % 28 + 1:02}"
            file.write(
                f"{10_000_000 + n},RM-{n % 40:04},{day},{n * 7 % 9000},{n % 900}.{n % 90 + 10}\n"
            )
    layout = infer_layout([path]).layout
    output = PartsFormat("csv", Packing(), path.stat().st_size // 2 + 1024)
    shape([path], layout, home / "parts", output, Inline())
