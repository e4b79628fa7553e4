"""The README and the guides: every command in them runs as it is written, in order."""

from __future__ import annotations

import inspect
import json
import os
import re
import shlex
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
from importlib import import_module
from pathlib import Path

import pytest

from splarn.cli.app import PANELS
from splarn.demo.elastic import write_elastic
from splarn.demo.scenario import make_passages
from splarn.demo.walk import write_job
from tests.conftest import Zygote
from tests.servers import usual_ports

ROOT = Path(__file__).parents[2]
PORTS = (27610, 27620)
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
        # A file that the reader is to write is named in its first line.
        if named := re.match(r"# ([\w-]+\.toml)\n", block):
            found.append(Step(named[1], block, "file"))
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

    def __init__(self, home: Path, zygote: Zygote, notes: Path) -> None:
        self.home, self._zygote, self._notes = home, zygote, notes
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

    def answer(self, words: str, seconds: float = 170.0) -> tuple[int, str]:
        """Exit code and output of a command; one of Splarn's alone needs no shell."""
        told = shlex.split(words, comments=True)
        if words.startswith("splarn ") and not set("|&;<>$*?~`\n") & set(words):
            ran = self._zygote.run(told[1:], self.home, self.env, self._notes)
            return ran.code, ran.out + ran.err
        process = self.begin(words)
        out, _ = process.communicate(timeout=seconds)
        return process.returncode, out

    def type(self, step: Step) -> None:
        """Runs a command with the ids that this reader has seen where the guide has its own."""
        if step.kind == "file":
            (self.home / step.words).write_text(step.shown)
            return
        words = ID.sub(lambda found: self.ids.get(found[0], found[0]), step.words)
        if words.startswith("cd "):
            self.home = self.home / words.removeprefix("cd ")
            assert self.home.is_dir()
            return
        if words.startswith("splarn standin"):
            process = self.begin(words)
            self.serving.append(process)
            assert process.stdout is not None
            assert "answers at" in process.stdout.readline()
            return
        if words.startswith("dask "):
            self.serving.append(self.begin(f"exec {words} >/dev/null 2>&1"))
            self._await_workers(sum(" worker " in str(one.args) for one in self.serving))
            return
        if step.shown.rstrip().endswith("Killed"):
            self._kill(self.begin(words))
            return
        code, out = self.answer(words, 240)
        assert code in step.codes(), f"{words}\n{out}"
        said = " ".join(out.split())
        for sentence in re.findall(r"[A-Z][^.!?\d]{25,}?\.(?=\s|$)", " ".join(step.shown.split())):
            if "…" not in sentence:
                assert sentence in said, f"{words}\n{sentence}\n{out}"
        for told, seen in zip(ID.findall(step.shown), ID.findall(out), strict=False):
            self.ids.setdefault(told, seen)

    def _await_workers(self, count: int) -> None:
        """Waits until the cluster of a guide has so many workers."""
        from distributed import Client

        with Client("tcp://127.0.0.1:8786", timeout=60, set_as_default=False) as client:
            if count:
                client.wait_for_workers(count, timeout=60)

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


@pytest.fixture(scope="session")
def left_by_the_demo(tmp_path_factory: pytest.TempPathFactory, zygote: Zygote) -> Path:
    """The folder that the demo leaves, with less in it."""
    home = tmp_path_factory.mktemp("demo") / "larkmere"
    delivery = make_passages(home / "delivery", 50_000, 7)
    write_job(home, delivery)
    write_elastic(home, delivery.bytes, f"millrace://127.0.0.1:{PORTS[1]}")
    first = Reader(home, zygote, tmp_path_factory.mktemp("notes"))
    first.type(Step("splarn layout delivery/ --out layout.json", "", "bash"))
    return home


@pytest.fixture
def reader(
    tmp_path: Path, zygote: Zygote, tmp_path_factory: pytest.TempPathFactory, left_by_the_demo: Path
) -> Iterator[Reader]:
    """A reader in such a folder."""
    home = tmp_path / "larkmere"
    shutil.copytree(left_by_the_demo, home)
    found = Reader(home, zygote, tmp_path_factory.mktemp("notes"))
    yield found
    found.stop()


def free(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) != 0


