"""The physics of the simulated depot: how fast, how patient and how unreliable it is."""

from __future__ import annotations

import asyncio
import random
import time
import tomllib
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any, TypeVar

from splarn.core.errors import RequestError
from splarn.core.work.documents import first_wrong

Physics = TypeVar("Physics")
_SHIPPED = Path(__file__).parent / "presets"


@dataclass(frozen=True)
class DepotPhysics:
    """Latency in seconds a request; bandwidths in MB/s and requests a second, 0 for no limit.

    Requests beyond the limit are answered with 503 and `retry_after` seconds. The shares are
    chances a request: of a connection that is cut in the middle, of one that stands still for
    `stall_seconds`, and of a byte that arrives as another. The same `seed` gives the same luck.
    """

    latency: float = 0.0
    stream_megabytes: float = 0.0
    total_megabytes: float = 0.0
    requests_per_second: float = 0.0
    retry_after: float = 1.0
    reset_share: float = 0.0
    stall_share: float = 0.0
    stall_seconds: float = 5.0
    corrupt_share: float = 0.0
    seed: int = 1

    def __post_init__(self) -> None:
        for field in fields(self):
            value = getattr(self, field.name)
            if value < 0 or (field.name.endswith("_share") and value > 1):
                raise RequestError(f"{field.name} cannot be {value}: give 0 or more, a share to 1.")


def read_physics(given: str | None, section: str, kind: type[Physics], **over: Any) -> Physics:
    """The physics in a section of a TOML file, or of the shipped preset of that name.

    Without the file or the section all is as the kind has it; what `over` gives wins.
    Raises RequestError when the file is missing or says something unknown.
    """
    from pydantic import TypeAdapter, ValidationError

    where, document = _document(given)
    unknown_section = sorted(set(document) - {"depot", "millrace"})
    if unknown_section:
        raise RequestError(
            f"{where} has a section [{unknown_section[0]}], which is not known: use [depot] and "
            "[millrace]."
        )
    known = [field.name for field in fields(kind)]  # type: ignore[arg-type]
    values = {**document.get(section, {}), **over}
    unknown = sorted(set(values) - set(known))
    if unknown:
        raise RequestError(
            f"In [{section}] of {where}, {unknown[0]!r} is not known: use {', '.join(known)}."
        )
    try:
        return TypeAdapter(kind).validate_python(values)
    except ValidationError as error:
        raise RequestError(f"In [{section}] of {where}, {first_wrong(error)}.") from None
    except RequestError as error:
        raise RequestError(f"In [{section}] of {where}: {error}") from None


def presets() -> list[str]:
    """The names of the physics that are shipped."""
    return sorted(path.stem for path in _SHIPPED.glob("*.toml"))


def _document(given: str | None) -> tuple[str, dict[str, Any]]:
    """How the physics is called in messages, and what it says."""
    if given is None:
        return "the options", {}
    path = _SHIPPED / f"{given}.toml" if given in presets() else Path(given)
    where = f"the physics {given}"
    try:
        return where, tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise RequestError(
            f"There is no physics file {given}: check the spelling, or name one of the shipped "
            f"{', '.join(presets())}."
        ) from None
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise RequestError(f"The physics file {given} cannot be read: {error}.") from None


class Wire:
    """The wire of a depot: every stream has its own speed, and all share one."""

    def __init__(self, physics: DepotPhysics) -> None:
        self.physics = physics
        self.luck = random.Random(physics.seed)
        self._shared_until = 0.0
        self._tokens = physics.requests_per_second
        self._filled = time.monotonic()

    def admits(self) -> bool:
        """Whether a request may come in now: a bucket of one second's requests."""
        rate = self.physics.requests_per_second
        if not rate:
            return True
        now = time.monotonic()
        self._tokens = min(rate, self._tokens + (now - self._filled) * rate)
        self._filled = now
        if self._tokens < 1:
            return False
        self._tokens -= 1
        return True

    def strikes(self, share: float) -> bool:
        """Whether a fault of this chance happens now."""
        return share > 0 and self.luck.random() < share

    async def carry(self, size: int, free: float) -> float:
        """Lets so many bytes pass; `free` is when the stream is done with those before them.

        Returns when it is done with these.
        """
        now = time.monotonic()
        if self.physics.stream_megabytes:
            free = max(free, now) + size / (self.physics.stream_megabytes * 1e6)
        if self.physics.total_megabytes:
            spent = size / (self.physics.total_megabytes * 1e6)
            self._shared_until = max(self._shared_until, now) + spent
            free = max(free, self._shared_until)
        if free > now:
            await asyncio.sleep(free - now)
        return free
