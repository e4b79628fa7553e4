"""The layout guessed from samples, with every doubt said aloud."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.errors import RequestError
from splarn.core.inference.column_types import FieldGuess, Seen, guess_field, look_at
from splarn.core.inference.encoding import is_binary
from splarn.core.inference.evidence import Evidence, evidence_of
from splarn.core.inference.moments import settle_day_first
from splarn.core.inference.samples import SampledText, take_samples
from splarn.core.inference.text_form import TextForm, judge_text
from splarn.core.layout.fields import Field, Layout
from splarn.core.source.places import Place
from splarn.core.source.source import Source

# Deliveries of up to so many bytes are read whole before a layout is said of them.
ALL_PLAIN = 24 << 20
ALL_PACKED = 4 << 20
MOST_MISFITS = 1000


@dataclass(frozen=True)
class Inferred:
    """A layout, how many records it was guessed from, and what remains in doubt.

    `seen` says of each field what the sample held; `columns` are the values themselves, None for
    none, and `places` where each record is.
    """

    layout: Layout
    rows_sampled: int
    notes: tuple[str, ...]
    seen: tuple[Seen, ...] = ()
    columns: tuple[Sequence[str | None], ...] = ()
    places: tuple[str, ...] = ()

    @property
    def evidence(self) -> tuple[Evidence, ...]:
        """What speaks for each field; empty where values were not kept."""
        return tuple(
            evidence_of(field, column, self.places)
            for field, column in zip(self.layout.fields, self.columns, strict=False)
        )


def infer_layout(
    files: Sequence[Place | Source],
    name: str | None = None,
    delimiter: str | None = None,
    flatten: bool = False,
) -> Inferred:
    """Guesses the layout from samples spread over all the files, whose format the first one tells.

    `delimiter` settles that question beforehand; `flatten` gives nested JSON columns of its own.
    Raises RequestError when the files hold no records or are of several formats.
    """
    sources = [one if isinstance(one, Source) else Source.of(one) for one in files]
    samples = take_samples(sources)
    if not samples:
        raise RequestError(f"{_name_all(sources)}: there is nothing to infer a layout from.")
    for sample in samples:
        if sample.is_head and is_binary(sample.data):
            raise RequestError(
                f"{sample.path} is no text but a file of another kind: leave it out, or bring it "
                "as delimited text, JSON, Parquet or a spreadsheet here."
            )
    name = name or _stem(sources[0].place)
    formats = {sample.source.format for sample in samples if sample.is_head}
    if len(formats) > 1:
        raise RequestError(
            f"The files are of several formats ({', '.join(sorted(formats))}): infer a layout for "
            "each kind apart; `splarn survey` lists them."
        )
    (kind,) = formats
    if kind == "parquet":
        from splarn.core.inference.of_columnar import infer_columnar

        layout, rows, notes, seen = infer_columnar(
            list(dict.fromkeys(s.path for s in samples)), name, flatten
        )
        return Inferred(layout, rows, (*notes, *_alike(layout)), seen)
    if kind == "jsonl" and delimiter is None:
        from splarn.core.inference.of_json import infer_json

        layout, notes, seen, columns, places = infer_json(samples, name, flatten)
        notes = (*notes, *_alike(layout))
        return Inferred(layout, len(places), notes, seen, columns, places)
    return _infer_delimited(samples, name, delimiter)


def _alike(layout: Layout) -> list[str]:
    """Says which names differ only in case, where they are the files' own and cannot be settled."""
    first: dict[str, str] = {}
    notes = []
    for name in layout.names:
        other = first.setdefault(name.lower(), name)
        if other != name:
            notes.append(
                f"{other} and {name} differ only in case, which only PostgreSQL keeps apart; load "
                "one of them with --columns"
            )
    return notes


def _infer_delimited(samples: Sequence[SampledText], name: str, delimiter: str | None) -> Inferred:
    form = judge_text(samples, delimiter)
    notes = list(form.notes)
    if form.width == 1 and delimiter is not None:
        notes.append(f"only one column with the delimiter {delimiter!r}")
    if not form.records:
        notes.append("the header has no records under it, so every field is taken as text")
    whole = all(sample.whole for sample in samples)
    columns = [[row[index] for row in form.records] for index in range(form.width)]
    guesses = [
        guess_field(field, column, whole) for field, column in zip(form.names, columns, strict=True)
    ]
    if not whole and form.records:
        guesses = _held_against_all(samples, form, name, guesses, columns)
    fields = settle_day_first([guess.field for guess in guesses], columns)
    for guess, field in zip(guesses, fields, strict=True):
        notes += guess.notes if field is guess.field else _settled(field, guess.notes)
    layout = Layout(name, form.dialect, tuple(fields))
    values = tuple(
        [None if _is_null(value, field) else value for value in column]
        for field, column in zip(fields, columns, strict=True)
    )
    seen = tuple(look_at(name, column) for name, column in zip(layout.names, values, strict=True))
    return Inferred(layout, len(form.records), tuple(notes), seen, values, form.places)


def _held_against_all(
    samples: Sequence[SampledText],
    form: TextForm,
    name: str,
    guesses: list[FieldGuess],
    columns: list[list[str]],
) -> list[FieldGuess]:
    """The guesses once a small delivery was read whole, so that no value of it is a surprise."""
    sources = list({sample.source.place: sample.source for sample in samples}.values())
    packed = any(source.packing != "none" for source in sources)
    if sum(source.size for source in sources) > (ALL_PACKED if packed else ALL_PLAIN):
        return guesses
    for _ in range(3):
        layout = Layout(name, form.dialect, tuple(guess.field for guess in guesses))
        misfits = _misfits(sources, layout)
        changed = False
        for index, guess in enumerate(guesses):
            values = misfits.get(guess.field.name, [])
            if not values:
                continue
            again = guess_field(guess.field.name, [*columns[index], *values])
            changed = changed or again.field != guess.field
            guesses[index] = again
            columns[index] += values
        if not changed:
            break
    return guesses


def _misfits(sources: Sequence[Source], layout: Layout) -> dict[str, list[str]]:
    """Values of all files that are not of their field's type, some of each field."""
    from splarn.core.reading import read_parsed

    misfits: dict[str, list[str]] = {}
    for source in sources:
        read = source.read_by(layout)
        for parsed in read_parsed(read.place, read.codec, layout):
            for fault in parsed.faults:
                if fault.kind == "type" and fault.field and fault.value is not None:
                    values = misfits.setdefault(fault.field, [])
                    if len(values) < MOST_MISFITS:
                        values.append(fault.value)
    return misfits


def _settled(field: Field, notes: Sequence[str]) -> list[str]:
    kept = [note for note in notes if "fits both" not in note]
    return [*kept, f"{field.name}: taken as {field.format}, as another field leaves no choice"]


def _is_null(value: str, field: Field) -> bool:
    return value in (("",) if field.null_markers is None else field.null_markers)


def _name_all(sources: Sequence[Source]) -> str:
    if len(sources) == 1:
        return f"{sources[0]} holds no records"
    return f"None of the {len(sources)} files holds a record"


def _stem(path: Place) -> str:
    stem = path.name.split(".")[0]
    return stem.rstrip("0123456789-_") or stem
