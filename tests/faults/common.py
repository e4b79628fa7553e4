"""What rounds have in common."""

from __future__ import annotations

from collections import Counter

from tests.faults.program import Ended
from tests.faults.world import (
    ENGINES,
    SERVERS,
    Source,
    Target,
    World,
    differs,
)

MODES = (
    ("--table-mode", "create"),
    ("--table-mode", "append"),
    ("--table-mode", "append", "--route", "landing"),
    ("--table-mode", "empty", "--yes"),
    ("--table-mode", "replace", "--yes"),
    ("--table-mode", "append", "--indexes", "rebuild"),
)


def no_server(world: World) -> bool:
    """Whether a round that is about servers has none to be about."""
    return not SERVERS


def available() -> list[str]:
    """The kinds of targets that there are here."""
    return [kind for kind in ENGINES if kind in ("sqlite", "duckdb") or kind in SERVERS]


def some_target(world: World, *kinds: str) -> Target:
    """A target of one of the kinds, or of any."""
    here = [kind for kind in available() if not kinds or kind in kinds]
    target = ENGINES[world.chance.choice(here)](world)
    world.closing.append(target)
    return target


def load_words(world: World, target: Target, *sources: Source, url: str = "") -> list[str]:
    """A load of some files, in small batches."""
    words = target.words()
    if url:
        words[1] = url
    return [
        "load", *(str(source.path) for source in sources), "--layout", str(world.layout), *words,
        "--bad-rows", "set-aside", "--batch-rows", str(world.chance.choice((40, 90, 200))),
        "--streams", str(world.chance.choice((1, 1, 2))), "--json",
    ]  # fmt: skip


def hold(found: Counter[object], wanted: Counter[object], what: str) -> None:
    """Raises AssertionError when two multisets differ."""
    difference = differs(found, wanted)  # type: ignore[arg-type]
    assert not difference, f"{what}: {difference}"


def told_truly(ended: Ended, target: Target, wanted: Counter[object]) -> None:
    """A command that says that all is verified and in must be right."""
    if ended.code == 0 and ended.json.get("verified"):
        hold(target.rows(), wanted, "said to be verified")  # type: ignore[arg-type]
