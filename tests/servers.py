"""Database servers of the tests' own, which may crash, fill up and be crowded without harm."""

from __future__ import annotations

import fcntl
import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any


def free_port() -> int:
    """A port of this machine on which nothing listens."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


@contextmanager
def usual_ports() -> Iterator[None]:
    """The ports that stand-ins use where none is said, for one test at a time."""
    with Path(tempfile.gettempdir(), "splarn-tests-usual-ports").open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def run_as(user: str, words: list[object], **more: Any) -> None:
    """Runs a program as a user, since servers do not run as root."""
    before = ["runuser", "-u", user, "--"] if os.geteuid() == 0 else []
    done = subprocess.run(
        [*before, *map(str, words)],
        cwd="/", stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        text=True, check=False, **more,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout


def own_folder(folder: Path, user: str) -> None:
    """Makes a folder that belongs to a server's user."""
    folder.mkdir(mode=0o755, exist_ok=True)
    if os.geteuid() == 0:
        shutil.chown(folder, user)


def mount_small(folder: Path, size: str = "64m") -> bool:
    """Makes a folder a disk of its own; False where that needs more rights."""
    folder.mkdir(exist_ok=True)
    words = ["mount", "-t", "tmpfs", "-o", f"size={size},mode=0777", "tmpfs", str(folder)]
    return not subprocess.run(words, capture_output=True, check=False).returncode


def unmount(folder: Path) -> None:
    """Takes such a disk away."""
    subprocess.run(["umount", "-l", str(folder)], capture_output=True, check=False)


def fill(folder: Path, leave: int) -> Path:
    """A file that leaves only so many bytes free."""
    state = os.statvfs(folder)
    filler = folder / "filler"
    filler.write_bytes(bytes(max(0, state.f_bavail * state.f_frsize - leave)))
    return filler


class OwnPostgresql:
    """A PostgreSQL server of the test's own."""

    def __init__(self, binaries: Path, folder: Path) -> None:
        self.binaries, self.folder = binaries, folder
        self.port = free_port()
        self.url = f"postgresql://postgres@127.0.0.1:{self.port}/postgres"
        own_folder(folder, "postgres")
        self._run("initdb", "-D", folder / "data", "-A", "trust", "-U", "postgres", "-N")

    @staticmethod
    def binaries_here() -> Path | None:
        """The folder of the server's programs, where it is installed."""
        found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
        found += [Path(path) for path in [shutil.which("initdb")] if path]
        return found[-1].parent if found else None

    def _run(self, program: str, *words: object) -> None:
        run_as("postgres", [self.binaries / program, *words])

    def _control(self, *words: object) -> None:
        self._run("pg_ctl", "-D", self.folder / "data", "-w", "-l", self.folder / "log", *words)

    def start(self, *options: str) -> None:
        """Starts the server, which recovers first if it crashed."""
        here = f"-p {self.port} -h 127.0.0.1 -k {self.folder} {' '.join(options)}"
        self._control("-o", here, "start")

    def crash(self) -> None:
        """Ends all its processes without a word."""
        self._control("-m", "immediate", "stop")

    def stop(self) -> None:
        """Ends it properly: whoever is at work is told."""
        self._control("-m", "fast", "stop")

    def connect(self) -> Any:
        """A connection that commits each statement."""
        import psycopg

        return psycopg.connect(self.url, autocommit=True, connect_timeout=10)

    def database_at(self, folder: Path, name: str) -> str:
        """The URL of a new database whose tables lie in a folder."""
        own_folder(folder, "postgres")
        with self.connect() as server:
            server.execute(f"CREATE TABLESPACE {name} LOCATION '{folder}'")
            server.execute(f"CREATE DATABASE {name} TABLESPACE {name}")
        return f"{self.url.rpartition('/')[0]}/{name}"

    def drop_database(self, name: str) -> None:
        """Removes a database and the place of its tables."""
        with self.connect() as server:
            server.execute(f"DROP DATABASE {name} WITH (FORCE)")
            server.execute(f"DROP TABLESPACE {name}")


class OwnMariadb:
    """A MariaDB server of the test's own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.port = free_port()
        self.url = f"mariadb://root@127.0.0.1:{self.port}/larkmere"
        self._process: subprocess.Popen[bytes] | None = None
        own_folder(folder, "mysql")
        run_as("mysql", [
            "mariadb-install-db", "--no-defaults", f"--datadir={folder / 'data'}",
            "--auth-root-authentication-method=normal", "--skip-test-db",
            "--innodb-log-file-size=8M",
        ])  # fmt: skip

    @staticmethod
    def is_here() -> bool:
        """Whether it is installed."""
        return bool(shutil.which("mariadb-install-db")) and Path("/usr/sbin/mariadbd").exists()

    def start(self, *options: str) -> None:
        """Starts the server, which recovers first if it crashed."""
        before = ["runuser", "-u", "mysql", "--"] if os.geteuid() == 0 else []
        self._process = subprocess.Popen(
            [*before, "/usr/sbin/mariadbd", "--no-defaults", f"--datadir={self.folder / 'data'}",
             f"--port={self.port}", "--bind-address=127.0.0.1", "--innodb-log-file-size=8M",
             f"--socket={self.folder / 'socket'}", f"--pid-file={self.folder / 'pid'}",
             "--innodb-buffer-pool-size=16M", "--performance-schema=off", *options],
            cwd="/", stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip
        until = time.monotonic() + 40
        while True:
            with suppress(Exception):
                connection = self.connect(None)
                connection.cursor().execute(
                    "CREATE DATABASE IF NOT EXISTS larkmere CHARACTER SET utf8mb4"
                )
                connection.close()
                return
            assert time.monotonic() < until, "MariaDB does not answer"
            time.sleep(0.1)

    def connect(self, database: str | None = "larkmere") -> Any:
        """A connection that commits each statement."""
        import pymysql

        return pymysql.connect(
            host="127.0.0.1", port=self.port, user="root", database=database, autocommit=True,
            charset="utf8mb4", connect_timeout=10,
        )  # fmt: skip

    def crash(self) -> None:
        """Ends it without a word."""
        self._end(signal.SIGKILL)

    def stop(self) -> None:
        """Ends it properly: whoever is at work is told."""
        self._end(signal.SIGTERM)

    def _end(self, number: int) -> None:
        if self._process is None:
            return
        with suppress(OSError, ValueError):
            os.kill(int((self.folder / "pid").read_text()), number)
        if number == signal.SIGKILL:
            # Its pid file stays behind, and must not be taken for that of the next one.
            (self.folder / "pid").unlink(missing_ok=True)
        self._process.wait(30)
        self._process = None
