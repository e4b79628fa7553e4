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

    paths: list[str] = Field(default=[], description="Files, folders, patterns and URLs.")
    layout: str | None = Field(
        default=None, description="How they read; inferred where there is none."
    )


class KindSection(_Section):
    """Files of another layout than the job's own, and where their rows go; see `splarn run`.

    `columns` names for fields of the table what they come from; `leave_out` fields that go nowhere.
    """

    paths: list[str] = Field(min_length=1, description="Its files, which are none of the source's.")
    layout: str | None = Field(
        default=None, description="How they read; inferred where there is none."
    )
    table: str | None = Field(
        default=None, description="Where its rows go, if not into the job's table."
    )
    columns: dict[str, str] = Field(
        default={}, description="For fields of the table, what they come from."
    )
    leave_out: list[str] = Field(default=[], description="Its fields that go nowhere.")


class TargetSection(_Section):
    """Where to, and what becomes of bad rows."""

    url: str | None = Field(default=None, description="The target; secrets as ${NAME}.")
    table: str | None = Field(default=None, description="Its table.")
    depot: str | None = Field(default=None, description="Where parts are shipped before loading.")
    table_mode: str = Field(
        default="create", description="create, append, empty, replace or renew."
    )
    bad_rows: str = Field(default="halt", description="halt at the first, or set-aside.")
    bad_row_limit: int | str | None = Field(
        default=None, description="How many may be set aside, as 100 or 1%."
    )
    rejects: str = Field(default="rejects", description="The folder that they go into.")
    tier: str | None = Field(default=None, description="The compute while rows come in.")
    read_tier: str | None = Field(default=None, description="The compute afterwards.")


class SpaceSection(_Section):
    """What each lever may be; it has a key a lever."""

    def values(self) -> dict[str, list[Any]]:
        """The values by the levers' names."""
        return {name: getattr(self, one.key) for name, one in LEVERS.items()}


_KEYS: dict[str, Any] = {
    one.key: (list[int | str], Field(list(one.defaults), description=one.help))
    for one in LEVERS.values()
}
if TYPE_CHECKING:
    _Space = SpaceSection
else:
    _Space = create_model("SpaceSection", __base__=SpaceSection, **_KEYS)


class SweepSection(_Section):
    """How much is tried, and by what strategy; see `splarn sweep`."""

    sample: int | str = Field(
        default="32MiB", description="How much of the source each trial loads."
    )
    repeats: int = Field(default=2, ge=1, description="How often a grid tries each configuration.")
    time: int | float | str | None = Field(default=None, description="No longer than this, as 10m.")
    money: float | None = Field(default=None, gt=0, description="No more money than this.")
    strategy: str = Field(default=STRATEGIES[0], description=f"One of {', '.join(STRATEGIES)}.")
    regret: float | str = Field(
        default=REGRET, description="Enough is known when deciding loses less."
    )
    loads: int = Field(default=1, ge=1, description="How often such a delivery comes.")
    readers: int = Field(default=0, ge=0, description="Sessions that read beside each trial.")
    reading: list[str] = Field(default=[], description="What they ask, each a statement.")
    seed: int = Field(default=1, description="Of the order of trials.")


class ScansSection(_Section):
    """What the rows are going to be asked, and how they could be kept; see `splarn forecast`."""

    questions: list[str] = Field(
        default=[], description="Each as columns(toll) where(entered 2031-04) monthly(900)."
    )
    kept_as: list[str] = Field(
        default=[], description="How files could be laid out; the usual ways by the questions."
    )
    months: float = Field(default=12, gt=0, description="How long the rows are kept and asked.")
    look: int | str = Field(default="128MiB", description="How much of the source is looked at.")
    link: str | None = Field(
        default=None, description="The line between files and those who ask, as 1Gbit/s."
    )
    latency: int | float | str | None = Field(
        default=None, description="What each fetch waits for until it begins, as 30ms."
    )


class LimitsSection(_Section):
    """What the load must keep to."""

    deadline: int | float | str | None = Field(
        default=None, description="It must end within this: 45m, by 06:00, between 01:00 and 05:00."
    )
    budget: float | None = Field(default=None, description="It must cost no more.")
    confidence: float | str = Field(default=0.9, description="The chance asked for.")


class RunSection(_Section):
    """In what a delivery may differ from those before it; see `splarn run`."""

    may_pass: list[Literal["columns", "order", "types", "rows"]] = Field(
        default=[], description="In what a delivery may differ from the last ones."
    )


class WorkSection(_Section):
    """Where the work is done."""

    cluster: str | None = Field(
        default=None, description="A Dask cluster: a scheduler's address or file, or local:N."
    )
    per_machine: int | None = Field(
        default=None, ge=1, description="At most so many at work on one machine of it."
    )


class Job(_Section):
    """A job file's content. Paths in it are relative to `folder`, the file's own."""

    folder: Path = Path()
    path: Path | None = None
    source: SourceSection = SourceSection()
    target: TargetSection = TargetSection()
    space: _Space = _Space()
    sweep: SweepSection = SweepSection()
    limits: LimitsSection = LimitsSection()
    scans: ScansSection = ScansSection()
    run: RunSection = RunSection()
    work: WorkSection = WorkSection()
    kinds: dict[str, KindSection] = Field(
        default={}, description="Files of other layouts, by names."
    )
    prices: str | None = Field(default=None, description="The price list, a TOML file.")


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
