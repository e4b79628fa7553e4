"""A job's kinds of files, made ready for a plan, and what a plan says of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.core.units import plural, show_duration, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.tuning.model import Model
    from splarn.core.tuning.plan_file import Plan, PlannedKind


def kinds_of(context: Context, table: str) -> tuple[PlannedKind, ...]:
    """The kinds of the job, with their files as they are now and their layouts."""
    from splarn.core.inference.infer import infer_layout
    from splarn.core.layout.descriptor import read_layout
    from splarn.core.parameters import filled_in
    from splarn.core.source.files import find_files
    from splarn.core.source.places import is_url, key_of
    from splarn.core.tuning.plan_file import PlannedKind

    folder, found = context.job.folder.resolve(), []
    for called, one in context.job.kinds.items():
        where = f"In the job file {context.job.path}, kinds.{called}"
        texts = [filled_in(text, context.parameters, f"{where}.paths") for text in one.paths]
        paths = find_files(texts, folder)
        if one.layout:
            layout = read_layout(folder / one.layout)
        else:
            inferred = infer_layout(paths)
            layout = inferred.layout
            context.out.note(
                f"kinds.{called} has no layout: inferred one from "
                f"{plural(inferred.rows_sampled, 'row')}."
            )
        into = filled_in(one.table, context.parameters, f"{where}.table") if one.table else table
        written = tuple(text if is_url(text) else str(folder / text) for text in one.paths)
        found.append(PlannedKind(
            called, tuple(key_of(path) for path in paths), layout, into, dict(one.columns),
            tuple(one.leave_out), sum(path.stat().st_size for path in paths),
            written, one.table or table,
        ))  # fmt: skip
    return tuple(found)


def forecasts_by_table(
    plan: Plan, model: Model, sample: Mapping[str, Any], base: Path
) -> dict[str, dict[str, Any]]:
    """What the load of each table of a plan takes, where its files go into several."""
    from dataclasses import asdict

    from splarn.core.run.kinds import by_table, files_of
    from splarn.core.tuning.forecast import forecast
    from splarn.core.tuning.volume import volume_of

    parts = by_table(plan, base)
    told: dict[str, dict[str, Any]] = {}
    for part in parts if len(parts) > 1 else ():
        paths = [path for one in files_of(part, base) for path in one.paths]
        volume = volume_of(sample, paths, by_rows=True)
        one = forecast(model, [plan.configuration], volume, plan.prices)[0]
        told[part.table] = {"forecast": one.as_json(), "volume": asdict(volume)}
    return told


def describe_kinds(plan: Plan) -> list[dict[str, Any]]:
    """What of a delivery goes where, and how its rows are cast there.

    Raises RequestError where rows of a kind cannot go where they are to.
    """
    from splarn.core.run.kinds import by_table, files_of, parts_format

    told: list[dict[str, Any]] = []
    for part in by_table(plan, Path()) if plan.kinds else ():
        into = parts_format(part).layout(part.layout)
        for files in files_of(part, Path()):
            fitting = files.fitting(into)
            told.append({
                "name": _called(plan, part) if files.kind is None else files.kind.name,
                "files": len(files.paths), "bytes": files.bytes, "table": part.table,
                "casts": [] if fitting is None else list(fitting.casts),
                "seconds": part.forecast["seconds"]["median"],
            })  # fmt: skip
    return told


def say_kinds(out: Output, kinds: Sequence[dict[str, Any]]) -> None:
    """Each kind in a line, and what the forecast says of them."""
    if not kinds:
        return
    tables = {one["table"]: one["seconds"] for one in kinds}
    for one in kinds:
        cast = "; ".join(one["casts"])
        out.say(
            f"{one['name']}: {plural(one['files'], 'file')}, {show_size(one['bytes'])}, into "
            f"{one['table']}{f', where {cast}' if cast else ''}."
        )
    if len(tables) > 1:
        each = ", ".join(f"{table} {show_duration(seconds)}" for table, seconds in tables.items())
        out.say(f"One table after the other: {each}, {show_duration(sum(tables.values()))} in all.")
    out.note(
        "Kinds are forecast as if they were like the job's own files, of which the sweep had its "
        "sample; where several meet in a table, all are converted, which no trial did."
    )


def _called(plan: Plan, part: Plan) -> str:
    """What the first kind of a table is called."""
    if part.table == plan.table:
        return "The job's own files"
    return next(kind.name for kind in plan.kinds if kind.table == part.table)
