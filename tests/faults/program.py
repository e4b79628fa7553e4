"""The program in a process group of its own, forked from one that has its imports done."""

from __future__ import annotations

import json
import os
import signal
import sys
import time
import traceback
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

# No command may take longer, whatever happens to it.
LONGEST = 60.0


class HangError(AssertionError):
    """A command that did not end."""


@dataclass(frozen=True)
class Ended:
    """How a command ended; a negative code is the signal that ended it."""

    words: tuple[str, ...]
    code: int
    out: str
    err: str

    @property
    def said(self) -> str:
        """All that it printed."""
        return self.out + self.err

    @property
    def json(self) -> dict[str, Any]:
        """The document on its standard output; empty where there is none."""
        lines = [line for line in self.out.splitlines() if line.startswith("{")]
        return dict(json.loads(lines[-1])) if lines else {}


class Running:
    """A command that was begun."""

    def __init__(self, words: tuple[str, ...], folder: Path, env: dict[str, str] | None) -> None:
        self.words = words
        notes = folder / ".notes"
        notes.mkdir(exist_ok=True)
        mark = f"{time.monotonic_ns()}"
        self._out, self._err = notes / f"{mark}.out", notes / f"{mark}.err"
        self.begun = time.monotonic()
        self._code: int | None = None
        sys.stdout.flush()
        sys.stderr.flush()
        self.pid = os.fork()
        if not self.pid:
            self._be(folder, env or {})

    def _be(self, folder: Path, env: dict[str, str]) -> None:
        code = 70
        try:
            os.setsid()
            os.chdir(folder)
            os.environ.update({"COLUMNS": "100", **env})
            for stream, path, flags in (
                (0, os.devnull, os.O_RDONLY),
                (1, str(self._out), os.O_WRONLY | os.O_CREAT),
                (2, str(self._err), os.O_WRONLY | os.O_CREAT),
            ):
                handle = os.open(path, flags, 0o600)
                os.dup2(handle, stream)
                os.close(handle)
            sys.stdin = open(0)  # noqa: SIM115
            sys.stdout = open(1, "w", closefd=False)  # noqa: SIM115
            sys.stderr = open(2, "w", closefd=False)  # noqa: SIM115
            sys.argv = ["splarn", *self.words]
            from splarn.cli.main import run

            code = run(list(self.words))
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 70
        except BaseException:
            traceback.print_exc()
        finally:
            with suppress(Exception):
                sys.stdout.flush()
                sys.stderr.flush()
            os._exit(code)

    def heard(self) -> str:
        """The first line on its standard output, empty until it is whole."""
        text = self._out.read_text() if self._out.exists() else ""
        return text.partition("\n")[0] if "\n" in text else ""

    def poll(self) -> int | None:
        """The exit code, None while it runs."""
        if self._code is None:
            found, status = os.waitpid(self.pid, os.WNOHANG)
            if found:
                self._code = os.waitstatus_to_exitcode(status)
                # Workers that it left behind end by themselves; a test must not wait for that.
                with suppress(ProcessLookupError, PermissionError):
                    os.killpg(self.pid, signal.SIGKILL)
        return self._code

    def kill(self, number: int = signal.SIGKILL) -> None:
        """Ends the whole process group."""
        with suppress(ProcessLookupError):
            os.killpg(self.pid, number)

    def wait(self, seconds: float = LONGEST) -> Ended:
        """Waits for its end. Raises HangError after so many seconds."""
        until = time.monotonic() + seconds
        pause = 0.005
        while self.poll() is None:
            if time.monotonic() > until:
                self.kill()
                time.sleep(0.2)
                self.poll()
                raise HangError(f"{' '.join(self.words)} took more than {seconds:.0f} s")
            time.sleep(pause)
            pause = min(pause * 1.3, 0.05)
        assert self._code is not None
        return Ended(self.words, self._code, self._out.read_text(), self._err.read_text())

    def kill_after(self, seconds: float) -> Ended | None:
        """Lets it run so long, then kills it; how it ended if it did so before."""
        until = self.begun + seconds
        while time.monotonic() < until:
            if self.poll() is not None:
                return self.wait()
            time.sleep(0.004)
        self.kill()
        self.wait()
        return None


def splarn(folder: Path, *words: object, env: dict[str, str] | None = None) -> Ended:
    """Runs a command to its end."""
    return Running(tuple(map(str, words)), folder, env).wait()


def begin(folder: Path, *words: object, env: dict[str, str] | None = None) -> Running:
    """Begins a command."""
    return Running(tuple(map(str, words)), folder, env)


def until_done(
    folder: Path, *words: object, tries: int = 8, env: dict[str, str] | None = None
) -> Ended:
    """Gives the same command again and again until it ends with 0, as people's loops do."""
    for _ in range(tries):
        ended = splarn(folder, *words, env=env)
        if ended.code == 0:
            return ended
        if ended.code == 3:
            # A server may still be ending what a killed client had begun.
            time.sleep(0.3)
    raise AssertionError(f"{' '.join(map(str, words))} does not end well: {ended.said[-600:]}")
