"""Hosts of a network of this machine's own, each with a line that its traffic control slows.

Network namespaces joined by pairs of virtual interfaces, each slowed at both of its ends by a token
bucket (tc-tbf(8)). All see the same disk, so that only what crosses a line is slowed: to and from
the store, which is reached at an address of its own. Needs the rights of root.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from types import TracebackType
from typing import Any
from urllib.request import urlopen

# What the store is reached at from everywhere, and the hosts' networks, one of four addresses each.
STORE, NETWORK = "10.78.0.1", "10.77.{}.{}"
SERVE = """
import sys, time
from pathlib import Path
from splarn.standin.depot import SimulatedDepot
from splarn.standin.physics import DepotPhysics
from splarn.standin.serve import served
physics = DepotPhysics()
with served(SimulatedDepot(Path(sys.argv[1]), physics), int(sys.argv[2]), sys.argv[3]):
    time.sleep(1e6)
"""


def able() -> bool:
    """Whether this machine lets one make networks of one's own."""
    try:
        _do("ip", "netns", "add", "splarn-try")
        _do("ip", "netns", "del", "splarn-try")
        _do("tc", "-V")
    except (OSError, subprocess.CalledProcessError):
        return False
    return True


class Hosts:
    """So many hosts with a line of so many bytes a second, a scheduler, a worker on each, a store.

    `store` is its address, `scheduler` that of the cluster. Everything is gone when it is left.
    """

    def __init__(self, folder: Path, count: int, line: float) -> None:
        self.folder, self.count, self.line = folder, count, line
        self.store, self.scheduler = f"http://{STORE}:27810", "tcp://127.0.0.1:27820"
        self._processes: list[subprocess.Popen[bytes]] = []

    def __enter__(self) -> Hosts:
        try:
            _do("ip", "addr", "add", f"{STORE}/32", "dev", "lo")
            for number in range(1, self.count + 1):
                self._make(number)
            (self.folder / "store").mkdir(parents=True, exist_ok=True)
            self._begin("-c", SERVE, self.folder / "store", 27810, STORE)
            self._dask("scheduler", "--host", "0.0.0.0", "--port", 27820, "--no-dashboard",
                       "--no-show")  # fmt: skip
            time.sleep(3)
            for number in range(1, self.count + 1):
                here, there = NETWORK.format(number, 1), NETWORK.format(number, 2)
                self._dask(
                    "worker", f"tcp://{here}:27820", "--host", there, "--nthreads", 1,
                    "--no-dashboard", "--memory-limit", 0, "--local-directory",
                    self.folder / "scratch", at=number,
                )  # fmt: skip
            self._await()
        except BaseException:
            self._end()
            raise
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._end()

    def _make(self, number: int) -> None:
        name, here, there = f"splarn-{number}", f"spl{number}", f"spe{number}"
        inside = ("ip", "-n", name)
        _do("ip", "netns", "add", name)
        _do("ip", "link", "add", here, "type", "veth", "peer", "name", there, "netns", name)
        _do("ip", "addr", "add", f"{NETWORK.format(number, 1)}/30", "dev", here)
        _do("ip", "link", "set", here, "up")
        _do(*inside, "addr", "add", f"{NETWORK.format(number, 2)}/30", "dev", there)
        _do(*inside, "link", "set", there, "up")
        _do(*inside, "link", "set", "lo", "up")
        _do(*inside, "route", "add", "default", "via", NETWORK.format(number, 1))
        slow = ("root", "tbf", "rate", f"{int(self.line * 8)}bit", "burst", "128kb", "latency",
                "300ms")  # fmt: skip
        _do("tc", "qdisc", "add", "dev", here, *slow)
        _do("ip", "netns", "exec", name, "tc", "qdisc", "add", "dev", there, *slow)

    def _dask(self, what: str, *words: Any, at: int = 0) -> None:
        self._begin("-m", f"distributed.cli.dask_{what}", *words, at=at)

    def _begin(self, *words: Any, at: int = 0) -> None:
        around = ("ip", "netns", "exec", f"splarn-{at}") if at else ()
        with (self.folder / "hosts.log").open("ab") as log:
            self._processes.append(
                subprocess.Popen(
                    [*around, sys.executable, *map(str, words)],
                    stdout=log,
                    stderr=log,
                    start_new_session=True,
                    cwd=self.folder,
                )
            )

    def _await(self) -> None:
        from distributed import Client

        with Client(self.scheduler, set_as_default=False, timeout=30) as client:
            client.wait_for_workers(self.count, timeout=60)
        with urlopen(f"{self.store}/", timeout=10):
            pass

    def _end(self) -> None:
        for process in self._processes:
            # Each leads a session of its own, in which its children are.
            _try("pkill", "-9", "-s", str(process.pid))
        for number in range(1, self.count + 1):
            _try("ip", "netns", "del", f"splarn-{number}")
            _try("ip", "link", "del", f"spl{number}")
        _try("ip", "addr", "del", f"{STORE}/32", "dev", "lo")


def _do(*words: str) -> None:
    subprocess.run(words, check=True, capture_output=True)


def _try(*words: str) -> None:
    subprocess.run(words, check=False, capture_output=True)
