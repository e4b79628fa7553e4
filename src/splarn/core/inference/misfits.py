"""Values of a column that do not fit a type: how many are borne, and what is said of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

# A few spoiled values must not turn a number column into text.
TOLERANCE = 0.01


ENOUGH = 100


def misses(telling: Sequence[str], fits: Callable[[str], object]) -> list[str] | None:
    """The values that do not fit, or None when they are too many to be mere spoilage."""
    allowed = len(telling) * TOLERANCE if len(telling) >= ENOUGH else 0
    missed: list[str] = []
    for value in telling:
        if not fits(value):
            missed.append(value)
            if len(missed) > allowed:
                return None
    return missed


def spoiled(name: str, kind: str, missed: list[str], total: int) -> tuple[str, ...]:
    """What is said of values that do not fit."""
    if not missed:
        return ()
    shown = ", ".join(repr(value[:40]) for value in list(dict.fromkeys(missed))[:3])
    return (
        f"{name}: {len(missed)} of {total:,} sampled values {'is' if len(missed) == 1 else 'are'} "
        f"no {kind} (such as {shown}); such rows will be refused",
    )
