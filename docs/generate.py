"""Writes docs/reference.md and docs/schemas from the program: `python docs/generate.py`."""

from __future__ import annotations

import dataclasses
import importlib.util
import inspect
import json
import os
import re
from pathlib import Path
from typing import Any

import typer
from pydantic import BaseModel

from splarn.cli.app import PANELS, application
from splarn.cli.help import command_help
from splarn.core.job import Job
from splarn.core.prices import Prices
from splarn.core.tuning.configuration import LEVERS
from splarn.engines.described.description import Description

HERE = Path(__file__).parent


def beside(name: str) -> Any:
    """A module of this folder, which is no package."""
    spec = importlib.util.spec_from_file_location(name, HERE / f"{name}.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


_documents = beside("documents")
DOCUMENTS, page, schema_of_document = _documents.DOCUMENTS, _documents.page, _documents.schema_of
WIDTH = 96
BEGIN = """\
# Reference

Written from the program itself by `python docs/generate.py`, and held to it by a test.

"""
CODES = """\
## Exit codes

| code | means |
|---:|---|
| 0 | done |
| 1 | done, but the data or the limits fell short (below) |
| 2 | the request is wrong: an option, the job file, a layout, a plan |
| 3 | something outside failed: a target that is silent, a full disk, a depot that refuses |
| 130 | interrupted; the same command goes on |

What fell short is a bad row where none is allowed, more rejects than the limit, a table that
differs, faults in a check, or that no configuration keeps the limits.

An error is one sentence on standard error. With `--json` it is also the document on standard
output: `{"error": "…", "exit_code": 2}`.
"""


def commands() -> str:
    """The help of every command, as `splarn help COMMAND` says it."""
    # The same wherever it is written.
    os.environ |= {"COLUMNS": str(WIDTH), "NO_COLOR": "1"}
    group: Any = typer.main.get_command(application())
    root = typer.Context(group, info_name="splarn", terminal_width=WIDTH)
    lines = []
    for panel, names in PANELS.items():
        lines.append(f"## {panel}\n")
        for name in names:
            command = group.get_command(root, name)
            inner = typer.Context(command, parent=root, info_name=name, terminal_width=WIDTH)
            text = command_help(command, inner)
            plain = re.sub(r"\x1b\[[0-9;]*m", "", text)
            lines.append(f"### {name}\n\n```text\n{plain.strip()}\n```\n")
    return "\n".join(lines)


def without_own(document: dict[str, Any]) -> dict[str, Any]:
    """A schema without what the program puts in by itself."""
    for name in ("folder", "path"):
        document["properties"].pop(name, None)
    return document


def schema_of(model: type[BaseModel], title: str, name: str) -> dict[str, Any]:
    """A JSON Schema of what a person may write."""
    document = without_own(model.model_json_schema())
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": f"https://splarn.example/schemas/{name}",
        **document,
        "title": title,
    }


def span(words: str) -> dict[str, Any]:
    """A median with its 90 % interval."""
    return section(words, {
        "low": number("A twentieth is less."), "median": number("Half is less."),
        "high": number("A twentieth is more."),
    })  # fmt: skip


def section(words: str, properties: dict[str, Any]) -> dict[str, Any]:
    """An object of these keys; programs may add others."""
    return {"type": "object", "description": words, "properties": properties}


def number(words: str) -> dict[str, Any]:
    """A number that is not negative."""
    return {"type": "number", "minimum": 0, "description": words}


def text(words: str) -> dict[str, Any]:
    """A text."""
    return {"type": "string", "description": words}


