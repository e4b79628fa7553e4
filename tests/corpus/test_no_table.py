"""What is no table at all: every command says so, or reads it as it is, and none breaks."""

from __future__ import annotations

import contextlib
import gzip
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from splarn.core.check.checking import check
from splarn.core.errors import RequestError
from splarn.core.inference.infer import infer_layout
from splarn.core.survey import survey
from splarn.core.work.pool import Inline

# Bytes that mean something to a reader of tables, beside some that do not.
BYTES = st.sampled_from(list(b"\n\n\r,,;\t\"'\\#=[]{}:ab10 \0-.\xff\xfe\xef\xbb\xbf\xe9"))
SAMPLES = (
    b"x", b"\n\n\n",
    b'"', b"#\n", b"\xff\xfe", b"a,b", b"\0", b"   \n  \n", b'"""\n"""\n', b"sep=;\n",
    b"\xef\xbb\xbf", b"\xff\xfe\xfd", b"\r\r\r", b"[]", b"{", b"null", b"{}\n{}\n", b"1,2\n\xff\n",
    "a;b\n1;2\n".encode("utf-16") + b"\xd8\xd8\xd8",
)  # fmt: skip


@settings(max_examples=150)
@given(st.lists(BYTES, max_size=60).map(bytes), st.sampled_from(["csv", "jsonl", "json", "txt"]))
def test_any_bytes_are_read_or_refused(data: bytes, ending: str) -> None:
    meet(data, ending)


@pytest.mark.parametrize("data", SAMPLES)
def test_next_to_nothing_is_read_or_refused(data: bytes) -> None:
    for ending in ("csv", "json"):
        meet(data, ending)


def meet(data: bytes, ending: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"odd.{ending}"
        path.write_bytes(data)
        # Long enough ago that survey need not watch it grow.
        os.utime(path, (1e9, 1e9))
        (seen,) = survey([path], exact=True).files
        assert seen.bytes == len(data)
        with contextlib.suppress(RequestError):
            layout = infer_layout([path]).layout
            done = check([path], layout, Inline())
            assert done.rows == done.good + done.bad


def test_one_value_without_an_end_is_refused_in_little_memory(
    tmp_path: Path,
) -> None:
    (tmp_path / "endless.csv").write_bytes(b"a,b," * 9_000_000)
    (tmp_path / "one.json").write_bytes(b'[{"a": "' + b"x" * 30_000_000 + b'"}]')
    with gzip.open(tmp_path / "zeros.csv.gz", "wb", 1) as zeros:
        for _ in range(40):
            zeros.write(bytes(1 << 24))
    for name, why in {
        "endless.csv": "a first line of more than 4 MiB",
        "one.json": "too large to be records",
        "zeros.csv.gz": "nothing to infer a layout from",
    }.items():
        for command, code in (("layout", 2), ("survey", 0)):
            words = [sys.executable, "-c", MEASURED, sys.executable, "-m", "splarn", command, name]
            done = subprocess.run(
                words, cwd=tmp_path, capture_output=True, text=True, check=False, timeout=120
            )
            ended, memory = map(int, done.stdout.split())
            assert (ended, memory < 400 << 10) == (code, True), (name, memory)
            assert command == "survey" or why in done.stderr


# Runs a command; prints how it ended and the memory that it took, in KiB.
MEASURED = """
import resource, subprocess, sys
done = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL)
print(done.returncode, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
"""
