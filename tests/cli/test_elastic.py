"""Simulated services, a compute that is sized up and never left so, and what it costs."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from splarn.demo.scenario import make_passages
from splarn.engines import open_engine
from tests.conftest import Splarn
from tests.servers import usual_ports

JOB = """\
prices = "prices.toml"
[target]
url = "{engine}"
table = "passages"
bad_rows = "set-aside"
"""

PRICES = """\
currency = "crowns"
thousand_requests = 1
[tiers.u1]
per_hour = 2
[tiers.u20]
per_hour = 32
"""


@pytest.fixture
def services(tmp_path: Path) -> Iterator[Callable[..., dict[str, str]]]:
    """Starts `splarn standin` with options; ends it afterwards as Ctrl-C does."""
    running: list[subprocess.Popen[str]] = []
    killed: list[subprocess.Popen[str]] = []

    def start(*options: str, engine_port: str = "0", kill_first: bool = False) -> dict[str, str]:
        if kill_first:
            running[-1].kill()
            running[-1].wait()
            killed.append(running[-1])
        words = ["standin", "--depot-port", "0", "--engine-port", engine_port, "--json", *options]
        running.append(
            subprocess.Popen(
                [sys.executable, "-m", "splarn", *words], cwd=tmp_path, stdout=subprocess.PIPE,
                stderr=subprocess.PIPE, text=True,
            )
        )  # fmt: skip
        assert running[-1].stdout is not None
        found: dict[str, str] = json.loads(running[-1].stdout.readline())
        return found

    yield start
    for one in running:
        one.send_signal(signal.SIGINT)
        _, told = one.communicate(timeout=20)
        assert one.returncode == (130 if one not in killed else -signal.SIGKILL)
        assert "Traceback" not in told


def tier(engine: str) -> Any:
    return httpx.get(engine.replace("millrace", "http") + "/compute").json()["tier"]


def begun(
    words: list[str], cwd: Path, engine: str, may_end: bool = False
) -> subprocess.Popen[bytes]:
    """A load that has made the compute larger and is at work, or one with nothing left to do."""
    process = subprocess.Popen(
        [sys.executable, "-m", "splarn", *words], cwd=cwd, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL, env={**os.environ},
    )  # fmt: skip
    until = time.monotonic() + 60
    while tier(engine) != "u20":
        assert time.monotonic() < until
        if may_end and process.poll() == 0:
            break
        assert process.poll() is None, "the load ended before it was sized up"
        time.sleep(0.02)
    return process


def test_a_compute_is_never_left_large_for_long(
    splarn: Splarn, services: Callable[..., dict[str, str]], delivery: Any, tmp_path: Path
) -> None:
    # Each part takes half a second on its way in, so that there is time to break things off.
    engine = services("--latency", "500ms")["engine"]
    (tmp_path / "splarn.toml").write_text(JOB.format(engine=engine))
    (tmp_path / "prices.toml").write_text(PRICES)
    shaped = splarn("shape", *delivery.paths, "--into", "parts", "--part-size", "64KiB")
    assert shaped.code == 0, shaped.err
    words = ["load", "parts", "--tier", "u20"]

    interrupted = begun(words, tmp_path, engine)
    interrupted.send_signal(signal.SIGINT)
    assert interrupted.wait(60) == 130
    assert tier(engine) == "u1"

    killed = begun(words, tmp_path, engine)
    killed.kill()
    killed.wait()
    looked = splarn("doctor", "--json")
    compute = looked.json["compute"]
    assert (looked.code, compute["tier"], compute["rest"]) == (1, "u20", "u1")
    assert (compute["forgotten"], compute["per_hour"], compute["per_hour_at_rest"]) == (True, 32, 2)
    assert "which costs 32.0 crowns an hour instead of 2.00" in " ".join(
        splarn("doctor").out.split()
    )
    assert splarn("doctor", "--restore").code == 0
    assert tier(engine) == "u1"
    assert splarn("doctor").code == 0

    # And without the doctor, by the next load, which also goes on.
    killed = begun(words, tmp_path, engine)
    killed.kill()
    killed.wait()
    ended = splarn(*words, "--streams", "16", "--json")
    assert ended.code == 0, ended.err
    assert (ended.json["rows_loaded"], ended.json["verified"]) == (delivery.good, True)
    assert any("had left" in note and "it is u1 again" in note for note in ended.json["notes"])
    assert tier(engine) == "u1"
    cost = ended.json["cost"]
    assert cost["total"] == pytest.approx(sum(v for item, v in cost.items() if item != "total"))
    assert cost["compute"] > 0
    summed = splarn("ledger", "--json").json["costs"]
    assert summed == {"crowns": {"load": pytest.approx(cost["total"])}}
    # A tier without a price is said, and stops nothing.
    (tmp_path / "prices.toml").write_text(PRICES.replace("u20", "u8"))
    again = splarn(*words, "--streams", "16", "--table", "other", "--no-verify")
    assert again.code == 0
    assert "'u20' is not in the price list" in again.out


def test_an_engine_killed_in_mid_load_has_what_it_noted_and_no_more(
    splarn: Splarn, services: Callable[..., dict[str, str]], delivery: Any, tmp_path: Path
) -> None:
    engine = services("--latency", "200ms")["engine"]
    (tmp_path / "splarn.toml").write_text(JOB.format(engine=engine))
    (tmp_path / "prices.toml").write_text(PRICES)
    assert splarn("shape", *delivery.paths, "--into", "parts", "--part-size", "64KiB").code == 0
    for _ in range(3):
        words = ["load", "parts", "--tier", "u20", "--streams", "2"]
        # Killed at its very end, the engine has all of it, and the next one only looks.
        loading = begun(words, tmp_path, engine, may_end=True)
        time.sleep(random.uniform(0, 2.5))
        services(engine_port=engine.rpartition(":")[2], kill_first=True)
        assert loading.wait(60) in (0, 3)
        if loading.returncode == 0:
            break
    ended = splarn("load", "parts", "--tier", "u20", "--json")
    done = ended.code == 0
    assert done, ended.err
    session = open_engine(engine).connect()
    try:
        assert session.rows.count("passages") == delivery.good
    finally:
        session.close()
    assert tier(engine) == "u1"


def test_the_second_act_goes_on_with_the_first_ones_data(splarn: Splarn, tmp_path: Path) -> None:
    folder = tmp_path / "larkmere"
    made = make_passages(folder / "delivery", 12_000, seed=5)
    with usual_ports():
        ran = splarn("demo", "--elastic")
    assert ran.code == 0, ran.err
    assert "Going on with the 12,000 passages" in ran.out
    assert f"exactly the {made.good:,} good ones" in ran.out
    for column in ("speed-up", "efficiency", "times the cost"):
        assert column in ran.out
    assert "at rest" in ran.out
    book = splarn("ledger", "--json", cwd=folder).json
    kinds = [entry["kind"] for entry in book["entries"]]
    assert {"ship", "load", "sweep", "trial", "plan", "run"} <= set(kinds)
    assert set(book["costs"]["crowns"]) == {"ship", "load", "trial", "run"}
    (shipped,) = (entry["document"] for entry in book["entries"] if entry["kind"] == "ship")
    loads = [entry["document"] for entry in book["entries"] if entry["kind"] == "load"]
    assert [one["rows_loaded"] for one in loads] == [made.good, made.good]
    assert [one["verified"] for one in loads] == [True, True]
    assert all(part["path"].startswith(shipped["depot"]) for part in loads[0]["parts"])
    trials = [entry["document"] for entry in book["entries"] if entry["kind"] == "trial"]
    assert len({trial["configuration"]["tier"] for trial in trials}) == 6
    assert all(trial["cost"]["compute"] > 0 for trial in trials)
    # Half of the slots are left to others: of two a unit, u5 has ten.
    words = ("--job", "elastic.toml", "--load-streams", "2,5,6", "--tier", "u5", "--leave", "0.5")
    left = splarn("plan", *words, "--deadline", "1h", "--out", "left.json", "--json", cwd=folder)
    assert left.code == 0, left.err
    assert left.json["configuration"]["load_streams"] <= 5
    assert left.json["cost_items"]["compute"] > 0
    played = splarn("demo", "--elastic")
    assert (played.code, "has been played" in played.err) == (2, True)


def test_a_depot_is_loaded_from_by_any_engine(
    splarn: Splarn, services: Callable[..., dict[str, str]], delivery: Any, tmp_path: Path
) -> None:
    found = services("--seed", "4", "--set", "depot.reset_share=0.02")
    landing = f"{found['depot']}/landing"
    splarn("shape", *delivery.paths, "--into", "parts", "--part-size", "256KiB")
    name = "{date:%Y}/{name}"
    assert splarn("ship", "parts", "--to", landing, "--as", name).code == 0
    year = next((tmp_path / "standin" / "depot" / "landing").iterdir()).name
    digests = []
    for target in (found["engine"], "sqlite:///larkmere.db"):
        ran = splarn("load", f"{landing}/{year}/", "--to", target, "--table", "passages",
                     "--bad-rows", "set-aside", "--streams", "2", "--json")  # fmt: skip
        assert ran.code == 0, ran.err
        assert (ran.json["rows_loaded"], ran.json["verified"]) == (delivery.good, True)
        digests.append(ran.json["digests"])
    assert digests[0] == digests[1]
    # Back out of the depot, byte for byte, and moved within it.
    moved = splarn("ship", f"{landing}/{year}/", "--to", f"{found['depot']}/moved",
                   "--sent", "delete")  # fmt: skip
    assert moved.code == 0, moved.err
    assert list((tmp_path / "standin" / "depot" / "landing" / year).iterdir()) == []
    (tmp_path / "standin" / "depot" / "landing" / year).rmdir()
    (tmp_path / "standin" / "depot" / "moved").rename(
        tmp_path / "standin" / "depot" / "landing" / year
    )
    assert splarn("ship", f"{landing}/{year}/", "--to", "back").code == 0
    for path in (tmp_path / "back").iterdir():
        assert path.read_bytes() == (tmp_path / "parts" / path.name).read_bytes()
    part = next((tmp_path / "standin" / "depot" / "landing" / year).glob("*-0*"))
    part.write_bytes(part.read_bytes()[:-1])
    wrong = splarn("load", f"{landing}/{year}/", "--to", "sqlite:///x.db", "--table", "p")
    assert (wrong.code, "ship the parts again" in wrong.err) == (2, True)
    for words, what in (
        (["load", f"{landing}/none/", "--to", "sqlite:///x.db"], "answers 404"),
        (["load", "parts", "--to", "millrace://127.0.0.1:1"], "start it with `splarn standin`"),
        (["load", "parts", "--to", "sqlite:///x.db", "--tier", "u2"], "has no tiers"),
        (["standin", "--physics", "storm"], "name one of the shipped crowded"),
        (["standin", "--set", "noise=3"], "write it like depot.reset_share=0.05"),
        (["standin", "--set", "millrace.noise=loud"], "noise is 'loud', and must be a number"),
    ):
        wrong = splarn(*words)
        assert wrong.code in (2, 3)
        assert what in wrong.err
        assert "Traceback" not in wrong.err
