"""A description of an engine as it is written: the sections and keys of its TOML file."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

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
    aside: dict[Literal["csv", "jsonl", "parquet"], str] = Field(
        default_factory=dict,
        description="The same where bad rows are left out, of which refused then tells.",
    )
    refused: str = Field(
        default="",
        description="Answers line, field, reason and record of each row that was left out of the "
        "part of this {tag} or {address}, at any time.",
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
    under_way: str = Field(
        default="",
        description="Answers how many statements that bring the part of this {tag} in still wait "
        "or run, also of clients that are gone.",
    )
    times: str = Field(
        default="",
        description="Its history: answers when the part of this {tag} was queued, started and "
        "finished, in seconds of its clock.",
    )
    clock: str = Field(default="", description="Answers the seconds of its clock now.")
    brought: str = Field(
        default="",
        description="A condition that holds for the rows of a load, by the {mark} that its load "
        "statements have put into them.",
    )
    size: str = Field(default="", description="Answers the compute's size, and whether it runs.")
    resize: str = Field(
        default="", description="Gives the compute another {tier}; size is then asked until it is."
    )
    start: str = Field(
        default="",
        description="Starts a compute that does not run; size is then asked until it does.",
    )
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
