"""A description of an engine as it is written: a TOML file, read and looked over."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from splarn.core.errors import RequestError
from splarn.core.source.secrets import tells_secret
from splarn.core.work.documents import first_wrong
from splarn.engines.described.templates import VALUES, wrong_value

Formats = dict[Literal["csv", "jsonl", "parquet"], list[str]]


class _Section(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class EngineSection(_Section):
    """What it is called and known by."""

    name: str = Field(description="What people call it.")
    place: str = Field(description="What tells it from others, as a URL without secrets.")


class Connection(_Section):
    """How it is reached: by any driver of the Python database interface (PEP 249)."""

    module: str = Field(default="", description="The driver's module, as psycopg.")
    odbc: str = Field(default="", description="Or an ODBC connection string, by way of pyodbc.")
    flight: str = Field(default="", description="Or an address of Arrow Flight SQL.")
    arguments: dict[str, Any] = Field(
        default_factory=dict, description="What connect() is given; secrets as ${NAME}."
    )
    begin: str = Field(
        default="",
        description="What begins a transaction, where the driver does not by itself; then all goes "
        "by one cursor, with COMMIT and ROLLBACK.",
    )
    begins: list[str] = Field(
        default_factory=list, description="Statements that each connection begins with."
    )


class Names(_Section):
    """How identifiers are written."""

    quotes: Annotated[list[str], Field(min_length=2, max_length=2)] = Field(
        default_factory=lambda: ['"', '"'], description="What stands before and behind one."
    )
    folding: Literal["lower", "upper", "none"] = Field(
        default="none", description="What becomes of a table's name as people write it."
    )
    longest: int = Field(default=63, ge=8, description="Characters of the longest name.")


class Texts(_Section):
    """How texts and truths are written in statements."""

    backslashes: bool = Field(
        default=False, description="Whether a backslash escapes what follows."
    )
    true: str = Field(default="TRUE", description="How true is written.")
    false: str = Field(default="FALSE", description="How false is written.")


class Types(_Section):
    """The column type of each of ours; {precision}, {scale} and {length} are filled in."""

    integer: str = Field(default="BIGINT", description="Whole numbers of 64 bits.")
    integer32: str = Field(default="INTEGER", description="Of 32 bits.")
    integer16: str = Field(default="SMALLINT", description="Of 16 bits.")
    number: str = Field(default="DOUBLE PRECISION", description="Doubles.")
    decimal: str = Field(default="DECIMAL({precision}, {scale})", description="Exact decimals.")
    boolean: str = Field(default="BOOLEAN", description="Truths.")
    date: str = Field(default="DATE", description="Days.")
    datetime: str = Field(default="TIMESTAMP", description="Moments without a zone.")
    time: str = Field(default="TIME", description="Times of the day.")
    text: str = Field(default="TEXT", description="Texts of any length.")
    varchar: str = Field(default="VARCHAR({length})", description="Texts of a known length.")


class Abilities(_Section):
    """What it can do. Each is tried before a word is said that leans on it."""

    transactions: bool = Field(
        default=False, description="A load statement and a note commit together or not at all."
    )
    tables_in_transactions: bool = Field(
        default=False, description="So do making, dropping and renaming tables."
    )
    whole_parts: bool = Field(default=False, description="A part that fails leaves no row behind.")
    once_by_file: bool = Field(
        default=False, description="Loading the same address again loads nothing."
    )
    reads: list[Literal["file", "http", "https", "s3"]] = Field(
        default=["file"], description="Addresses that it can read."
    )
    formats: Formats = Field(
        default={"csv": ["none"]}, description="Formats of parts, with codecs."
    )
    streams: bool = Field(default=True, description="Several parts may come in at once.")
    one_process: bool = Field(default=False, description="Only one process may have it open.")


class Statements(_Section):
    """Its statements. Those without a default that are left out are abilities it has not."""

    load: dict[Literal["csv", "jsonl", "parquet"], str] = Field(
        description="What brings one part in, by format."
    )
    rows: str = Field(
        default="",
        description="What answers how many rows the last load brought; else they are counted.",
    )
    create: str = Field(
        default="CREATE TABLE {table} ({columns_with_types})", description="Makes a table."
    )
    clone: str = Field(
        default="CREATE TABLE {into} AS SELECT * FROM {table} WHERE 1 = 0",
        description="Makes an empty table like another.",
    )
    drop: str = Field(default="DROP TABLE IF EXISTS {table}", description="Drops one.")
    rename: str = Field(default="ALTER TABLE {table} RENAME TO {name}", description="Renames one.")
    swap: str = Field(
        default="",
        description="Renames {table} to {before} and {into} to {table}, all at once; else both are "
        "renamed one after the other.",
    )
    empty: str = Field(default="DELETE FROM {table}", description="Removes all rows.")
    copy_rows: str = Field(default="INSERT INTO {into} ({columns}) SELECT {columns} FROM {table}",
        alias="copy", description="Copies rows from one into another.",
    )  # fmt: skip
    count: str = Field(default="SELECT count(*) FROM {table}", description="Counts rows.")
    look: str = Field(
        default="SELECT column_name, data_type, is_nullable FROM information_schema.columns "
        "WHERE table_name = {name_text} ORDER BY ordinal_position",
        description="Answers name, type and YES or NO for each column; no row for no table.",
    )
    version: str = Field(default="SELECT version()", description="Answers what it is.")
    claim: str = Field(
        default="",
        description="Answers true where no other session has this {load_id}; until it ends.",
    )
    turn: str = Field(default="", description="Waits until no other session begins or ends loads.")
    end_turn: str = Field(
        default="", description="Lets the next have its turn; a commit does if empty."
    )
    came_in: str = Field(
        default="",
        description="Its history: answers the rows that the part of this {tag} brought in.",
    )
    size: str = Field(default="", description="Answers the compute's size, and whether it runs.")
    resize: str = Field(default="", description="Gives the compute another {tier}.")
    tiers: list[str] = Field(default_factory=list, description="Sizes it can have, least first.")


class Figures(_Section):
    """Expressions of a {column} for digests, and of a row for its hash."""

    text_bytes: str = Field(
        default="OCTET_LENGTH({column})", description="Bytes of a text as UTF-8."
    )
    boolean: str = Field(
        default="CASE WHEN {column} THEN 1 ELSE 0 END",
        description="A truth as a number; null as null.",
    )
    date: str = Field(
        default="{column} - DATE '1970-01-01'", description="A day as days since 1970."
    )
    datetime: str = Field(
        default="FLOOR(EXTRACT(EPOCH FROM {column}))", description="Whole seconds since 1970."
    )
    time: str = Field(
        default="FLOOR(EXTRACT(EPOCH FROM {column}))", description="Whole seconds since midnight."
    )


class Description(_Section):
    """An engine as it is described. `path` is the file."""

    engine: EngineSection
    connection: Connection
    statements: Statements
    names: Names = Names()
    texts: Texts = Texts()
    types: Types = Types()
    abilities: Abilities = Abilities()
    figures: Figures = Figures()
    each: dict[str, str | dict[str, str]] = Field(
        default_factory=dict,
        description="Further values of load statements, by name: a template of a {column}, with "
        "{variable} and {null}, that is written for each of them; or one for each type of ours, "
        "and `other`.",
    )
    codecs: dict[str, str] = Field(
        default_factory=dict, description="What it calls a codec, by Splarn's name."
    )
    path: str = ""


def read_description(path: Path) -> Description:
    """Reads and looks over a description.

    Raises RequestError in one sentence with the file, the line and what to do.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except OSError:
        raise RequestError(
            f"There is no engine's description {path}: name a TOML file, as described:engine.toml."
        ) from None
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RequestError(f"The description {path} is no TOML: {error}.") from None
    try:
        found = Description.model_validate({**document, "path": str(path)})
    except ValidationError as error:
        place, wrong = first_place(error), first_wrong(error, Description)
        raise RequestError(f"In {_at(path, text, place)}: {wrong}.") from None
    _look_over(found, path, text)
    return found


