"""Pages of what one command said: a survey, a check, a load, a run, a comparison."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.units import plural, show_change, show_duration, show_money, show_range, show_size
from splarn.report.drawing import bars, spans
from splarn.report.facts import Table
from splarn.report.figures import Figure
from splarn.report.page import Page, shown

if TYPE_CHECKING:
    from splarn.core.ledger import Entry

# So many rows of a table are told, so many bars drawn.
ROWS, BARS = 2000, 20


def page_of_document(document: Mapping[str, Any], name: str) -> Page:
    """The page of a document that a command wrote with --json.

    Raises RequestError for one that is of none of them.
    """
    for keys, make in (
        (("files", "totals", "findings"), _survey),
        (("faults", "good", "bad"), _check),
        (("pairs",), _compared),
        (("load", "actual", "forecast"), _run),
        (("load_id", "rows_loaded"), _load),
    ):
        if all(key in document for key in keys):
            try:
                return make(document)
            except (KeyError, TypeError, ValueError, AttributeError) as error:
                raise RequestError(
                    f"{name} does not hold what it should ({type(error).__name__}: {error}): write "
                    "it anew with --json."
                ) from None
    raise RequestError(
        f"{name} is no document that a report can be made of: give a plan, or what survey, check, "
        "compare, load or run wrote with --json."
    )


def page_of_entry(entry: Entry) -> Page:
    """The page of a load or a run that the ledger has. Raises RequestError for another entry."""
    if entry.kind not in ("load", "run"):
        raise RequestError(
            f"{entry.id} is a {entry.kind}, of which there is no report: name a plan, a load or a "
            "run."
        )
    return page_of_document(entry.document, entry.id)


def _survey(told: Mapping[str, Any]) -> Page:
    files: Sequence[Mapping[str, Any]] = told["files"]
    totals, findings = told["totals"], told["findings"]
    largest = sorted(files, key=lambda one: -float(one["bytes"]))[:BARS]
    sizes = Figure(
        "sizes", "Where the bytes are",
        bars([(_short(one["path"]), float(one["bytes"])) for one in largest], show_size),
        _always, lambda _: _of(len(largest), len(files), "file"), _tall(len(largest)),
    )  # fmt: skip
    rows = [
        (one["path"], show_size(one["bytes"]), str(one["codec"]), str(one.get("format") or ""),
         _rows(one), str(one.get("columns") or ""), "; ".join(map(_words, one["findings"])))
        for one in files[:ROWS]
    ]  # fmt: skip
    keys = [("", one["bytes"], "", "", one["rows"] or 0, one.get("columns") or 0, "")
            for one in files[:ROWS]]  # fmt: skip
    count = totals["rows"]
    what = "" if count is None else f" and about {plural(round(count), 'row')}"
    sentences = [
        f"{plural(totals['files'], 'file')}, {show_size(totals['bytes'])}{what}.",
        f"{plural(len(findings), 'finding')} across them." if findings
        else "Nothing across them stands out.",
    ]  # fmt: skip
    return Page(
        "Survey", "What came", (), tuple(sentences), (shown(sizes, told),) if files else (),
        (Table("Every file", ("file", "bytes", "codec", "format", "rows", "columns", "findings"),
               tuple(rows), (False, True, False, False, True, True, False), tuple(keys)),),
        (("Findings", tuple(_words(one) for one in findings)),),
    )  # fmt: skip


def _check(told: Mapping[str, Any]) -> Page:
    faults = told["faults"]
    by_field = Counter(str(one["field"] or f"the {one['kind']}") for one in faults)
    common = by_field.most_common(BARS)
    figures = []
    if common:
        figures.append(shown(Figure(
            "faults", "Where the faults are",
            bars([(name, float(count)) for name, count in common], lambda n: f"{n:,.0f}"),
            _always, lambda _: "Faults by field, of those that are listed.", _tall(len(common)),
        ), told))  # fmt: skip
    rows = [
        (one["path"], f"{one['line']:,}", str(one["field"] or ""), one["kind"],
         "" if one["value"] is None else str(one["value"]), one["message"])
        for one in faults[:ROWS]
    ]  # fmt: skip
    keys = [("", one["line"], "", "", "", "") for one in faults[:ROWS]]
    share = told["bad"] / max(told["rows"], 1)
    sentences = (
        f"{plural(told['good'], 'row')} of {told['rows']:,} fit the layout; {told['bad']:,} "
        f"({share:.2%}) do not.",
        f"The rejects are in {told['rejects']}." if told.get("rejects") else
        "No row was set aside: --rejects DIR keeps them.",
    )  # fmt: skip
    tables = (
        Table("Faults", ("file", "line", "field", "kind", "value", "why"), tuple(rows),
              (False, True, False, False, False, False), tuple(keys)),
    ) if rows else ()  # fmt: skip
    return Page("Check", "What does not fit", (), sentences, tuple(figures), tables)


def _load(told: Mapping[str, Any]) -> Page:
    return Page(
        "Load", f"Load into {told['table']}", (f"{told['load_id']}, {told.get('target', '')}",),
        _loaded(told), tuple(_of_phases(told["phases"], told)), (_parts(told),),
    )  # fmt: skip


def _loaded(told: Mapping[str, Any]) -> tuple[str, ...]:
    seconds = float(told["seconds"])
    speed = f", {told['rows_loaded'] / seconds:,.0f} a second" if seconds else ""
    verified = "What is in the table was not held against what was read."
    if told.get("verified") is not None:
        verified = (
            "What is in the table was held against what was read, and is the same."
            if told["verified"] else "What is in the table is not what was read."
        )  # fmt: skip
    rejected = told["rows_rejected"]
    return (
        f"{plural(told['rows_loaded'], 'row')} in {show_duration(seconds)}{speed}.",
        verified,
        f"{plural(rejected, 'row')} rejected"
        + (f", in {told['rejects']}." if told.get("rejects") else "."),
        *map(str, told.get("differences", ())),
    )


def _run(told: Mapping[str, Any]) -> Page:
    span, actual = told["forecast"]["seconds"], told["actual"]
    change = actual["seconds"] / span["median"] - 1 if span["median"] else 0.0
    words = f"{show_change(abs(change)).lstrip('+')} {'slower' if change > 0 else 'faster'}"
    inside = span["low"] <= actual["seconds"] <= span["high"]
    held = "" if told.get("resumed") else (
        f"That is {words} than the forecast of {show_duration(span['median'])}, "
        f"{'within' if inside else 'outside'} its 90 % interval "
        f"({show_range(span['low'], span['high'], show_duration)})."
    )  # fmt: skip
    phases = [
        (phase, show_duration(seconds), show_duration(actual["phases"].get(phase, 0.0)))
        for phase, seconds in told["forecast"]["phases"].items()
    ]
    keys = [("", seconds, actual["phases"].get(phase, 0.0))
            for phase, seconds in told["forecast"]["phases"].items()]  # fmt: skip
    load = told["load"]
    figure = Figure(
        "beside", "Forecast beside actual",
        spans([("all", *(span[name] for name in ("low", "median", "high")), actual["seconds"])],
              show_duration),
        _always, lambda _: held or "It went on with earlier work.", (6.4, 2.2),
    )  # fmt: skip
    return Page(
        "Run", f"Run into {load['table']}", (f"{told['plan_id']}, {load['load_id']}",),
        (f"All was done in {show_duration(actual['seconds'])} for "
         f"{show_money(actual['cost'], told['currency'])}.",
         *([held] if held else []), *_loaded(load)),
        (shown(figure, told), *_of_phases(actual["phases"], told)),
        (Table("Each phase", ("phase", "forecast", "actual"), tuple(phases), (False, True, True),
               tuple(keys)), _parts(load)),
        (("Changed on its way", tuple(
            f"{one['lever']} {one['before']} to {one['value']} after "
            f"{show_duration(one['after'])}" for one in told.get("changes", ())
        )),),
    )  # fmt: skip


def _compared(told: Mapping[str, Any]) -> Page:
    pairs = told["pairs"]
    rows, keys, drawn_of = [], [], []
    for one in pairs[:ROWS]:
        ratio = one["ratio"]
        label = f"{_short(str(one['b']))}\nover {_short(str(one['a']))}"
        drawn_of.append((label, ratio["low"], ratio["median"], ratio["high"], None))
        rows.append((str(one["b"]), str(one["a"]), f"{ratio['median']:.3f}",
                     f"{ratio['low']:.3f} – {ratio['high']:.3f}", str(one["verdict"])))  # fmt: skip
        keys.append(("", "", ratio["median"], ratio["low"], ""))
    figure = Figure(
        "ratios", "How many times as long", spans(drawn_of[:BARS], lambda x: f"{x:.2f}", 1.0),
        _always, lambda _: "With 90 % intervals; those that reach over 1 may be no difference.",
        _tall(min(len(drawn_of), BARS)),
    )  # fmt: skip
    return Page(
        "Comparison", "Held against one another", (),
        (f"{plural(len(pairs), 'pair')} held against one another.",
         *(f"{one['b']} against {one['a']}: {one['verdict']}." for one in pairs[:3])),
        (shown(figure, told),) if rows else (),
        (Table("Every pair", ("of", "against", "times as long", "90 % interval", "what it says"),
               tuple(rows), (False, False, True, True, False), tuple(keys)),),
    )  # fmt: skip


def _of_phases(phases: Mapping[str, float], told: Mapping[str, Any]) -> list[Any]:
    taken = [(name, float(seconds)) for name, seconds in phases.items() if seconds > 0]
    if not taken:
        return []
    longest = max(taken, key=lambda one: one[1])
    figure = Figure(
        "phases", "What the time went into", bars(taken, show_duration), _always,
        lambda _: f"Most of it was {longest[0]}: {show_duration(longest[1])}.", _tall(len(taken)),
    )  # fmt: skip
    return [shown(figure, told)]


def _parts(load: Mapping[str, Any]) -> Table:
    parts = load["parts"]
    rows = [
        (one["path"], f"{one['rows']:,}", f"{one['rejected']:,}", show_duration(one["seconds"]),
         one["status"])
        for one in parts[:ROWS]
    ]  # fmt: skip
    keys = [("", one["rows"], one["rejected"], one["seconds"], "") for one in parts[:ROWS]]
    title = "Parts" if len(parts) <= ROWS else f"The first {ROWS:,} of {len(parts):,} parts"
    return Table(title, ("part", "rows", "rejected", "time", "status"), tuple(rows),
                 (False, True, True, True, False), tuple(keys))  # fmt: skip


def _rows(one: Mapping[str, Any]) -> str:
    if one["rows"] is None:
        return ""
    return f"{'' if one['rows_exact'] else 'about '}{round(one['rows']):,}"


def _words(finding: Any) -> str:
    return str(finding["message"]) if isinstance(finding, Mapping) else str(finding)


def _short(path: str) -> str:
    """The end of a path, which tells most."""
    return path if len(path) <= 34 else f"…{path[-33:]}"


def _of(shown_ones: int, every: int, what: str) -> str:
    if shown_ones == every:
        return f"All of the {plural(every, what)}."
    return f"The {shown_ones} largest of {plural(every, what)}."


def _tall(count: int) -> tuple[float, float]:
    return 6.4, 1.3 + 0.34 * max(count, 2)


def _always(told: Any) -> bool:
    return True