def plan_schema() -> dict[str, Any]:
    """What a plan file holds that a person may look at or edit."""
    levers = {
        one.key: {
            "type": "integer" if one.is_number else "string",
            "description": one.help.partition(", as ")[0].rstrip(".") + ".",
        }
        for one in LEVERS.values()
    }
    levers["level"] = {"type": ["integer", "null"], "description": "The codec's level."}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": "https://splarn.example/schemas/plan.schema.json",
        **section("What `splarn run` carries out.", {
            "splarn_plan": {"const": 1, "description": "The version of this form."},
            "id": text("What the ledger calls it."),
            "configuration": section("What is done with what: may be edited.", levers),
            "forecast": section("What it was expected to take.", {
                "seconds": span("All stages at the same time."), "cost": span("In the currency."),
                "phases": {"type": "object", "description": "Seconds of each stage alone.",
                           "additionalProperties": number("Seconds.")},
            }),
            "limits": section("What it must keep.", {
                "deadline": {"type": ["number", "null"], "description": "Seconds."},
                "budget": {"type": ["number", "null"], "description": "Money."},
                "confidence": number("The chance asked for."),
                "ends": {"type": ["string", "null"], "description": "When it must have ended."},
            }),
            "meets_limits": {"type": "boolean", "description": "Whether it was forecast to."},
            "reasons": {"type": "array", "items": {"type": "string"},
                        "description": "Why this configuration."},
            "source": {"type": "array", "items": {"type": "string"}, "minItems": 1,
                       "description": "The files."},
            "layout": {"type": "object", "description": "How they read."},
            "target": section("Where to.", {
                "url": text("Secrets as ${NAME}."), "table": text("Its table."),
                "table_mode": {"enum": ["create", "append", "empty", "replace"],
                               "description": "What becomes of rows that are there."},
                "bad_row_limit": {"description": "How many may be set aside; null for any."},
            }),
            "volume": {"type": "object", "description": "Unpacked bytes, and rows."},
            "source_bytes": number("Bytes of the files, on disk."),
            "prices": {"type": "object", "description": "The price list."},
            "sweep": text("What it was learnt from."),
            "depot": text("Where parts are shipped first; empty for nowhere."),
            "layout_file": text("Where the layout was read."),
            "seen": {"type": "object", "description": "The target as it was."},
            "parameters": {"type": "object", "description": "Values of --set, by name."},
            "templates": {"type": "object", "description": "What has the parameters."},
            "alternatives": {"type": "array", "description": "What a run may change to.", "items":
                section("One lever with another value.", {
                    "lever": {"enum": ["load_streams", "tier"], "description": "Which lever."},
                    "value": {"description": "Its value."}, "seconds": number("All of it."),
                    "load": number("Loading alone."), "size": number("Changing the compute."),
                    "cost": number("All of it."),
                })},
            "kinds": {"type": "array", "description": "Files of other layouts."},
            "tables": {"type": "object", "description": "The forecast of each of several tables."},
        }),
        "required": ["splarn_plan", "id", "configuration", "forecast", "source", "target"],
        "title": "Splarn plan",
    }  # fmt: skip


def keys(document: dict[str, Any]) -> str:
    """A table of a schema's keys, sections within sections."""
    defined = document.get("$defs", {})
    lines = ["| key | is | unless given | |", "|---|---|---|---|"]

    def put(properties: dict[str, Any], before: str) -> None:
        for name, one in properties.items():
            further = one.get("additionalProperties")
            inner = one.get("$ref") or (further.get("$ref") if isinstance(further, dict) else None)
            if inner:
                named = f"{before}{name}" if "$ref" in one else f"{before}{name}.NAME"
                put(defined[inner.rpartition("/")[2]]["properties"], f"{named}.")
                continue
            usual = json.dumps(one["default"], ensure_ascii=False) if "default" in one else ""
            usual = "" if usual in ("null", "{}") else f"`{usual}`"
            lines.append(
                f"| `{before}{name}` | {kind(one)} | {usual} | {one.get('description', '')} |"
            )

    put(document["properties"], "")
    return "\n".join(lines) + "\n"


def kind(one: dict[str, Any]) -> str:
    """What a value must be, in words."""
    if "enum" in one:
        return " or ".join(f'"{value}"' for value in one["enum"])
    if "anyOf" in one:
        told = [kind(each) for each in one["anyOf"] if each.get("type") != "null"]
        return " or ".join(dict.fromkeys(told))
    if one.get("type") == "array":
        return f"list of {kind(one.get('items', {}))}"
    words = {"string": "text", "integer": "whole number", "number": "number", "object": "section"}
    return words.get(str(one.get("type")), "value")


