"""A Dask cluster of a test's own: a scheduler and workers as processes, to be killed at will."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

import psutil

from tests.servers import free_port

# A folder that comes first on a worker's path, so that what is in it is imported before all else.
LACKS_SPLARN = """
import sys

class Without:
    def find_spec(self, name, path=None, target=None):
        if name == "splarn" or name.startswith("splarn."):
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)

sys.meta_path.insert(0, Without())
"""
OTHER_NUMPY = """
import importlib.metadata as found

version = found.version
found.version = lambda name: "1.0.0" if name == "numpy" else version(name)
"""


class OwnCluster:
    """Ended with all its processes when it is closed. `log` is all that they have written."""

    def __init__(self, folder: Path, workers: int = 3, port: int = 0, **how: Any) -> None:
        self.folder = folder
        self.port = port or free_port()
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.processes: list[subprocess.Popen[bytes]] = []
        self.begin_scheduler()
        for _ in range(workers):
            self.add(**how)
        if workers:
            self.await_workers(workers)

    def begin_scheduler(self) -> None:
        self.scheduler = self._begin(
            "dask_scheduler", "--host", "127.0.0.1", "--port", self.port, "--no-dashboard",
            "--no-show",
        )  # fmt: skip

    def add(
        self, *, before: str = "", memory: str = "0", nanny: bool = True, threads: int = 1,
        around: tuple[str, ...] = (), host: str = "127.0.0.1",
    ) -> subprocess.Popen[bytes]:  # fmt: skip
        """A worker more; `before` is run in it first, `around` are words before its command."""
        env = dict(os.environ)
        if before:
            own = self.folder / f"first-{len(self.processes)}"
            own.mkdir(parents=True)
            (own / "sitecustomize.py").write_text(before)
            env["PYTHONPATH"] = str(own)
        process = self._begin(
            "dask_worker", self.address, "--host", host, "--nthreads", threads, "--no-dashboard",
            "--memory-limit", memory, "--nanny" if nanny else "--no-nanny", "--local-directory",
            self.folder / "scratch", "--death-timeout", 60, env=env, around=around,
        )  # fmt: skip
        self.processes.append(process)
        return process

    def _begin(
        self, what: str, *words: object, env: dict[str, str] | None = None,
        around: tuple[str, ...] = (),
    ) -> subprocess.Popen[bytes]:  # fmt: skip
        self.folder.mkdir(parents=True, exist_ok=True)
        with (self.folder / "log").open("ab") as log:
            return subprocess.Popen(
                [*around, sys.executable, "-m", f"distributed.cli.{what}", *map(str, words)],
                cwd=self.folder, env=env, stdout=log, stderr=log, start_new_session=True,
            )  # fmt: skip

    @property
    def log(self) -> str:
        return (self.folder / "log").read_text(errors="replace")

    def pids(self) -> list[int]:
        """The processes of workers that the scheduler knows now."""
        with self.client() as client:
            return sorted(client.run(os.getpid, on_error="ignore").values())

    def client(self) -> Any:
        from distributed import Client

        return Client(self.address, set_as_default=False, timeout=30)

    def await_workers(self, count: int) -> None:
        with self.client() as client:
            client.wait_for_workers(count, timeout=60)

    def kill(self, process: subprocess.Popen[bytes]) -> None:
        """Ends a worker for good, its nanny first."""
        with suppress(psutil.Error, OSError):
            children = psutil.Process(process.pid).children(recursive=True)
            for one in [process, *children]:
                os.kill(one.pid, signal.SIGKILL)
        process.wait(10)

    def close(self) -> None:
        for process in [*self.processes, self.scheduler]:
            self.kill(process)


def kill_some(cluster: OwnCluster, random: Any) -> bool:
    """Kills one worker's process, whose nanny brings another; whether there was one."""
    found = cluster.pids()
    if not found:
        return False
    with suppress(ProcessLookupError):
        os.kill(random.choice(found), signal.SIGKILL)
    time.sleep(random.uniform(0.0, 0.6))
    return True
