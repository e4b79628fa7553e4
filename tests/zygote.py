"""Runs the program again and again, each time in a process of its own that need not import anew.

Started once by whoever tests; reads a request a line (JSON: words, folder, environment), forks,
lets the child be the program, and answers with its exit code. What it prints goes into two files.
"""

from __future__ import annotations

import json
import os
import sys
import traceback
from importlib import import_module

from splarn.cli.app import PANELS
from splarn.core.work.arrow import spare_pandas

# What commands import when they need it. None of these starts threads that a fork would lose.
EARLY = (
    "splarn.cli.app", *(
        f"splarn.cli.{name}" for names in PANELS.values() for name in names
    ), "splarn.core.check.checking", "splarn.core.load",
    "splarn.core.tuning.forecast",
    "splarn.core.survey", "splarn.core.inference.infer", "splarn.core.layout.descriptor_model",
    "splarn.core.shape.shaper", "splarn.core.tuning.runner", "splarn.engines.sqlite.engine",
    "splarn.core.tuning.plan",
    "splarn.depots.http", "rich.table", "rich.padding", "httpx",
    "splarn.cli.main", "splarn.cli.context", "splarn.cli.costs", "splarn.core.run.flow",
    "splarn.core.run.noting", "splarn.core.work.machine", "splarn.core.unload",
    "splarn.engines.postgresql.engine", "splarn.engines.mariadb.engine",
    "splarn.engines.duckdb.engine", "splarn.engines.millrace.engine", "psycopg", "pymysql",
    "splarn.engines.lake.engine", "pyiceberg.catalog.sql", "pyiceberg.io.pyarrow",
    "duckdb", "sqlalchemy.dialects.postgresql.psycopg", "sqlalchemy.dialects.mysql.pymysql",
)  # fmt: skip


def main() -> None:
    """Serves until its input ends."""
    for name in EARLY:
        import_module(name)
    spare_pandas()
    for line in sys.stdin:
        request = json.loads(line)
        child = os.fork()
        if not child:
            os._exit(be_the_program(request))
        _, status = os.waitpid(child, 0)
        print(json.dumps({"code": os.waitstatus_to_exitcode(status)}), flush=True)


def be_the_program(request: dict[str, object]) -> int:
    """The child's life; returns its exit code."""
    try:
        os.chdir(str(request["folder"]))
        os.environ.clear()
        os.environ.update(request["environment"])  # type: ignore[call-overload]
        for stream, path in ((0, os.devnull), (1, request["out"]), (2, request["err"])):
            flags = os.O_RDONLY if stream == 0 else os.O_WRONLY | os.O_CREAT | os.O_TRUNC
            handle = os.open(str(path), flags, 0o600)
            os.dup2(handle, stream)
            os.close(handle)
        sys.stdin = open(0)  # noqa: SIM115
        sys.stdout = open(1, "w", closefd=False)  # noqa: SIM115
        sys.stderr = open(2, "w", closefd=False)  # noqa: SIM115
        words = request["words"]
        sys.argv = ["splarn", *words]  # type: ignore[misc]
        from splarn.cli.main import main as program

        program()
        return 0
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else int(bool(end.code))
    except BaseException:
        traceback.print_exc()
        return 70
    finally:
        sys.stdout.flush()
        sys.stderr.flush()


if __name__ == "__main__":
    main()