def everything() -> dict[Path, str]:
    """What each file should hold."""
    job = schema_of(Job, "Splarn job file", "job.schema.json")
    prices = schema_of(Prices, "Splarn price list", "prices.schema.json")
    engine = schema_of(Description, "Splarn engine's description", "engine.schema.json")
    text = (
        BEGIN + commands() + "\n## The job file\n\n`splarn.toml`; its schema for editors is "
        "[job.schema.json](schemas/job.schema.json).\n\n" + keys(job)
        + "\n## The price list\n\nA TOML file that the job names; its schema is "
        "[prices.schema.json](schemas/prices.schema.json).\n\n" + keys(prices)
        + "\n## The plan\n\nA JSON file, readable and editable; its schema is "
        "[plan.schema.json](schemas/plan.schema.json).\n\n"
        + "## The description of an engine\n\nA TOML file that a target `described:FILE` names; "
        "its schema is [engine.schema.json](schemas/engine.schema.json), and [Describe your "
        "engine](describe-your-engine.md) the guide to it.\n\n" + keys(engine) + "\n" + CODES
    )  # fmt: skip
    schemas = {"job": job, "prices": prices, "plan": plan_schema(), "engine": engine}
    documents = {
        f"documents/{name.replace(' ', '').replace('--', '-').replace(',', '-')}": {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            **schema_of_document(shape),
            "title": f"splarn {name} --json",
        }
        for name, shape in DOCUMENTS.items()
    }
    schemas |= documents
    return {
        HERE / "reference.md": text,
        HERE / "documents.md": page(),
        HERE / "library-reference.md": library(),
    } | {
        HERE / f"schemas/{name}.schema.json": json.dumps(one, indent=1, ensure_ascii=False) + "\n"
        for name, one in schemas.items()
    }


LIBRARY = """\
# Library reference

Every public name of `splarn`, `splarn.frames` and `splarn.figures`, written from the package itself
by `python docs/generate.py` and held to it by a test.
[The guide](as-a-library.md) shows them at work.

"""


def described(name: str, found: Any) -> str:
    """A function with its signature, or a class with what it holds, and what it says of itself."""
    text = inspect.getdoc(found) or ""
    if inspect.isclass(found):
        made = dataclasses.fields(found) if dataclasses.is_dataclass(found) else ()
        head = "\n".join(f"{one.name}: {plain_type(one.type)}" for one in made)
        shown = [
            each for each, one in vars(found).items()
            if not each.startswith("_") and (inspect.isfunction(one) or isinstance(one, property))
            and inspect.getdoc(one)
        ]  # fmt: skip
        methods = "".join(
            f"- `{each}`: {' '.join((inspect.getdoc(getattr(found, each)) or '').split())}\n"
            for each in shown
        )
        text += f"\n\n{methods}" if methods else ""
    else:
        taken = inspect.signature(found)
        pieces, star = [], False
        for one in taken.parameters.values():
            if one.kind is one.KEYWORD_ONLY and not star:
                pieces.append("*")
                star = True
            usual = "" if one.default is one.empty else f" = {plain_default(one.default)}"
            before = "**" if one.kind is one.VAR_KEYWORD else ""
            pieces.append(f"{before}{one.name}: {plain_type(one.annotation)}{usual}")
        inner = "".join(f"    {piece},\n" for piece in pieces)
        head = f"{name}(\n{inner}) -> {plain_type(taken.return_annotation)}"
    block = f"```text\n{head}\n```\n\n" if head else ""
    return f"### {name}\n\n{block}{text.strip()}\n"


def plain_type(kind: Any) -> str:
    """A type as it is written."""
    return kind if isinstance(kind, str) else getattr(kind, "__name__", str(kind))


def plain_default(value: Any) -> str:
    """A default as a person would write it."""
    return type(value).__name__ + "()" if dataclasses.is_dataclass(value) else repr(value)


def library() -> str:
    """The reference of the library."""
    import splarn
    from splarn import figures, frames

    named = [one for one in splarn.__all__ if one != "__version__"]
    functions = [one for one in named if inspect.isfunction(getattr(splarn, one))]
    others = [one for one in named if one not in functions]
    lines = [LIBRARY + "## Functions\n"]
    lines += [described(one, getattr(splarn, one)) for one in functions]
    lines.append("## Objects\n")
    lines += [described(one, getattr(splarn, one)) for one in others]
    lines.append("## splarn.frames\n")
    lines += [described(one, getattr(frames, one)) for one in frames.__all__]
    lines.append("## splarn.figures\n")
    lines.append("Each takes axes, a decision and colours (`LIGHT`, `DARK`).\n")
    lines += [
        f"- `{one}`: {' '.join((inspect.getdoc(getattr(figures, one)) or '').split())}"
        for one in figures.__all__ if one not in ("LIGHT", "DARK")
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def main() -> None:
    """Writes all of it."""
    for path, text in everything().items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
