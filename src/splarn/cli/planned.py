"""What a plan keeps beside its choice: the target as it is, parameters, and what else would do."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.core.target.seen import Seen
    from splarn.core.tuning.plan_file import Templates


def templates_of(
    context: Context, paths: list[str] | None, table: str | None, depot: str | None
) -> Templates:
    """The job's source, depot and table with their parameters, where those are its own."""
    from splarn.core.source.places import is_url
    from splarn.core.tuning.plan_file import Templates

    job, folder = context.job, context.job.folder.resolve()

    def whole(text: str) -> str:
        return text if not text or is_url(text) or text.startswith("$") else str(folder / text)

    source = () if paths else tuple(map(whole, job.source.paths))
    into = "" if table else job.target.table or ""
    return Templates(source, "" if depot else whole(job.target.depot or ""), into)


def seen_of(context: Context, target: str, table: str) -> Seen:
    """The target as it is now; where it cannot be reached that is said, and nothing is known."""
    from splarn.core.errors import OutsideError
    from splarn.core.target.seen import Seen, look_at
    from splarn.engines import opener

    try:
        return look_at(opener(target), table)
    except OutsideError as error:
        context.out.note(f"What the target is now could not be looked at: {error}")
        return Seen()