def first_place(error: ValidationError) -> tuple[str, ...]:
    """The keys that lead to the first thing that is wrong."""
    return tuple(str(piece) for piece in error.errors()[0]["loc"])


_SECRET = re.compile(r"pass|pwd|secret|token", re.IGNORECASE)


def _written_out(told: Connection) -> list[tuple[str, str]]:
    """Every text of a connection with the name that it stands under, also inside of others."""
    found: list[tuple[str, str]] = [("flight", told.flight)]
    for piece in told.odbc.split(";"):
        name, _, value = piece.partition("=")
        found.append((name.strip() or "odbc", value.strip()))

    def go_in(name: str, value: Any) -> None:
        if isinstance(value, dict):
            for inner, one in value.items():
                go_in(str(inner), one)
        elif isinstance(value, list):
            for one in value:
                go_in(name, one)
        elif isinstance(value, str):
            found.append((name, value))

    go_in("arguments", told.arguments)
    return found


def _look_over(found: Description, path: Path, text: str) -> None:
    """What no type tells. Raises RequestError."""
    for place, template in templates_of(found):
        values = VALUES[_kind(place)]
        if _kind(place) == "load":
            values = values | found.each.keys()
        unknown = wrong_value(template, values)
        if unknown:
            known = ", ".join(f"{{{name}}}" for name in sorted(values))
            raise RequestError(
                f"In {_at(path, text, place)}: {{{unknown}}} is no value of it; there are {known} "
                "(write a brace that is one twice)."
            )
    told = found.connection
    ways = [bool(told.module), bool(told.odbc), bool(told.flight)]
    if sum(ways) != 1:
        raise RequestError(
            f"In {_at(path, text, ('connection',))}: give one of module, odbc and flight."
        )
    for name, value in _written_out(told):
        if tells_secret(value) or (_SECRET.search(name) and value and "${" not in value):
            key = name if name in ("odbc", "flight") else f"arguments.{name}"
            raise RequestError(
                f"In {_at(path, text, ('connection', key.partition('.')[0]))}: a secret stands "
                f"there ({key}): put it into the environment and write ${{NAME}} in its place."
            )
    if tells_secret(found.engine.place):
        raise RequestError(f"In {_at(path, text, ('engine', 'place'))}: leave the secret out.")
    for form in found.statements.load:
        if form not in found.abilities.formats:
            raise RequestError(
                f"In {_at(path, text, ('abilities', 'formats'))}: there is a statement that loads "
                f"{form}, so say with which codecs."
            )
    for form in found.abilities.formats:
        if form not in found.statements.load:
            raise RequestError(
                f"In {_at(path, text, ('statements', 'load'))}: say what brings {form} in."
            )


