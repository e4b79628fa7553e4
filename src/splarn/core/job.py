"""The job file `splarn.toml`: what is to be loaded, where to, and what may be tried."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, create_model

from splarn.core.errors import RequestError
from splarn.core.source.secrets import remember_named
from splarn.core.tuning.configuration import LEVERS, REGRET, STRATEGIES
from splarn.core.work.documents import first_wrong

JOB_FILE = "splarn.toml"


class _Section(BaseModel):
    model_config = ConfigDict(extra="forbid")


class SourceSection(_Section):
    """Which files, and how they read."""

    paths: list[str] = []
    layout: str | None = None


class TargetSection(_Section):
    """Where to, and what becomes of bad rows."""

    url: str | None = None
    table: str | None = None
    depot: str | None = None
    table_mode: str = "create"
    bad_rows: str = "halt"
    bad_row_limit: int | str | None = None
    rejects: str = "rejects"
    tier: str | None = None
    read_tier: str | None = None


class SpaceSection(_Section):
    """What each lever may be; it has a key a lever."""

    def values(self) -> dict[str, list[Any]]:
        """The values by the levers' names."""
        return {name: getattr(self, one.key) for name, one in LEVERS.items()}


_KEYS: dict[str, Any] = {one.key: (list[int | str], list(one.defaults)) for one in LEVERS.values()}
if TYPE_CHECKING:
    _Space = SpaceSection
else:
    _Space = create_model("SpaceSection", __base__=SpaceSection, **_KEYS)


class SweepSection(_Section):
    """How much is tried, and by what strategy; see `splarn sweep`."""

    sample: int | str = "32MiB"
    repeats: int = Field(default=2, ge=1)
    time: int | float | str | None = None
    money: float | None = Field(default=None, gt=0)
    strategy: str = STRATEGIES[0]
    regret: float | str = REGRET
    loads: int = Field(default=1, ge=1)
    readers: int = Field(default=0, ge=0)
    reading: list[str] = []
    seed: int = 1


class LimitsSection(_Section):
    """What the load must keep to."""

    deadline: int | float | str | None = None
    budget: float | None = None
    confidence: float | str = 0.9


class RunSection(_Section):
    """In what a delivery may differ from those before it; see `splarn run`."""

    may_pass: list[Literal["order", "types", "rows"]] = []


class Job(_Section):
    """A job file's content. Paths in it are relative to `folder`, the file's own."""

    folder: Path = Path()
    path: Path | None = None
    source: SourceSection = SourceSection()
    target: TargetSection = TargetSection()
    space: _Space = _Space()
    sweep: SweepSection = SweepSection()
    limits: LimitsSection = LimitsSection()
    run: RunSection = RunSection()
    prices: str | None = None


def read_job(path: Path | None) -> Job:
    """The job file given, or the one in the current folder, or an empty job.

    Raises RequestError when the given file is missing, or any is no job file.
    """
    if path is None:
        path = Path(JOB_FILE)
        if not path.exists():
            return Job()
    try:
        text = path.read_text(encoding="utf-8")
        remember_named(text)
        document = tomllib.loads(text)
    except FileNotFoundError:
        raise RequestError(f"There is no job file {path}: check the path given to --job.") from None
    except (OSError, UnicodeDecodeError) as error:
        raise RequestError(f"The job file {path} cannot be read: {error}.") from None
    except tomllib.TOMLDecodeError as error:
        raise RequestError(f"The job file {path} is not valid TOML: {error}.") from None
    try:
        return Job.model_validate({**document, "folder": path.parent, "path": path})
    except ValidationError as error:
        wrong = first_wrong(error, Job)
        raise RequestError(f"In the job file {path}, {wrong}.") from None
