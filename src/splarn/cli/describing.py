"""`splarn doctor --engine`: a description of an engine tried."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.cli.tables import Column, text

if TYPE_CHECKING:
    from splarn.cli.context import Context


def try_description(context: Context, path: Path, depot: str | None) -> int:
    """Tries every statement on scratch tables and says what holds; 1 where something does not."""
    import tempfile

    from splarn.core.source.secrets import filled
    from splarn.core.tidy import scratch_prefix
    from splarn.depots.landing import DepotLanding
    from splarn.engines.described.looking_over import read_description
    from splarn.engines.described.promises import said_of
    from splarn.engines.described.trying import try_out

    out = context.out
    description = read_description(path)
    named = context.depot(depot)
    with tempfile.TemporaryDirectory(prefix=scratch_prefix()) as folder:
        # A server on this machine reads as another user.
        Path(folder).chmod(0o755)
        if named is None:
            with out.working(f"trying {description.engine.name}"):
                tried, promise = try_out(description, Path(folder), lambda part: part)
        else:
            landing = DepotLanding(filled(named, "The depot"), Path(folder).name)

            def put(part: Path) -> Any:
                with landing.sender() as sender:
                    sender.send(part, part.stem)
                    return sender.source(part, part.stem, "none", "csv").place

            try:
                with out.working(f"trying {description.engine.name}"):
                    tried, promise = try_out(description, Path(folder), put)
            finally:
                landing.clear()
    out.table(
        [text("tried"), "", Column("answer", wraps=True)],
        [
            (one.what, {True: "holds", False: "FAILS", None: "–"}[one.holds], one.answer)
            for one in tried
        ],
    )
    failed = [one for one in tried if one.holds is False]
    said = said_of(description) if promise else []
    if failed:
        out.bad(
            f"{len(failed)} of {len(tried)} fail, so nothing is promised yet: mend {path} by what "
            "they say, and try again."
        )
    else:
        out.good(f"What {path} declares holds: {promise}.")
        for sentence in said[1:]:
            out.note(sentence)
    out.document({
        "engine": description.engine.name, "place": description.engine.place,
        "tried": [
            {"what": one.what, "holds": one.holds, "answer": one.answer} for one in tried
        ],
        "promise": promise or None, "sentences": said,
    })  # fmt: skip
    return 1 if failed else 0


def begin_like(context: Context, path: Path, name: str) -> None:
    """Writes a shipped description into a file that is still to be made, to be edited."""
    from importlib.resources import files

    from splarn.core.errors import RequestError
    from splarn.core.work.disk import write_text
    from splarn.core.work.words import nearest

    shipped = {one.name[:-5]: one for one in files("splarn.engines.described.shipped").iterdir()
               if one.name.endswith(".toml")}  # fmt: skip
    if name not in shipped:
        raise RequestError(
            f"--like: there is no shipped description {name!r}{nearest(name, shipped)}: use "
            f"{', '.join(sorted(shipped))}."
        )
    if path.exists():
        raise RequestError(f"{path} is already there and may hold your edits: name another file.")
    write_text(path, shipped[name].read_text(encoding="utf-8"))
    context.out.say(f"Wrote {path}: edit it, and try it with `splarn doctor --engine {path}`.")
    context.out.document({"files": [str(path)]})
