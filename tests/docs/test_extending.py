"""The guide to extending: the package that stands in it is assembled, installed and held to it."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from splarn.cli.app import application
from splarn.core.job import Job
from splarn.core.tuning.configuration import LEVERS, Configuration, Space
from tests.conftest import Splarn

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def pocket(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the guide's package and its metadata, as an installer leaves them."""
    site = tmp_path_factory.mktemp("site")
    text = (ROOT / "docs/extending.md").read_text()
    for name, code in re.findall(
        r"^```python\n# (splarn_pocket/\S+)\n(.*?)^```", text, re.M | re.S
    ):
        path = site / name
        path.parent.mkdir(exist_ok=True)
        path.write_text(code)
    (metadata,) = re.findall(r"^```toml\n(.*?)^```", text, re.M | re.S)
    project = tomllib.loads(metadata)["project"]
    info = site / f"{project['name'].replace('-', '_')}-{project['version']}.dist-info"
    info.mkdir()
    (info / "METADATA").write_text(f"Name: {project['name']}\nVersion: {project['version']}\n")
    lines = []
    for group, entries in project["entry-points"].items():
        lines += [f"[{group}]", *(f"{name} = {value}" for name, value in entries.items())]
    (info / "entry_points.txt").write_text("\n".join(lines) + "\n")
    return site


def with_path(site: Path) -> dict[str, str]:
    paths = [str(site), *filter(None, [os.environ.get("PYTHONPATH")])]
    # What this run is measured with is not for the runs inside it.
    kept = {name: value for name, value in os.environ.items() if name != "PYTEST_ADDOPTS"}
    return {**kept, "PYTHONPATH": os.pathsep.join(paths)}


def test_an_engine_written_by_the_guide_passes_the_engine_suite(pocket: Path) -> None:
    words = ["-m", "pytest", "-q", "-n2", "-p", "no:cacheprovider", "tests/engines/test_load.py",
             "tests/engines/test_already_in.py", "-k", "pocket"]  # fmt: skip
    ran = subprocess.run(
        [sys.executable, *words], cwd=ROOT, capture_output=True, text=True, check=False,
        env={**with_path(pocket), "SPLARN_TEST_TARGETS": "pocket"},
    )  # fmt: skip
    assert ran.returncode == 0, ran.stdout[-4000:]
    passed = re.search(r"([0-9]+) passed", ran.stdout)
    assert passed is not None and int(passed[1]) > 15, ran.stdout


def test_a_codec_written_by_the_guide_is_known_everywhere(pocket: Path, tmp_path: Path) -> None:
    (tmp_path / "tolls.csv").write_text("no,toll\n" + "".join(f"{n},{n}.5\n" for n in range(5000)))

    def splarn(*words: str) -> str:
        ran = subprocess.run(
            [sys.executable, "-m", "splarn", *words], cwd=tmp_path, env=with_path(pocket),
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        assert ran.returncode == 0, ran.stderr
        return ran.stdout

    splarn("shape", "tolls.csv", "--into", "parts", "--codec", "zlib:6", "--verify")
    (part,) = (tmp_path / "parts").glob("*.csv.zz")
    assert "zlib" in splarn("survey", "parts")
    loaded = splarn("load", "parts", "--to", "pocket:///t.pocket", "--table", "tolls")
    assert "Verified" in loaded
    splarn("layout", str(part), "--out", "l.json")
    assert "5,000 good" in splarn("check", str(part), "--layout", "l.json")


def test_every_lever_follows_from_its_entry(splarn: Splarn) -> None:
    assert application().registered_commands
    document = next(Space.of({}).grid()).as_json()
    space = Job().space.values()
    for command in ("sweep", "forecast", "plan"):
        shown = splarn("help", command).out
        for name, one in LEVERS.items():
            assert f"{one.option} {one.metavar}" in shown
            assert one.key in document
            assert name in space
            assert Configuration.__dataclass_fields__[name].metadata["lever"]["words"] == one.words
