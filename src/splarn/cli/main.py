"""The `splarn` command: runs what was typed and turns every error into one sentence."""

from __future__ import annotations

import gc
import json
import os
import sys
from typing import Any

from splarn.cli.misuse import misuse
from splarn.cli.plain import in_one_line, quiet_json
from splarn.core.source.secrets import hide, remember_named
from splarn.core.work.arrow import spare_pandas
from splarn.core.work.interrupts import listen, met

INTERRUPTED = 130


# Objects made before the next look for unused ones. What a command imports is never unused, and
# looking through all of it again and again takes a tenth of a short command's time.
FEW_LOOKS = 50_000


def main() -> None:
    """Runs the command line and exits with its code."""
    listen()
    gc.set_threshold(FEW_LOOKS, 20, 50)
    # NumPy's library of linear algebra keeps a thread on each core spinning, and has little to do.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    spare_pandas()
    try:
        code = run(sys.argv[1:])
    except KeyboardInterrupt:
        # It came while libraries were imported, or while something else was being told.
        code = _interrupted("--json" in sys.argv)
    # Nor is anything looked for while the process ends.
    gc.freeze()
    sys.exit(code)


def run(arguments: list[str]) -> int:
    """Runs one command line; returns the exit code."""
    told: list[str] = []
    code = INTERRUPTED
    try:
        code = _run(arguments, told)
        return code
    finally:
        # What was said of it last, where it failed.
        if "splarn.cli.voice" in sys.modules:
            sys.modules["splarn.cli.voice"].VOICE.end(code, *told[-1:])


def _run(arguments: list[str], told: list[str]) -> int:
    def fail(sentence: str, code: int) -> int:
        told.append(hide(sentence))
        return _fail(sentence, code, as_json)

    debug = "--debug" in arguments or bool(os.environ.get("SPLARN_DEBUG"))
    arguments = [argument for argument in arguments if argument != "--debug"]
    for argument in arguments:
        remember_named(argument)
    as_json = "--json" in arguments
    # Splarn has no plug-ins of pydantic; looking for some means reading about every package.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    import typer

    from splarn.core.errors import SplarnError

    # What Typer raises for any misuse; it has no public name of its own.
    usage_error: Any = typer.BadParameter.__base__
    try:
        from splarn.cli.app import application

        code = application(arguments)(arguments, prog_name="splarn", standalone_mode=False)
        # Typer itself turns an interrupt into this code.
        if code == INTERRUPTED:
            return _interrupted(as_json)
        return code if isinstance(code, int) else 0
    except SplarnError as error:
        if debug:
            raise
        return fail(str(error), error.exit_code)
    except typer.Exit as error:
        return error.exit_code
    except usage_error as error:
        return fail(misuse(error, arguments), 2)
    except (typer.Abort, KeyboardInterrupt):
        return _interrupted(as_json)
    except BrokenPipeError:
        # Whoever read our output has gone; there is nobody to tell.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        if debug:
            raise
        words = f"{type(error).__name__}: {error}".splitlines()[0]
        return fail(
            f"Splarn itself failed ({words}): run the command again with --debug and report what "
            "it prints.",
            3,
        )


def _interrupted(as_json: bool) -> int:
    met()
    sentence = "Interrupted; what was committed stays, and the same command goes on from there."
    return _fail(sentence, INTERRUPTED, as_json)


def _fail(sentence: str, code: int, as_json: bool) -> int:
    if as_json:
        document = {"error": hide(sentence), "exit_code": code}
        print(quiet_json(json.dumps(document, ensure_ascii=False)))
    print(f"splarn: {in_one_line(sentence)}", file=sys.stderr)
    return code
