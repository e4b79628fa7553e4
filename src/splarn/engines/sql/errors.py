"""What drivers raise, as sentences: whose fault it was, and what to do."""

from __future__ import annotations

import re
from typing import Any

from splarn.core.errors import OutsideError, RefusedError


def refused(doing: str, what: str, place: str, error: Exception) -> OutsideError:
    """The error for an engine's refusal."""
    why = reason(error)
    # Only where rows were on their way is there a batch to speak of.
    open_batch = doing in ("Writing to", "Committing to")
    kept = "nothing of the open batch was kept" if open_batch else "what was committed stays"
    sentence = f"{doing} {what} failed in {place}: {why}; {kept}."
    if doing == "Reading":
        # Rows that go out change nothing there.
        sentence = f"{doing} {what} failed in {place}: {why}."
    if is_lost(getattr(error, "orig", None) or error):
        sentence = f"{sentence[:-1]}, and the same command goes on when {place} answers again."
    elif _is_full(why):
        sentence = f"{sentence[:-1]}: free some space there, then the same command goes on."
    if _is_refusal(getattr(error, "orig", None) or error):
        return RefusedError(sentence, why)
    return OutsideError(sentence)


_STATE = re.compile(r"[0-9A-Z]{5}")


def reason(error: BaseException) -> str:
    """The first line of what a driver says, without SQL, addresses of manuals or secrets."""
    cause = getattr(error, "orig", None) or error
    if len(cause.args) == 2 and (
        isinstance(cause.args[0], int) or _STATE.fullmatch(str(cause.args[0]))
    ):
        # MariaDB's drivers give a number and a sentence, those by ODBC an SQLSTATE.
        cause = Exception(cause.args[1])
    lines = [line.strip() for line in str(cause).splitlines() if line.strip()]
    text = lines[0] if lines else "the connection is closed"
    return text.removeprefix("(").rstrip(".")


# What drivers call it when rows are to blame rather than the server or the statement.
_REFUSALS = {
    "IntegrityError",
    "DataError",
    "ConstraintException",
    "ConversionException",
    "OutOfRangeException",
}


def _is_refusal(error: BaseException) -> bool:
    return any(kind.__name__ in _REFUSALS for kind in type(error).__mro__)


def _is_full(why: str) -> bool:
    """Whether the server's disk has no room left, in the words of any of the engines."""
    words = ("no space left", "disk full", "disk is full", "' is full", "out of disk")
    return any(word in why.lower() for word in words)


def is_crowded(why: str) -> bool:
    """Whether a server has no connection left for us, in the words of any of the engines."""
    words = ("too many clients", "too many connections", "slots are reserved")
    return any(word in why.lower() for word in words)


def is_lost(error: BaseException) -> bool:
    """Whether the connection broke, rather than the server having refused."""
    kind, module = type(error).__name__, type(error).__module__.split(".")[0]
    if module == "psycopg":
        state = getattr(error, "sqlstate", None) or ""
        # Without a state the server said nothing; 08 and 57P are its words for going away.
        gone = not state or state.startswith(("08", "57P"))
        return gone and isinstance(error, (_psycopg().OperationalError, _psycopg().InterfaceError))
    if module == "pymysql":
        # The client's own numbers begin at 2000.
        number = error.args[0] if error.args else 0
        return kind == "InterfaceError" or (isinstance(number, int) and 2000 <= number < 3000)
    if isinstance(error, OSError):
        return True
    # Of a driver that is not known here, by the names and words that all of them use.
    text = str(error).lower()
    return kind in ("OperationalError", "InterfaceError") and any(
        word in text for word in ("connection", "closed", "broken pipe", "gone away", "reset by")
    )


def _psycopg() -> Any:
    import psycopg

    return psycopg


# The packages whose errors are those of drivers; descriptions name further ones.
DRIVERS = {"sqlite3", "psycopg", "pymysql", "duckdb", "_duckdb"}


def from_driver(error: Exception) -> bool:
    """Whether a driver raised it."""
    return _package(type(error).__module__) in DRIVERS


def add_driver(module: str) -> None:
    """Takes what the package of a module raises for a driver's from now on."""
    DRIVERS.add(_package(module))


def _package(module: str) -> str:
    """Of our own, each module is one: a stand-in's errors are a driver's, and no others are."""
    package = module.partition(".")[0]
    return module if package == "splarn" else package
