"""How much a command says and the log that it keeps: options that every command takes."""

from __future__ import annotations

import inspect
import os
import sys
import time
from collections.abc import Callable, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_type_hints

import typer

if TYPE_CHECKING:
    from splarn.core.work.log import Log
    from splarn.core.work.progress import Lane

Quiet = Annotated[
    bool, typer.Option("--quiet", "-q", help="Say nothing but what fell short or went wrong.")
]
Verbose = Annotated[
    bool, typer.Option("--verbose", "-v", help="Say what each stage took, and what all took.")
]
LogFile = Annotated[
    Path | None,
    typer.Option("--log", metavar="FILE", help="Add what happens to this file, as JSON lines."),
]
OPTIONS = {"quiet": Quiet, "verbose": Verbose, "log": LogFile}


# Commands whose own events stand for these, and the last of those events.
TELL_THEMSELVES, ENDINGS = ("run",), ("end", "error")


class Voice:
    """What was asked for of the command that runs; `log` is None where none is kept."""

    def __init__(self) -> None:
        self.log: Log | None = None
        self._rest()

    def _rest(self) -> None:
        self.quiet = self.verbose = self._running = False
        self.log, self._begun, self._last = None, 0.0, ""

    def heard(self, what: str, told: dict[str, Any]) -> None:
        """Puts into the log what happened; secrets are taken out."""
        if self.log is not None:
            from splarn.core.source.secrets import hide_all

            self._last = what
            self.log.write(what, hide_all(told))

    def begin(self, name: str, quiet: bool, verbose: bool, log: Path | None) -> None:
        """A command begins; one that another runs speaks as that does.

        Raises RequestError for what excludes itself, OutsideError where the log cannot be written.
        """
        from splarn.core.errors import RequestError
        from splarn.version import __version__

        if self._running:
            return
        if quiet and verbose:
            raise RequestError("--quiet and --verbose exclude one another: give one of them.")
        self.quiet, self.verbose = quiet, verbose
        self._running, self._begun = True, time.perf_counter()
        if log is not None:
            from splarn.core.work.log import Log

            self.log = Log(log)
        # A run tells itself when it begins and ends, with more.
        if name not in TELL_THEMSELVES:
            self.heard("command", {"command": name, "version": __version__, "process": os.getpid()})

    def end(self, code: int, error: str = "") -> None:
        """A command has ended with an exit code, and maybe an error."""
        if not self._running:
            return
        seconds = time.perf_counter() - self._begun
        failed = {"error": error} if error else {}
        if self._last not in ENDINGS:
            self.heard("exit", {"exit_code": code, "seconds": round(seconds, 3), **failed})
        if self.verbose:
            print(_took(seconds), file=sys.stderr)
        if self.log is not None:
            self.log.close()
        self._rest()


VOICE = Voice()


def _took(seconds: float) -> str:
    """What a command took of this machine, its worker processes included."""
    from splarn.core.units import show_duration, show_size

    try:
        import resource
    except ImportError:
        return f"Took {show_duration(seconds)}."
    every = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    cores = sum(one.ru_utime + one.ru_stime for one in every)
    unit = 1 if sys.platform == "darwin" else 1024
    most = max(one.ru_maxrss for one in every) * unit
    return (
        f"Took {show_duration(seconds)}: {show_duration(cores)} of work of this machine's cores, "
        f"and at most {show_size(most)} of memory in a process."
    )


def with_voice(command: Callable[..., Any]) -> Callable[..., Any]:
    """A command that takes these options too, whatever it does."""
    hints = get_type_hints(command, include_extras=True)
    keyword = inspect.Parameter.KEYWORD_ONLY
    own = [
        one.replace(annotation=hints.get(name, one.annotation), kind=keyword)
        for name, one in inspect.signature(command).parameters.items()
    ]
    further = [
        inspect.Parameter(name, keyword, annotation=kind, default=usual)
        for (name, kind), usual in zip(OPTIONS.items(), (False, False, None), strict=True)
    ]

    @wraps(command)
    def run(**given: Any) -> Any:
        VOICE.begin(command.__name__, *(given.pop(name) for name in OPTIONS))
        return command(**given)

    parameters = [*own, *further]
    run.__annotations__ = {one.name: one.annotation for one in parameters}
    run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
    return run


class Told:
    """Progress in words and in the log: a line a stage, once it is over."""

    def __init__(self, say: Callable[[str], None], logged: bool = True) -> None:
        self._say = say
        self._heard = VOICE.heard if logged else lambda what, told: None
        self._label = self._unit = ""
        self._done = self._begun = 0.0

    def start(self, label: str, total: float | None, unit: str) -> None:
        """See Progress."""
        self.finish()
        self._label, self._unit, self._done = label, unit, 0.0
        self._begun = time.perf_counter()
        self._heard("stage_begins", {"stage": label, "total": total, "unit": unit})

    def advance(self, amount: float) -> None:
        """See Progress."""
        self._done += amount

    def lanes(self, lanes: Sequence[Lane]) -> None:
        """See Progress."""

    def tell(self, text: str) -> None:
        """See Progress."""
        VOICE.heard("note", {"text": text})

    def status(self, text: str) -> None:
        """See Progress."""

    def finish(self) -> None:
        """See Progress."""
        if not self._label:
            return
        seconds = time.perf_counter() - self._begun
        done = round(self._done, 3)
        self._heard(
            "stage_ends",
            {
                "stage": self._label,
                "amount": done,
                "unit": self._unit,
                "seconds": round(seconds, 4),
            },
        )
        self._say(_line(self._label, done, self._unit, seconds))
        self._label = ""


def _line(label: str, done: float, unit: str, seconds: float) -> str:
    from splarn.core.units import show_count, show_duration, show_size

    amount = ""
    if done:
        much = show_size(done) if unit == "bytes" else f"{show_count(done)} {unit}".rstrip()
        amount = f"{much} in "
    return f"{label}: {amount}{show_duration(seconds)}"


class Together:
    """Several that watch the same work; see Progress."""

    def __init__(self, watchers: Sequence[Any]) -> None:
        self.watchers = watchers

    def __getattr__(self, name: str) -> Callable[..., None]:
        def every(*given: Any) -> None:
            for one in self.watchers:
                getattr(one, name)(*given)

        return every
