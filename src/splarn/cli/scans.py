"""What `splarn forecast` and `splarn plan` say of questions: what each reads of rows by how they
are kept, and what that costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

from splarn.cli.context import Context
from splarn.cli.misuse import if_any
from splarn.cli.tables import Column, text
from splarn.core.units import (
    exact_size,
    parse_duration,
    parse_rate,
    parse_size,
    plural,
    show_count,
    show_duration,
    show_money,
    show_size,
)

if TYPE_CHECKING:
    from splarn.core.layout import Layout
    from splarn.core.prices import Prices
    from splarn.core.scans.foretelling import Bill, Line, Scans, TableFiles
    from splarn.core.scans.kept import Kept
    from splarn.core.scans.questions import Question
    from splarn.core.source.places import Place
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.configuration import Space
    from splarn.core.tuning.keeping import KeptChoice
    from splarn.core.tuning.learning import Learned
    from splarn.core.tuning.plan import Limits

# Longer than so many times what rows are kept, nobody waits for writing to pay for itself.
NEVER = 100


@dataclass(frozen=True)
class Asked:
    """What a command was asked of questions: they, ways of keeping rows, and what is supposed."""

    questions: tuple[Question, ...]
    kept: tuple[str, ...]
    months: float
    line: Line
    size: int


def asked_by(
    context: Context,
    questions: Sequence[str] | None,
    kept_as: Sequence[str] | None,
    months: float | None = None,
    link: str | None = None,
    latency: str | None = None,
) -> Asked | None:
    """The questions of options and job file, None where there are none.

    Raises RequestError for what is no question, or options that go with questions alone.
    """
    from splarn.core.errors import RequestError
    from splarn.core.scans.foretelling import Line
    from splarn.core.scans.questions import read_question
    from splarn.core.work.arrow import give_memory_back

    section = context.job.scans
    written = list(questions or section.questions)
    if not written:
        given = [("--kept-as", kept_as), ("--months", months), ("--latency", latency)]
        for option, value in given:
            if value:
                raise RequestError(f"{option} goes with questions: give --question too.")
        return None
    give_memory_back()
    waits = context.setting("--latency", if_any(parse_duration), latency, "scans.latency")
    return Asked(
        tuple(read_question(one) for one in written),
        tuple(kept_as or section.kept_as),
        months or section.months,
        Line(context.setting("--link", if_any(parse_rate), link, "scans.link"), waits or 0.0),
        context.setting("", parse_size, None, "scans.look"),
    )


def tell_scans(
    context: Context, asked: Asked, files: Sequence[Place], layout: Layout,
    prices: Prices, laid_out: Sequence[str] = (), table: TableFiles | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Foretells what questions cost and says it; returns it as a document.

    `laid_out` are the layouts of files that the space has, which are taken where the questions come
    without ways of keeping rows.
    """
    from splarn.core.scans.kept import read_kept, usual_ways

    ways = [read_kept(one) for one in asked.kept or laid_out]
    if not ways:
        ways = usual_ways(asked.questions, layout.fields, layout.format)
    scans, told = foretold(context, asked, files, layout, prices, ways, table)
    _show(context, asked, scans, told, prices)
    return _document(asked, scans, told, prices)


def tell_of_table(
    context: Context, asked: Asked, target: str, name: str, prices: Prices
) -> dict[str, Any]:
    """The same of a table of a lake as it is, and as it would be merged or laid out otherwise."""
    from contextlib import closing

    from splarn.core.errors import RequestError
    from splarn.core.layout import Dialect, Layout
    from splarn.core.scans.foretelling import TableFiles
    from splarn.core.scans.kept import COMPACTED
    from splarn.core.source.places import place
    from splarn.core.target.outgoing import Wanted
    from splarn.engines import opener_of_existing

    engine = opener_of_existing(target)()
    with closing(engine.connect()) as session:
        merging = session.merging
        if merging is None:
            raise RequestError(
                f"--table: {engine.title} keeps no tables as files, so questions are asked of the "
                "delivery alone; leave it out."
            )
        table = session.tables.canonical(name)
        if session.tables.columns(table) is None:
            raise RequestError(f"There is no table {name} in {engine.place}.")
        assert session.outgoing is not None, "what keeps files gives their rows back"
        fields = session.outgoing.fields(Wanted(table))
        # As merging takes them.
        files = sorted(merging.files(table), key=lambda one: (one.added, one.path))
        kept = merging.layout(table)
    if not files:
        raise RequestError(f"The table {name} in {engine.place} has no rows to be asked for.")
    return tell_scans(
        context, asked, [place(one.path) for one in files],
        Layout(name, Dialect(), fields, "parquet"), prices, [f"{kept.text()} {COMPACTED}"],
        TableFiles(kept.partition, tuple(one.values for one in files)),
    )  # fmt: skip