def templates_of(found: Description) -> list[tuple[tuple[str, ...], str]]:
    """Every template with the keys that lead to it."""
    told: list[tuple[tuple[str, ...], str]] = []
    statements = found.statements
    for name in type(statements).model_fields:
        value, key = getattr(statements, name), "copy" if name == "copy_rows" else name
        if isinstance(value, str):
            told.append((("statements", key), value))
    told += [(("statements", "load", form), one) for form, one in statements.load.items()]
    for name, each in found.each.items():
        every = each.values() if isinstance(each, dict) else [each]
        told += [(("each", name), template) for template in every]
    for section in ("types", "figures"):
        one = getattr(found, section)
        told += [((section, name), getattr(one, name)) for name in type(one).model_fields]
    return told


def _kind(place: tuple[str, ...]) -> str:
    """Which values a template may have."""
    return place[1] if place[0] == "statements" else place[0]


def _at(path: Path, text: str, place: tuple[str, ...]) -> str:
    """The file and the line of a key, as near as it can be told."""
    lines = text.splitlines()
    section = next(
        (n for n, line in enumerate(lines) if re.match(rf"\s*\[+{re.escape(place[0])}\b", line)), 0
    )
    found = section
    for piece in place[1:]:
        pattern = re.compile(rf"\s*\[*[\w.]*\b{re.escape(piece)}\b")
        found = next(
            (n for n, line in enumerate(lines) if n >= found and pattern.match(line)), found
        )
    return f"{path}, line {found + 1}, {'.'.join(place)}"