@pytest.mark.parametrize(
    "guide",
    ["README.md", "docs/start-here.md", "docs/know-your-files.md", "docs/load-it-once.md",
     "docs/depots-tiers-and-prices.md", "docs/a-sweep-you-can-believe.md",
     "docs/from-sweep-to-plan.md", "docs/one-run-start-to-finish.md", "docs/file-formats.md",
     "docs/describe-your-engine.md", "docs/out-again-and-elsewhere.md",
     "docs/from-text-to-a-lake.md", "docs/past-one-machine.md"],
)  # fmt: skip
def test_every_command_of_a_guide_runs_as_written(reader: Reader, guide: str) -> None:
    steps = steps_of(ROOT / guide)
    if guide == "README.md":
        # The first two set a machine up and are what the check itself begins with.
        steps = steps[2:]
        shutil.copytree(reader.home / "delivery", reader.home / "deliveries")
    assert len(steps) > 4
    # What sets a machine up has been done for all guides.
    steps = [step for step in steps if not step.words.startswith("pip ")]
    serves = any("27610" in step.words for step in steps)
    if any("8786" in step.words for step in steps) and not free(8786):
        pytest.skip("the port 8786 of the guide is taken")
    with usual_ports() if serves else nullcontext():
        if serves and not all(map(free, PORTS)):
            pytest.skip(f"the ports {PORTS} of the guide are taken")
        for step in steps:
            if "s3://" in step.words and "SPLARN_TEST_S3" not in os.environ:
                pytest.skip("no S3-protocol store answers: the commands before this one have run")
            reader.type(step)
        reader.stop()


def examples() -> dict[str, str]:
    """The example in the help of each command."""
    found = {}
    for name in [name for names in PANELS.values() for name in names]:
        text = inspect.getdoc(getattr(import_module(f"splarn.cli.{name}"), name)) or ""
        (found[name],) = re.findall(r"Example: \[bold\](.*?)\[/bold\]", text, re.S)
    return found


def test_the_example_in_the_help_of_each_command_runs(reader: Reader) -> None:
    every = examples()
    home = reader.home
    # The demo is what the check itself begins with, and its example is a larger one.
    assert every.pop("demo").startswith("splarn demo --into")
    shutil.copytree(home / "delivery", home / "deliveries")
    (home / "layout.json").unlink()

    def run(words: str, codes: tuple[int, ...] = (0,)) -> str:
        code, out = reader.answer(words)
        assert code in codes, f"{words}\n{out}"
        return out

    def example(name: str, codes: tuple[int, ...] = (0,), more: str = "") -> None:
        run(f"{every.pop(name)} {more}", codes)

    example("layout")
    example("survey")
    example("check", (0, 1))
    example("shape", more="--rejects rejects --format csv")
    (home / "own").mkdir()
    (home / "own/deliveries").symlink_to(home / "deliveries")
    reader.home = home / "own"
    example("new", more="--yes")
    reader.home = home
    with usual_ports():
        if not all(map(free, PORTS)):
            pytest.skip(f"the ports {PORTS} of the examples are taken")
        reader.type(Step(every.pop("standin"), "", "bash"))
        example("ship")
        example("doctor")
        reader.stop()
    loading = every["load"]
    example("load", more="--bad-rows set-aside")
    run(f"{loading}_again --bad-rows set-aside")
    listed = json.loads(run("splarn ledger --kind load --json"))["entries"]
    first, second = (one["id"] for one in listed)
    example("unload")
    run(
        "splarn load deliveries --layout layout.json --to lake:///larkmere-lake --table passages "
        "--bad-rows set-aside --file-layout 'month(entered)'"
    )
    example("compact")
    words = every.pop("compare").replace("20261125-0930", first).replace("20261126-0931", second)
    run(words, (0, 1))
    run(every.pop("undo").replace("20261125-0930", second) + " --yes")
    example("sweep", more="--sample 512KiB --strategy star")
    example("forecast")
    example("plan", (0, 1), more="--anyway")
    example("report")
    example("plot")
    example("runbook")
    # One job file for a schedule.
    for month in ("2031-06", "2031-07"):
        (home / month).mkdir()
    paths = sorted((home / "deliveries").iterdir())
    shutil.copy(paths[0], home / "2031-06")
    shutil.copy(paths[1], home / "2031-07")
    job = (home / "splarn.toml").read_text()
    job = re.sub(r"(?m)^paths = .*", 'paths = ["{month}/*.csv"]', job)
    (home / "monthly.toml").write_text(re.sub(r"(?m)^table = .*", 'table = "monthly"', job))
    run("splarn plan --job monthly.toml --set month=2031-06 --anyway", (0, 1))
    example("run", more="--job monthly.toml")
    example("ledger")
    assert not every