def foretold(
    context: Context, asked: Asked, files: Sequence[Place], layout: Layout, prices: Prices,
    ways: Sequence[Kept], table: TableFiles | None = None,
) -> tuple[Scans, list[Bill]]:  # fmt: skip
    """What questions read of the rows kept in some ways, and what each costs."""
    import tempfile
    from pathlib import Path

    from splarn.core.scans.foretelling import ScanRequest, bills, foretell_scans
    from splarn.core.source.source import Source
    from splarn.core.tidy import scratch_prefix
    from splarn.core.work.pools import Pools, usable_cores

    request = ScanRequest(
        tuple(Source.of(path).read_by(layout) for path in files), layout, asked.questions,
        tuple(ways), asked.size, table,
    )  # fmt: skip
    with tempfile.TemporaryDirectory(prefix=scratch_prefix()) as scratch, Pools() as pools:
        scans = foretell_scans(
            request, Path(scratch), pools.threads(usable_cores()), context.out.progress()
        )
    tier = context.job.target.read_tier or next(iter(prices.tiers))
    return scans, bills(scans, prices, asked.months, asked.line, tier, usable_cores())


def _show(
    context: Context, asked: Asked, scans: Scans, told: Sequence[Bill], prices: Prices
) -> None:
    from splarn.core.scans.foretelling import cheapest

    out, look = context.out, scans.look
    seen = "all of it" if look.whole else f"{show_size(look.read)} of it"
    out.head("What questions cost")
    size = f"{show_size(look.bytes)} ({plural(round(look.rows), 'row')})"
    if scans.of_table:
        out.say(f"{size} of a table; read and written on this machine for {seen}.")
    else:
        out.say(
            f"{size} as a load of these files leaves them; written and read on this machine for "
            f"{seen}."
        )
    if look.heads:
        out.note("Of packed files only the beginnings were looked at: the rest is taken for alike.")
    out.table(
        [">", text("question"), ">rows", ">a month"],
        [
            (str(number), _bare(question), _share(share),
             f"{question.monthly:,.10g}")
            for number, (question, share) in enumerate(
                zip(scans.questions, scans.shares, strict=True), 1
            )
        ],
    )  # fmt: skip
    out.say("What each question reads, once:")
    many = range(1, len(scans.questions) + 1)
    out.table(
        [text("kept as"), ">size", ">files", *(f">{number}" for number in many)],
        [
            (one.way.words, show_size(one.way.bytes), show_count(one.way.files),
             *(show_size(asking.read.bytes) for asking in one.way.asked))
            for one in told
        ],
    )  # fmt: skip
    priced = any(one.total > 0 for one in told)
    money: list[str | Column] = []
    costs = ""
    if priced:
        money = [">cost", Column(">to write", 1), ">in all"]
        costs = (
            f" (in {prices.currency}, with keeping the rows; in all is over "
            f"{_months(asked.months)})"
        )
    out.say(f"All questions of a month, and what writing the rows so takes before{costs}:")
    out.table(
        [text("kept as"), ">reads", Column(">fetches", 2), ">time", Column(">writing", 1), *money],
        [
            (one.way.words, show_size(one.read.bytes), show_count(one.read.requests),
             show_duration(one.seconds),
             "" if one.way.kept is None else show_duration(one.writing_seconds),
             *([show_money(one.asking + one.keeping), show_money(one.writing),
                show_money(one.total)] if priced else []))
            for one in told
        ],
    )  # fmt: skip
    best = cheapest(told, asked.months)
    _say_best(context, asked, told[0], best, prices, priced, scans.far)


def _say_best(
    context: Context, asked: Asked, base: Bill, best: Bill, prices: Prices, priced: bool, far: bool
) -> None:
    out = context.out
    what = f"in {_months(asked.months)}"
    if best is base:
        out.say(f"Nothing of it is cheaper {what} than the files as they are.")
        return
    monthly = sum(one.monthly for one in asked.questions)
    if priced:
        out.say(
            f"{best.way.words} costs least {what}: "
            f"{show_money(best.total, prices.currency)} in place of {show_money(base.total)}."
        )
    else:
        out.say(
            f"{best.way.words} takes least {what}: "
            f"{show_duration(best.writing_seconds + asked.months * best.seconds)} in place of "
            f"{show_duration(asked.months * base.seconds)}, writing included."
        )
    paid = [
        f"{_questions(count)} {kind}"
        for kind, count in (("in money", best.paid_money if priced else None),
                            ("in time", best.paid_time))
        if count is not None and count <= NEVER * asked.months * monthly
    ]  # fmt: skip
    if paid:
        out.say(f"Writing it has paid for itself after {' and after '.join(paid)}.")
    else:
        out.say("Writing it never pays for itself by questions alone.")
    if far:
        out.say(
            "Times of what lies elsewhere are those of reading it from there, the others those of "
            "this machine's own disk."
        )
    elif asked.line.rate is None and not asked.line.latency:
        out.say(
            "Times are those of reading from this machine's own disk; --link 1Gbit/s and --latency "
            "30ms suppose a store."
        )


