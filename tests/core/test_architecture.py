"""The house stands as drawn: the core knows no interface, and arrows point downward."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import splarn

SOURCE = Path(splarn.__file__).parent
INTERFACE = {"typer", "rich", "matplotlib", "click", "jinja2"}
LIBRARY = ("splarn.library", "splarn.figures", "splarn.frames")
UPWARD = {
    "core": (
        "splarn.cli",
        "splarn.report",
        "splarn.engines",
        "splarn.depots",
        "splarn.standin",
        "splarn.demo",
        *LIBRARY,
    ),
    "report": ("splarn.cli", "splarn.engines", "splarn.depots", *LIBRARY),
    "library": ("splarn.cli", "splarn.demo"),
    "engines": ("splarn.cli", "splarn.report", "splarn.demo"),
    "depots": ("splarn.cli", "splarn.report", "splarn.engines", "splarn.demo"),
    "standin": ("splarn.cli", "splarn.report", "splarn.engines", "splarn.demo"),
    "demo": ("splarn.cli", "splarn.report"),
}


# The rooms of the core from the ground up: none knows one that stands further on.
ROOMS = (
    "errors", "units", "parameters", "work", "layout", "kernel", "records", "source", "reading",
    "inference", "check", "survey", "prices", "target", "cluster", "lake", "shape", "ship", "load",
    "unload",
    "scans",
    "ledger",
    "flow",
    "tuning", "run", "job", "measured", "tidy",
)  # fmt: skip


def name_of(path: Path) -> str:
    words = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(words).removesuffix(".__init__")


MODULES = {name_of(path): path for path in SOURCE.rglob("*.py")}


def imports(path: Path) -> set[str]:
    """What a module imports, also where it does so for types or late."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            inner = {f"{node.module}.{alias.name}" for alias in node.names}
            found |= (inner & MODULES.keys()) or {node.module}
    return found


@pytest.mark.parametrize("room", sorted(UPWARD))
def test_arrows_point_downward(room: str) -> None:
    paths = list((SOURCE / room).rglob("*.py"))
    assert paths
    for path in paths:
        for name in imports(path):
            draws = room == "report" and name.split(".")[0] in ("matplotlib", "jinja2")
            assert draws or name.split(".")[0] not in INTERFACE, f"{path} imports {name}"
            assert not name.startswith(UPWARD[room]), f"{path} imports {name}"


def room_of(name: str) -> str | None:
    words = name.split(".")
    return words[2] if words[:2] == ["splarn", "core"] and len(words) > 2 else None


def test_the_rooms_of_the_core_read_from_the_ground_up() -> None:
    assert {room_of(name) for name in MODULES} - {None} == set(ROOMS)
    for name, path in MODULES.items():
        mine = room_of(name)
        for other in map(room_of, imports(path)):
            if mine is not None and other is not None:
                assert ROOMS.index(other) <= ROOMS.index(mine), f"{name} knows the room {other}"


def test_no_module_imports_itself_by_way_of_others() -> None:
    arrows = {name: imports(path) & MODULES.keys() - {name} for name, path in MODULES.items()}
    # Taking away what imports nothing that is left takes everything away but circles.
    left = dict(arrows)
    while loose := [name for name, others in left.items() if not others & left.keys()]:
        for name in loose:
            del left[name]
    inner = {name for name in left if any(name in left[other] for other in left)}
    assert not inner, f"these import one another: {sorted(inner)}"


def test_files_hold_one_idea_each() -> None:
    lengths = {name: len(path.read_text().splitlines()) for name, path in MODULES.items()}
    assert {name: count for name, count in lengths.items() if count > 440} == {}


def test_the_core_works_without_any_interface_package() -> None:
    script = (
        "import importlib, pkgutil, sys, splarn.core as core\n"
        "for m in pkgutil.walk_packages(core.__path__, 'splarn.core.'):\n"
        "    importlib.import_module(m.name)\n"
        f"print(sorted(set(sys.modules) & {INTERFACE!r}))"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=True
    )
    assert done.stdout.strip() == "[]"


def test_every_module_says_what_lives_there() -> None:
    for path in SOURCE.rglob("*.py"):
        assert ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))), path


def test_help_needs_no_heavy_package() -> None:
    script = (
        "import sys; from splarn.cli.main import run; run(['--help']);"
        "print(sorted(set(sys.modules) & {'numpy', 'pyarrow', 'scipy', 'sqlalchemy'}),"
        "file=sys.stderr)"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=True
    )
    assert done.stderr.strip() == "[]"


def test_the_readme_and_the_check_run_the_same_commands() -> None:
    root = Path(__file__).parents[2]
    blocks = (root / "README.md").read_text(encoding="utf-8").split("```bash\n")[1:3]
    first, second = (block.split("\n```")[0] for block in blocks)
    check = (root / ".ci/run").read_text(encoding="utf-8")
    assert first.endswith("splarn demo")
    assert second.endswith("pytest")
    assert f"    {first}\n" in check
    assert f"\n{second}\n" in check


def test_pictures_are_few_and_linked() -> None:
    root = Path(__file__).parents[2]
    readme = (root / "README.md").read_text(encoding="utf-8")
    pictures = list((root / "docs/screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    for picture in pictures:
        assert f"docs/screenshots/{picture.name}" in readme
