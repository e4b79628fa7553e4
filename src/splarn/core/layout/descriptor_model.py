"""The keys of a layout file that Splarn reads, with the values that they have by default."""

# The names below are the standards' own spelling.
# ruff: noqa: N815

from __future__ import annotations

from pydantic import BaseModel, Field


class DialectModel(BaseModel):
    delimiter: str = ","
    quoteChar: str | None = '"'
    escapeChar: str | None = None
    trim: bool = False
    lineTerminator: str = "\n"
    header: bool = True
    headerRows: list[int] | None = None
    commentRows: list[int] | None = None
    commentChar: str | None = None
    skipInitialSpace: bool = False
    footerRows: int = 0
    delimiterRuns: bool = False
    widths: list[int] = []
    shortRecords: str = "fault"


class ConstraintsModel(BaseModel):
    required: bool = False
    unique: bool = False
    minimum: str | int | float | None = None
    maximum: str | int | float | None = None
    enum: list[str | int | float | bool] | None = None
    minLength: int | None = None
    maxLength: int | None = None
    pattern: str | None = None


class FieldModel(BaseModel):
    name: str = Field(min_length=1)
    type: str = "string"
    format: str = "default"
    precision: int | None = None
    scale: int | None = None
    bits: int = 64
    trueValues: list[str] = []
    falseValues: list[str] = []
    missingValues: list[str] | None = None
    decimalChar: str | None = None
    groupChar: str | None = None
    bareNumber: bool = True
    sign: str | None = None
    negativeBrackets: bool = False
    constraints: ConstraintsModel = ConstraintsModel()


class SchemaModel(BaseModel):
    fields: list[FieldModel]
    missingValues: list[str] = [""]


class ResourceModel(BaseModel):
    name: str = "data"
    format: str = "csv"
    encoding: str = "utf-8"
    dialect: DialectModel = DialectModel()
    table: SchemaModel = Field(alias="schema")