def _months(count: float) -> str:
    return "a month" if count == 1 else f"{count:g} months"


def _questions(count: float) -> str:
    whole = max(-(-count // 1), 1)
    return plural(int(whole), "question")


def _bare(question: Question) -> str:
    from dataclasses import replace

    return replace(question, monthly=1.0).text()


def _share(share: float) -> str:
    if share >= 0.0995 or not share:
        return f"{share:.0%}"
    return f"{share:.1%}" if share >= 0.001 else "< 0.1%"


def _document(asked: Asked, scans: Scans, told: Sequence[Bill], prices: Prices) -> dict[str, Any]:
    from splarn.core.scans.foretelling import cheapest

    look = scans.look
    best = cheapest(told, asked.months)
    return {
        "rows": look.rows,
        "bytes": look.bytes,
        "looked_at": {"bytes": look.read, "whole": look.whole, "beginnings_only": look.heads},
        "months": asked.months,
        "currency": prices.currency,
        "questions": [
            {"name": one.name, "question": one.text(), "share": share, "monthly": one.monthly}
            for one, share in zip(scans.questions, scans.shares, strict=True)
        ],
        "kept": [
            {
                "kept_as": one.way.words if one.way.kept is None else one.way.kept.text(),
                "delivered": one.way.kept is None,
                "files": one.way.files,
                "bytes": one.way.bytes,
                "questions": [
                    {**asdict(asking.read), "seconds": asking.over(asked.line)}
                    for asking in one.way.asked
                ],
                "monthly": {
                    **asdict(one.read), "seconds": one.seconds, "cost": one.asking,
                    "keeping": one.keeping,
                },
                "writing": {"seconds": one.writing_seconds, "cost": one.writing},
                "total": one.total,
                "paid_after": {"money": one.paid_money, "time": one.paid_time},
            }
            for one in told
        ],
        "best": best.way.words if best.way.kept is None else best.way.kept.text(),
    }  # fmt: skip


def choices_asked(
    context: Context, asked: Asked, files: Sequence[Place], layout: Layout, space: Space,
    learned: Learned, volume: Volume, prices: Prices, limits: Limits,
) -> list[KeptChoice]:  # fmt: skip
    """The best load for each shape of files that the space allows, best first with its questions;
    says what each comes to."""
    from dataclasses import replace

    from splarn.core.scans.kept import read_kept
    from splarn.core.tuning.keeping import choices_by_shape, shapes_of

    shapes = shapes_of(space)
    ways = [replace(read_kept(layout_), part_bytes=size) for layout_, size in shapes]
    _, told = foretold(context, asked, files, layout, prices, ways)
    bills = dict(zip(shapes, told[1:], strict=True))
    with context.out.working("forecasting"):
        return choices_by_shape(
            learned.model, space, volume, prices, limits, bills, asked.months, learned.joining
        )


def say_shapes(
    context: Context, choices: Sequence[KeptChoice], asked: Asked, prices: Prices
) -> None:
    """A table of shapes of files, each with its load and its questions."""
    out, most = context.out, 8
    priced = any(one.cost > 0 for one in choices)
    unit = f", {prices.currency}" if priced else ""
    shown = f"{most} of {len(choices)}, " if len(choices) > most else ""
    out.say(f"Shapes of files, {shown}by what they come to in {_months(asked.months)}:")
    out.table(
        ["", text("file layout"), ">part size", Column(">files", 2), ">load", ">a month reads",
         Column(">takes", 1), f">in all{unit}"],
        [
            ("→" if one is choices[0] else "", one.file_layout, exact_size(one.part_size),
             show_count(one.bill.way.files), show_duration(one.choice.chosen.seconds.median),
             show_size(one.bill.read.bytes), show_duration(one.bill.seconds),
             show_money(one.cost) if priced else show_duration(one.seconds))
            for one in choices[:most]
        ],
    )  # fmt: skip
