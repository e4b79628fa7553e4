"""How a load writes: the levers that an engine may have or lack."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from splarn.core.errors import RequestError

if TYPE_CHECKING:
    from splarn.core.engine import Engine

# Each lever's values, the first of which every engine has.
LOAD_LEVERS: dict[str, tuple[str, ...]] = {
    "durability": ("full", "relaxed", "unlogged"),
    "indexes": ("keep", "rebuild"),
    "route": ("direct", "landing"),
}


@dataclass(frozen=True)
class LoadLevers:
    """One value a lever.

    `durability` full makes each commit safe before the next batch; relaxed lets a power cut take
    the last commits back, rows and notes alike; unlogged skips the log in a landing table, which
    the rows leave with one safe commit. `indexes` rebuild drops those that refuse nothing and makes
    them again at the end. `route` landing gathers the rows in a table of their own, which is
    verified and then moved over in one set.
    """

    durability: str = "full"
    indexes: str = "keep"
    route: str = "direct"

    @property
    def agree(self) -> bool:
        """Whether the values go together: only a landing table may skip the log."""
        return self.durability != "unlogged" or self.route == "landing"

    def __str__(self) -> str:
        return ", ".join(f"{lever} {getattr(self, lever)}" for lever in LOAD_LEVERS)


def check_levers(levers: LoadLevers, engine: Engine) -> None:
    """Raises RequestError when a value is not known, the engine lacks it, or two do not agree."""
    for lever, known in LOAD_LEVERS.items():
        value = getattr(levers, lever)
        if value not in known:
            raise RequestError(
                f"The value {value!r} of {lever} is not known: use {', '.join(known)}."
            )
        has = engine.levers[lever]
        if value not in has:
            raise RequestError(f"{engine.title} lacks {lever} {value}: it has {' and '.join(has)}.")
    if not levers.agree:
        raise RequestError(
            "Durability unlogged is for landing tables: give route landing with it, so that the "
            "table itself stays safe."
        )
