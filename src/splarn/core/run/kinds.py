"""A delivery of several kinds of files: what goes into which table, and how its rows are cast."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Field, Layout
from splarn.core.reading.sources import OtherColumns, other_columns
from splarn.core.shape.fitting import Fitting, fitting_of
from splarn.core.shape.folder import part_name
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.source.files import find_files
from splarn.core.source.places import Place, key_of
from splarn.core.target.seen import Seen
from splarn.core.tuning.plan_file import Plan, PlannedKind, volume_from

# What kinds are called whose files only have other columns than the plan's own.
OTHERWISE = "columns-"


@dataclass(frozen=True)
class KindFiles:
    """Files of one layout; `kind` is None for those of the plan's own."""

    paths: tuple[Place, ...]
    layout: Layout
    kind: PlannedKind | None = None

    @property
    def bytes(self) -> int:
        """Their size on disk."""
        return sum(path.stat().st_size for path in self.paths)

    @property
    def named(self) -> tuple[str, ...]:
        """They by their names, whole."""
        return tuple(
            key_of(path.resolve() if isinstance(path, Path) else path) for path in self.paths
        )

    @property
    def planned_bytes(self) -> int | None:
        """Their size when they were planned, where the plan has it by kinds."""
        return None if self.kind is None else self.kind.bytes

    def fitting(self, into: Layout) -> Fitting | None:
        """How its rows go into a layout, None where they are of it. Raises RequestError."""
        if self.kind is None:
            return None
        kind = self.kind
        where = f"kinds.{kind.name}"
        return fitting_of(self.layout, into, kind.columns, kind.leave_out, where)


def files_of(plan: Plan, base: Path) -> list[KindFiles]:
    """The files of a plan by kind, its own first; a file that a kind names is of that kind.

    Raises RequestError where there are none, or two kinds name the same file.
    """
    found, claimed = [], dict[Place, str]()
    for kind in plan.kinds:
        paths = tuple(find_files(kind.sources, base))
        for path in paths:
            if path in claimed:
                raise RequestError(
                    f"{path} is of the kinds {claimed[path]} and {kind.name}: let one name it."
                )
            claimed[path] = kind.name
        found.append(KindFiles(paths, kind.layout, kind))
    own = tuple(path for path in find_files(plan.sources, base) if path not in claimed)
    if not own and not any(kind.name.startswith(OTHERWISE) for kind in plan.kinds):
        raise RequestError(
            "All of the plan's files are of other kinds: leave some to source.paths, or make one "
            "of the kinds the job's own source."
        )
    return [KindFiles(own, plan.layout), *found]


def taken_apart(plan: Plan, base: Path) -> tuple[Plan, list[tuple[Place, OtherColumns]]]:
    """A plan whose files with columns that come or go are kinds of their own, and those files.

    What they lack is null in the table, what they add goes nowhere.
    Raises RequestError for a file that lacks what must not be missing.
    """
    known = {field.name: field for field in plan.layout.fields}
    apart: dict[tuple[str, ...], list[Place]] = {}
    found = []
    for path in files_of(plan, base)[0].paths:
        other = other_columns(path, plan.layout)
        if other is not None and (other.lacks or other.adds):
            needed = next((name for name in other.lacks if known[name].required), None)
            if needed is not None:
                raise RequestError(
                    f"{path} lacks {needed!r}, which must not be missing: mend the file, or infer "
                    "a layout for it with `splarn layout`."
                )
            found.append((path, other))
            apart.setdefault(other.names, []).append(path)
    kinds = []
    for number, (names, paths) in enumerate(apart.items(), 1):
        files = KindFiles(tuple(paths), plan.layout)
        fields = tuple(known.get(name, Field(name)) for name in names)
        kinds.append(
            PlannedKind(
                f"{OTHERWISE}{number}", files.named, replace(plan.layout, fields=fields),
                plan.table, {}, tuple(name for name in names if name not in known), files.bytes,
            )
        )  # fmt: skip
    size = plan.source_bytes - sum(kind.bytes for kind in kinds)
    return replace(plan, kinds=(*plan.kinds, *kinds), source_bytes=max(size, 0)), found


def parts_format(plan: Plan, sets_aside: bool = True) -> PartsFormat:
    """How parts are written: all in the standard form where kinds meet in a table.

    So are those for an engine that sets no rows aside, which leaves bad ones behind.
    """
    one = plan.configuration
    converted = bool(plan.kinds) or not sets_aside
    return PartsFormat(one.format, one.packing, one.part_size, converted=converted)


def name_of(kind: PlannedKind) -> str:
    """What the parts of a kind are called."""
    return part_name(f"{kind.layout.name}-{kind.name}")


def by_table(plan: Plan, base: Path) -> list[Plan]:
    """A plan for each table that a plan's files go into, each with its share of the forecast.

    All of them name the files that there are now, each one by one.
    Raises RequestError for a kind with a table of its own that says how its rows are cast there,
    and as `files_of` does.
    """
    if not plan.kinds:
        return [plan]
    own_files, *others = files_of(plan, base)
    plan = replace(
        plan,
        sources=own_files.named,
        kinds=tuple(replace(one.kind, sources=one.named) for one in others if one.kind),
    )
    tables: dict[str, list[PlannedKind]] = {}
    for kind in plan.kinds:
        tables.setdefault(kind.table, []).append(kind)
    total = plan.source_bytes + sum(kind.bytes for kind in plan.kinds)
    own = tuple(tables.pop(plan.table, ()))
    if not tables:
        return [plan]
    size = plan.source_bytes + sum(kind.bytes for kind in own)
    plans = [replace(_share(plan, plan.table, size / max(total, 1)), kinds=own)]
    for table, (first, *rest) in tables.items():
        if first.columns or first.leave_out:
            raise RequestError(
                f"kinds.{first.name} is the first of the table {table}, whose columns are its own: "
                "leave out columns and leave_out there, and say them in its layout."
            )
        size = first.bytes + sum(kind.bytes for kind in rest)
        plans.append(
            replace(
                _share(plan, table, size / max(total, 1)),
                id=f"{plan.id}-{part_name(table)}",
                sources=first.sources,
                layout=first.layout,
                layout_file="",
                table=table,
                source_bytes=first.bytes,
                seen=Seen(),
                kinds=tuple(rest),
                templates=replace(plan.templates, source=first.written, table=first.into),
            )
        )
    return plans


def _share(plan: Plan, table: str, share: float) -> Plan:
    """A plan with what is forecast of one of its tables, or else with so great a share."""
    told = plan.tables.get(table)
    if told is None:
        told = {
            "forecast": scaled(plan.forecast, share),
            "volume": scaled(asdict(plan.volume), share),
        }
    load = plan.forecast["phases"].get("load", 0.0)
    smaller = told["forecast"]["phases"].get("load", 0.0) / load if load else share
    others = tuple(
        {key: value if key in ("lever", "value") else value * smaller for key, value in one.items()}
        for one in plan.alternatives
    )
    return replace(
        plan, volume=volume_from(told["volume"]), forecast=told["forecast"], alternatives=others
    )


def scaled(told: Any, by: float) -> Any:
    """All figures of a forecast times a factor."""
    if isinstance(told, Mapping):
        return {
            key: scaled(value, by) if key != "configuration" else value
            for key, value in told.items()
        }
    if isinstance(told, (list, tuple)):
        return type(told)(scaled(one, by) for one in told)
    return told * by if isinstance(told, float) else told
