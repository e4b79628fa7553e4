"""`splarn doctor --probe`: what this machine, the target and the depot's line can do at most."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from splarn.core.units import show_duration, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context


def probe(context: Context, url: str | None) -> dict[str, Any]:
    """Measures, shows, and keeps in the ledger; returns the figures."""
    from contextlib import closing

    from splarn.core.errors import RequestError
    from splarn.core.ledger import entry_id
    from splarn.core.source.secrets import filled
    from splarn.core.source.source import Source
    from splarn.core.tuning.probing import codec_speeds, line_speeds, target_times
    from splarn.core.work.machine import describe_machine
    from splarn.core.work.probe import disk_speeds, loopback, memory_copy
    from splarn.depots import open_depot
    from splarn.engines import opener

    out = context.out
    watch = out.progress()
    watch.start("probe", None, "")
    watch.status("the disk")
    found: dict[str, Any] = {"machine": describe_machine(), **disk_speeds(context.job.folder)}
    watch.status("memory and loopback")
    found |= {"memory_copy": memory_copy(), "loopback": loopback()}
    watch.status("codecs on the job's data")
    try:
        files = context.paths(None, quiet=True)
    except RequestError:
        # The machine can be looked at without any.
        files = []
    found["codecs"] = codec_speeds([Source.of(path) for path in files])
    if url is not None:
        watch.status("the target")
        found |= target_times(opener(url))
    depot = context.depot()
    if depot is not None:
        watch.status("the depot's line")
        with closing(open_depot(filled(depot, "The depot"))) as place:
            found["depot_line"] = line_speeds(place)
    watch.finish()
    _show(context, found)
    id_ = entry_id("probe")
    context.note("probe", id_, f"what {found['machine']} can do", found)
    return found


def _short(seconds: float) -> str:
    """A duration that may be far below a millisecond."""
    return f"{seconds * 1e6:,.0f} µs" if seconds < 1e-3 else show_duration(seconds)


def _show(context: Context, found: dict[str, Any]) -> None:
    out = context.out

    def speed(bytes_a_second: float) -> str:
        return f"{show_size(bytes_a_second)}/s"

    rows = [
        ("the disk takes, in order", speed(found["disk_write"])),
        ("it gives, past the cache", speed(found["disk_read"])),
        ("it gives, out of the cache", speed(found["disk_read_cached"])),
        ("a core copies in memory", speed(found["memory_copy"])),
        ("a connection carries on loopback", speed(found["loopback"])),
    ]
    rows += [
        (
            f"a core packs with {name}, to {one['share']:.0%}"
            if name != "none"
            else "a core finds records",
            speed(one["pack"]),
        )
        for name, one in found["codecs"].items()
    ]
    if "round_trip" in found:
        rows += [
            ("a round trip to the target takes", _short(found["round_trip"])),
            ("a commit there takes", _short(found["commit"])),
        ]
    rows += [
        (
            f"the depot's line carries with {streams} stream{'s' * (streams > 1)}",
            speed(carried),
        )
        for streams, carried in found.get("depot_line", ())
    ]
    out.head(f"What {found['machine']} can do at most")
    out.table(["what", ">at most"], rows)
    if not found["codecs"]:
        out.say("No source is named, so codecs were not tried: a job file names one.")
    out.say("Sweeps say how near each phase comes to these.")
