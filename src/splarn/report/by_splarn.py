"""A plan as Splarn's own commands, one stage after the other."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

from splarn.core.tuning.plan_file import Plan


def commands(plan: Plan, sources: Sequence[str], target: str) -> list[str]:
    """What carries a plan out by Splarn's own commands, one stage after the other.

    They are given in the runbook's folder, which holds the layout.
    """
    one = plan.configuration
    bad = plan.bad_rows
    limit = [] if bad.as_json() is None else ["--bad-row-limit", str(bad.as_json())]
    shape = [
        "shape", *sources, "--layout", "layout.json", "--into", "by-splarn",
        "--part-size", str(one.part_size), "--format", one.format, "--codec", str(one.packing),
        "--workers", str(one.workers), "--verify",
    ]  # fmt: skip
    if bad.count != 0 and one.format != plan.layout.format:
        shape += ["--rejects", "rejects"]
    told, parts = [shape], "by-splarn"
    if plan.depot:
        landing = f"{plan.depot.rstrip('/')}/{plan.id}"
        told.append(["ship", "by-splarn", "--to", landing,
                     "--streams", str(one.transfer_streams or one.load_streams)])  # fmt: skip
        parts = f"{landing}/datapackage.json"
    load = [
        "load", parts, "--to", target, "--table", plan.table, "--table-mode", plan.table_mode,
        "--streams", str(one.load_streams), "--batch-rows", str(one.batch_rows),
        "--durability", one.durability, "--indexes", one.indexes, "--route", one.route, "--yes",
    ]  # fmt: skip
    if bad.count != 0:
        load += ["--bad-rows", "set-aside", *limit]
    if "size" in plan.forecast["phases"]:
        load += ["--tier", one.tier]
    return [f"splarn {shlex.join(words)}" for words in (*told, load)]


def splarn_script(plan: Plan, lines: Sequence[str]) -> str:
    """The same as a shell script; each command goes on where it stopped when it is given again."""
    return f"""\
#!/usr/bin/env bash
# {plan.id}: {plan.table} by Splarn's own commands, one stage after the other.
# Given again it goes on where it stopped; `splarn undo last --to …` takes the load back.
set -euo pipefail
cd "$(dirname "$0")"

test -e by-splarn/datapackage.json || {chr(10).join(lines)}
"""
