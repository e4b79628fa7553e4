"""Shapes that are killed again and again end all the same, in exactly the rows there are."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from splarn.core.shape.manifest import UNFINISHED
from splarn.demo.scenario import Delivery, make_passages
from tests.conftest import Splarn

KILLS = 6


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> Delivery:
    return make_passages(tmp_path_factory.mktemp("many"), 60_000, seed=23)


def harass(home: Path, words: list[str], seed: int) -> tuple[int, int]:
    """Kills a command at random moments, then lets it end; how often, and its exit code."""
    chance = random.Random(seed)
    killed = 0
    for _ in range(KILLS):
        process = subprocess.Popen(
            [sys.executable, "-m", "splarn", *words],
            cwd=home,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            start_new_session=True,
        )
        try:
            process.communicate(timeout=chance.uniform(0.9, 2.6))
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
            killed += 1
            continue
        return killed, process.returncode
    done = subprocess.run(
        [sys.executable, "-m", "splarn", *words], cwd=home, capture_output=True, check=False
    )
    return killed, done.returncode


@pytest.mark.parametrize(
    "options",
    [
        ("--codec", "zstd:9", "--part-size", "200KiB"),
        ("--format", "parquet", "--part-rows", "2_000", "--rejects", "rejects"),
    ],
)
def test_a_shape_killed_again_and_again_ends_in_proven_parts(
    splarn: Splarn, tmp_path: Path, many: Delivery, options: tuple[str, ...]
) -> None:
    splarn("layout", *many.paths, "--out", "layout.json")
    words = [
        "shape", *map(str, many.paths), "--layout", "layout.json", "--into", "parts", "--verify",
        *options,
    ]  # fmt: skip
    _, code = harass(tmp_path, words, seed=len(options))
    if code == 2:
        # It was killed after the manifest stood, and a finished folder is not made anew.
        assert splarn(*words).code == 2
        code = splarn(*words, "--again").code
    assert code == 0
    assert not (tmp_path / "parts" / UNFINISHED).exists()
    assert not list((tmp_path / "parts").rglob("*unfinished*"))
    found = splarn("check", "parts", "--json").json
    refused = len(many.spoiled) if "--rejects" in options else 0
    assert found["rows"] == many.rows - refused
    if refused:
        lines = (tmp_path / "rejects" / "shape.rejects.jsonl").read_text().splitlines()
        assert len(lines) == refused


def test_an_interrupted_conversion_says_how_to_go_on(
    splarn: Splarn, tmp_path: Path, many: Delivery
) -> None:
    splarn("layout", *many.paths, "--out", "layout.json")
    words = [
        "shape", *map(str, many.paths), "--layout", "layout.json", "--into", "parts",
        "--format", "jsonl", "--codec", "xz:2", "--part-rows", "1000", "--rejects", "r",
        "--workers", "2", "--json",
    ]  # fmt: skip
    process = subprocess.Popen(
        [sys.executable, "-m", "splarn", *words],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    while process.poll() is None and len(list(tmp_path.glob("parts/*-0*.xz"))) < 3:
        time.sleep(0.01)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=120)
    assert process.returncode == 130, err
    assert "goes on from there" in json.loads(out)["error"]
    assert b"Traceback" not in err
    assert not list((tmp_path / "parts").glob("*-0*unfinished*"))
    ran = splarn("load", "parts", "--to", "sqlite:///a.db")
    assert (ran.code, "unfinished" in ran.err) == (2, True)
    again = splarn(*words)
    assert again.code == 0
    assert again.json["parts_kept"] >= 3
    assert again.json["rows"] == many.good
