"""The plan file: all that a run needs to carry a choice out, readable and editable."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from splarn.core.check.limit import BadRows
from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import from_descriptor, to_descriptor
from splarn.core.parameters import filled_in, refuse_unknown
from splarn.core.prices import Prices, make_prices
from splarn.core.target.seen import Seen
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.plan import Limits
from splarn.core.work.disk import write_text


@dataclass(frozen=True)
class PlannedKind:
    """Files of another layout than the plan's own, and how their rows go into a table.

    `bytes` are those of its files. Where it has parameters, `written` and `into` are its files and
    its table as the job has them.
    """

    name: str
    sources: tuple[str, ...]
    layout: Layout
    table: str
    columns: dict[str, str]
    leave_out: tuple[str, ...]
    bytes: int
    written: tuple[str, ...] = ()
    into: str = ""

    def as_json(self) -> dict[str, Any]:
        """As the plan file has it."""
        return {
            "name": self.name,
            "source": list(self.sources),
            "layout": to_descriptor(self.layout),
            "table": self.table,
            "columns": self.columns,
            "leave_out": list(self.leave_out),
            "bytes": self.bytes,
            "written": list(self.written),
            "into": self.into,
        }

    @classmethod
    def from_json(cls, document: dict[str, Any]) -> PlannedKind:
        """The reverse of `as_json`. Raises what a wrong value does."""
        where = f"kinds.{document['name']}"
        return cls(
            _text(document["name"], "kinds.name"),
            tuple(_text(one, f"{where}.source") for one in document["source"]),
            from_descriptor(document["layout"], where),
            _text(document["table"], f"{where}.table"),
            dict(document["columns"]),
            tuple(document["leave_out"]),
            int(document["bytes"]),
            tuple(document["written"]),
            document["into"],
        )


@dataclass(frozen=True)
class Plan:
    """Everything that `run` needs to carry the choice out, as kept in the plan file.

    `target` and `depot` are URLs as the user wrote them, their secrets still `${NAME}`; without a
    depot nothing is shipped. `layout_file` is where the layout was read, empty where it was
    inferred, and `seen` the target as it was then. `parameters` are the values that stand for those
    in `templates`: of the source, the depot and the table, by these names. `alternatives` are what
    else a run may change to, each a lever with its value and its forecast. `kinds` are files of
    other layouts that come with those of `sources`, and `tables` what each table's load is forecast
    to take, by its name, where they go into several.
    """

    id: str
    configuration: Configuration
    forecast: dict[str, Any]
    limits: Limits
    meets_limits: bool
    reasons: tuple[str, ...]
    sources: tuple[str, ...]
    layout: Layout
    target: str
    table: str
    table_mode: str
    bad_rows: BadRows
    volume: Volume
    source_bytes: int
    prices: Prices
    sweep: str
    depot: str = ""
    layout_file: str = ""
    seen: Seen = field(default_factory=Seen)
    parameters: dict[str, str] = field(default_factory=dict)
    templates: Templates = field(default_factory=lambda: Templates())
    alternatives: tuple[dict[str, Any], ...] = ()
    kinds: tuple[PlannedKind, ...] = ()
    tables: dict[str, dict[str, Any]] = field(default_factory=dict)

    @property
    def way(self) -> str | None:
        """The depot as trials know it, with the names of its parameters; None for none."""
        return self.templates.depot or self.depot or None

    def with_parameters(self, given: Mapping[str, str]) -> Plan:
        """The plan for other values of its parameters: another source, depot or table.

        Raises RequestError for a parameter that no template of the plan has.
        """
        templates = self.templates
        every = [text for kind in self.kinds for text in (*kind.written, kind.into)]
        refuse_unknown(given, (*templates.all, *every), f"the plan {self.id}")
        values = {**self.parameters, **given}
        if values == self.parameters:
            return self
        where = f"The plan {self.id}"
        called = re.sub(r"[^A-Za-z0-9_.-]+", "-", "-".join(values.values()))
        return replace(
            self,
            id=f"{self.id}-{called}",
            sources=tuple(filled_in(one, values, where) for one in templates.source),
            depot=filled_in(templates.depot, values, where),
            table=filled_in(templates.table, values, where),
            parameters=values,
            kinds=tuple(
                replace(
                    kind,
                    sources=tuple(filled_in(one, values, where) for one in kind.written),
                    table=filled_in(kind.into, values, where),
                )
                for kind in self.kinds
            ),
        )


@dataclass(frozen=True)
class Templates:
    """The source, depot and table of a job as they are written, paths made whole."""

    source: tuple[str, ...] = ()
    depot: str = ""
    table: str = ""

    @property
    def all(self) -> tuple[str, ...]:
        """Each of them."""
        return (*self.source, self.depot, self.table)


def write_plan(plan: Plan, path: str | Path) -> None:
    """Writes the plan file.

    Raises OutsideError when the disk refuses.
    """
    path = Path(path)
    document = {
        "splarn_plan": 1,
        "id": plan.id,
        "configuration": plan.configuration.as_json(),
        "forecast": plan.forecast,
        "limits": plan.limits.as_json(),
        "meets_limits": plan.meets_limits,
        "reasons": list(plan.reasons),
        "source": list(plan.sources),
        "layout": to_descriptor(plan.layout),
        "target": {
            "url": plan.target,
            "table": plan.table,
            "table_mode": plan.table_mode,
            "bad_row_limit": plan.bad_rows.as_json(),
        },
        "volume": asdict(plan.volume),
        "source_bytes": plan.source_bytes,
        "prices": plan.prices.model_dump(),
        "sweep": plan.sweep,
        "depot": plan.depot,
        "layout_file": plan.layout_file,
        "seen": asdict(plan.seen),
        "parameters": plan.parameters,
        "templates": asdict(plan.templates),
        "alternatives": list(plan.alternatives),
        "kinds": [kind.as_json() for kind in plan.kinds],
        "tables": plan.tables,
    }
    write_text(path, json.dumps(document, indent=1, ensure_ascii=False) + "\n")


def read_plan(path: str | Path) -> Plan:
    """Reads a plan file, which may have been edited by hand.

    Raises RequestError when it is missing or no plan, naming the key that is wrong.
    """
    path = Path(path)
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
        if document["splarn_plan"] != 1:
            raise RequestError(f"{path} was written by a newer Splarn: update Splarn.")
        target = document["target"]
        plan = Plan(
            id=_text(document["id"], "id"),
            configuration=_configuration(document["configuration"]),
            forecast=_forecast(document["forecast"]),
            limits=_limits(document["limits"]),
            meets_limits=bool(document["meets_limits"]),
            reasons=tuple(document["reasons"]),
            sources=tuple(_text(one, "source") for one in document["source"]),
            layout=from_descriptor(document["layout"], str(path)),
            target=_text(target["url"], "target.url"),
            table=_text(target["table"], "target.table"),
            table_mode=target["table_mode"],
            bad_rows=BadRows.read(target["bad_row_limit"]),
            volume=volume_from(document["volume"]),
            source_bytes=int(document["source_bytes"]),
            prices=make_prices(document["prices"], str(path)),
            sweep=document["sweep"],
            depot=document.get("depot", ""),
            layout_file=document.get("layout_file", ""),
            seen=Seen(**document.get("seen", {})),
            parameters=dict(document.get("parameters", {})),
            templates=_templates(document.get("templates", {})),
            alternatives=tuple(map(_alternative, document.get("alternatives", ()))),
            kinds=tuple(map(PlannedKind.from_json, document.get("kinds", ()))),
            tables={
                table: {"forecast": _forecast(told["forecast"]), "volume": told["volume"]}
                for table, told in document.get("tables", {}).items()
            },
        )
    except FileNotFoundError:
        raise RequestError(f"There is no plan {path}: write one with `splarn plan`.") from None
    except (OSError, AttributeError, KeyError, TypeError, ValueError) as error:
        raise RequestError(
            f"{path} is not a plan written by `splarn plan` ({type(error).__name__}: {error}): "
            "write a new one."
        ) from None
    except RequestError as error:
        raise RequestError(f"In the plan {path}, {str(error).rstrip('.')}.") from None
    if not plan.sources:
        raise RequestError(f"In the plan {path}, source names no file: write a new plan.")
    if re.fullmatch(r"[\w.-]+", plan.id) is None or plan.id.startswith("."):
        raise RequestError(
            f"In the plan {path}, the id {plan.id!r} cannot name a folder: write a new plan."
        )
    return plan


def _text(value: Any, key: str) -> str:
    if not isinstance(value, str) or not value:
        raise RequestError(f"{key} is {value!r}, and must be text in quotes.")
    return value


def _configuration(document: dict[str, Any]) -> Configuration:
    """The configuration, each lever with a value that it can have."""
    one = Configuration.from_json(document)
    for name, lever in LEVERS.items():
        value = getattr(one, name)
        wanted = int if lever.is_number else str
        if name != "packing" and (not isinstance(value, wanted) or isinstance(value, bool)):
            kind = "a whole number" if lever.is_number else "text in quotes"
            raise RequestError(f"configuration.{lever.key} is {value!r}, and must be {kind}.")
        lever.value(str(value) if name == "packing" else value, f"configuration.{lever.key}")
    return one


def _forecast(document: dict[str, Any]) -> dict[str, Any]:
    """The forecast, with the figures that a run is held against."""
    for key in ("seconds", "cost"):
        for figure in ("low", "median", "high"):
            if not float(document[key][figure]) >= 0:
                raise ValueError(f"forecast.{key}.{figure} is {document[key][figure]!r}")
    for phase, seconds in document["phases"].items():
        if not float(seconds) >= 0:
            raise ValueError(f"forecast.phases.{phase} is {seconds!r}")
    return document


def _limits(document: dict[str, Any]) -> Limits:
    ends = document.get("ends")
    return Limits(**{**document, "ends": None if ends is None else datetime.fromisoformat(ends)})


def _alternative(document: dict[str, Any]) -> dict[str, Any]:
    """What a run may change to, with figures that it can be judged by."""
    if document["lever"] not in ("load_streams", "tier"):
        raise ValueError(f"alternatives.lever is {document['lever']!r}")
    LEVERS[document["lever"]].value(document["value"], "alternatives.value")
    for key in ("seconds", "load", "cost"):
        if not float(document[key]) >= 0:
            raise ValueError(f"alternatives.{key} is {document[key]!r}")
    return document


def _templates(document: dict[str, Any]) -> Templates:
    return Templates(**{**document, "source": tuple(document.get("source", ()))})


def volume_from(document: dict[str, Any]) -> Volume:
    """A volume as the plan file has it. Raises TypeError for what is none."""
    # JSON knows no tuples.
    lists = {name: tuple(document.get(name, ())) for name in ("files", "pieces")}
    return Volume(**{**document, **lists})
