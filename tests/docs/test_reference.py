"""The reference and the schemas are what the program says now."""

from __future__ import annotations

import importlib.util
import json
import re
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import pytest

from splarn.cli.app import PANELS
from splarn.demo.walk import JOB, PRICES
from tests.cli.home import LAYOUT
from tests.cli.plans import plan_of
from tests.conftest import _documents

DOCS = Path(__file__).parents[2] / "docs"


def test_the_reference_is_what_the_program_says(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", "80")
    monkeypatch.setenv("NO_COLOR", "1")
    found = importlib.util.spec_from_file_location("generate", DOCS / "generate.py")
    assert found is not None
    assert found.loader is not None
    generate = importlib.util.module_from_spec(found)
    found.loader.exec_module(generate)
    for path, text in generate.everything().items():
        assert path.read_text(encoding="utf-8") == text, (
            f"{path.name} is not what the program says: run python docs/generate.py"
        )


def known(schema: dict[str, Any], document: dict[str, Any], where: str = "") -> list[str]:
    """The keys of a document that a schema does not have."""
    wrong: list[str] = []
    every = schema.get("properties", {})
    for key, value in document.items():
        one = every.get(key)
        if one is None:
            wrong.append(f"{where}{key}")
            continue
        inner = one.get("$ref") or one.get("additionalProperties", {}).get("$ref")
        if inner and isinstance(value, dict):
            below = ROOT[inner.rpartition("/")[2]]
            several = [value] if "$ref" in one else list(value.values())
            wrong += [bad for each in several for bad in known(below, each, f"{where}{key}.")]
    return wrong


ROOT: dict[str, Any] = {}


def test_the_schema_of_plans_knows_what_a_plan_file_holds(tmp_path: Path) -> None:
    (tmp_path / "layout.json").write_text(json.dumps(LAYOUT))
    document = json.loads(plan_of(tmp_path, ["*.json"]).read_text())
    schema = json.loads((DOCS / "schemas/plan.schema.json").read_text())
    assert set(schema["properties"]) == set(document)
    for name in ("configuration", "forecast", "limits", "target"):
        told = set(schema["properties"][name]["properties"])
        assert set(document[name]) <= told, name
    assert set(schema["required"]) <= set(document)


def test_schemas_know_what_the_demo_writes_and_describe_every_key() -> None:
    job = JOB.replace("{{", "{").replace("}}", "}").replace("{part_sizes}", '["1MiB"]')
    for name, text in (("job", job), ("prices", PRICES)):
        schema = json.loads((DOCS / f"schemas/{name}.schema.json").read_text())
        ROOT.clear()
        ROOT.update(schema["$defs"])
        assert known(schema, tomllib.loads(text)) == []
        assert known(schema, {"tabel": 1}) == ["tabel"]
        for section in (schema, *ROOT.values()):
            assert section["additionalProperties"] is False
            for key, one in section["properties"].items():
                assert "description" in one or "$ref" in one, key


def test_messages_that_are_explained_are_said_by_the_program() -> None:
    text = (DOCS / "troubleshooting.md").read_text()
    messages = re.findall(r"^\*\*(.+?)\*\*|(?<=, )\*\*(.+?)\*\*", text, re.M)
    said = " ".join(
        re.sub(r'"\s*\n?\s*f?"', "", path.read_text())
        for path in (DOCS.parent / "src" / "splarn").rglob("*.py")
    )
    for message in (one or other for one, other in messages):
        assert message in said, message
    assert len(messages) > 12


def test_every_command_has_its_document() -> None:
    documents = _documents().DOCUMENTS
    commands = {name for names in PANELS.values() for name in names}
    assert {name.partition(" ")[0] for name in documents} - {"any,"} == commands
    # What the page links to is there.
    page = (DOCS / "documents.md").read_text()
    heads = {line.lstrip("# ").replace("_", "-") for line in page.splitlines() if line[:1] == "#"}
    assert set(re.findall(r"\]\(#(.*?)\)", page)) <= heads


def test_the_benchmarks_that_pages_name_are_there() -> None:
    words = [sys.executable, "-m", "benchmarks", "--help"]
    told = subprocess.check_output(words, cwd=DOCS.parent, text=True)
    known = set(re.findall(r"[a-z]+", told.partition("NAME")[2]))
    pages = "".join(path.read_text() for path in DOCS.glob("*.md"))
    named = set(re.findall(r"`python -m benchmarks ([a-z]+)", pages))
    assert named
    assert named <= known
