"""The README and the guides: every command in them runs as it is written, in order."""

from __future__ import annotations

import os
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import nullcontext
from dataclasses import dataclass
from pathlib import Path

import pytest

from splarn.demo.elastic import write_elastic
from splarn.demo.scenario import make_passages
from splarn.demo.walk import write_job
from tests.servers import usual_ports

ROOT = Path(__file__).parents[2]
PORTS = (47610, 47620)
ID = re.compile(r"\b(?:(?:sweep|plan|ship|run|undo)-)?[0-9]{8}-[0-9]{6}-[0-9a-f]{4}\b")


@dataclass(frozen=True)
class Step:
    """A command of a guide, and what the guide shows of its output."""

    words: str
    shown: str
    kind: str

    @property
    def fails(self) -> bool:
        """Whether the guide shows that it is refused."""
        return any(line.startswith("splarn: ") for line in self.shown.splitlines())

    def codes(self) -> set[int]:
        """The exit codes that it may have."""
        if self.fails:
            return {1, 2, 3}
        # Faults in the data, and a compute that is left large, are what these look for.
        looks = "splarn check" in self.words or "should be" in self.shown
        return {0, 1} if looks else {0}


def steps_of(path: Path) -> list[Step]:
    """The commands of a guide in order. Blocks that are no commands are passed over."""
    found = []
    for kind, block in re.findall(r"^```(\w+)\n(.*?)^```", path.read_text(), re.M | re.S):
        if kind not in ("console", "bash"):
            continue
        text = re.sub(r"\\\n\s*", "", block)
        pieces = re.split(r"^\$ ", text, flags=re.M)[1:] if kind == "console" else text.split("\n")
        for piece in filter(str.strip, pieces):
            words, _, shown = piece.partition("\n")
            found.append(Step(words.strip(), shown.strip("\n"), kind))
    return found


class Reader:
    """Someone who follows a guide in a folder, typing what it says."""

    def __init__(self, home: Path) -> None:
        self.home = home
        self.ids: dict[str, str] = {}
        self.serving: list[subprocess.Popen[str]] = []
        self.env = {
            **os.environ, "COLUMNS": "100",
            "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}",
            "AWS_ENDPOINT_URL": os.environ.get("SPLARN_TEST_S3", ""),
            "AWS_ACCESS_KEY_ID": "S3RVER", "AWS_SECRET_ACCESS_KEY": "S3RVER",
        }  # fmt: skip

    def begin(self, words: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            ["bash", "-c", words], cwd=self.home, env=self.env, text=True, start_new_session=True,
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )  # fmt: skip

    def type(self, step: Step) -> None:
        """Runs a command with the ids that this reader has seen where the guide has its own."""
        words = ID.sub(lambda found: self.ids.get(found[0], found[0]), step.words)
        if words.startswith("cd "):
            self.home = self.home / words.removeprefix("cd ")
            assert self.home.is_dir()
            return
        process = self.begin(words)
        if words.startswith("splarn standin"):
            self.serving.append(process)
            assert process.stdout is not None
            assert "answers at" in process.stdout.readline()
            return
        if step.shown.rstrip().endswith("Killed"):
            self._kill(process)
            return
        out, _ = process.communicate(timeout=240)
        assert process.returncode in step.codes(), f"{words}\n{out}"
        said = " ".join(out.split())
        for sentence in re.findall(r"[A-Z][^.!?\d]{25,}?\.(?=\s|$)", " ".join(step.shown.split())):
            if "…" not in sentence:
                assert sentence in said, f"{words}\n{sentence}\n{out}"
        for told, seen in zip(ID.findall(step.shown), ID.findall(out), strict=False):
            self.ids.setdefault(told, seen)

    def _kill(self, process: subprocess.Popen[str]) -> None:
        """Kills a load once some of it is in, as `kill -9` does."""
        for _ in range(4000):
            time.sleep(0.002)
            try:
                with sqlite3.connect(self.home / "canal.db", timeout=0) as base:
                    if base.execute("SELECT sum(position) FROM splarn_progress").fetchone()[0]:
                        break
            except sqlite3.Error:
                continue
        assert process.poll() is None, "the load ended before it was killed"
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate()

    def stop(self) -> None:
        while self.serving:
            process = self.serving.pop()
            os.killpg(process.pid, signal.SIGINT)
            process.communicate(timeout=30)


@pytest.fixture
def reader(tmp_path: Path) -> Iterator[Reader]:
    """A reader in the folder that the demo leaves, with less in it."""
    home = tmp_path / "larkmere"
    delivery = make_passages(home / "delivery", 50_000, 7)
    write_job(home, delivery)
    write_elastic(home, delivery.bytes, f"millrace://127.0.0.1:{PORTS[1]}")
    found = Reader(home)
    found.type(Step("splarn layout delivery/*.csv --out layout.json", "", "bash"))
    yield found
    found.stop()


def free(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) != 0


@pytest.mark.parametrize(
    "guide",
    ["README.md", "docs/start-here.md", "docs/know-your-files.md", "docs/load-it-once.md",
     "docs/depots-tiers-and-prices.md", "docs/a-sweep-you-can-believe.md",
     "docs/from-sweep-to-plan.md", "docs/one-run-start-to-finish.md"],
)  # fmt: skip
def test_every_command_of_a_guide_runs_as_written(reader: Reader, guide: str) -> None:
    steps = steps_of(ROOT / guide)
    if guide == "README.md":
        # The first two set a machine up and are what the check itself begins with.
        steps = steps[2:]
        shutil.copytree(reader.home / "delivery", reader.home / "deliveries")
    assert len(steps) > 5
    serves = any("47610" in step.words for step in steps)
    with usual_ports() if serves else nullcontext():
        if serves and not all(map(free, PORTS)):
            pytest.skip(f"the ports {PORTS} of the guide are taken")
        for step in steps:
            if "s3://" in step.words and "SPLARN_TEST_S3" not in os.environ:
                pytest.skip("no S3-protocol store answers: the commands before this one have run")
            reader.type(step)
        reader.stop()
