"""The keys of a layout file that Splarn reads; others are left alone."""

# The names below are the standards' own spelling.
# ruff: noqa: N815

from __future__ import annotations

from pydantic import BaseModel, Field


class DialectModel(BaseModel):
    delimiter: str = ","
    quoteChar: str | None = '"'
    lineTerminator: str = "\n"
    header: bool = True


class ConstraintsModel(BaseModel):
    required: bool = False


class FieldModel(BaseModel):
    name: str = Field(min_length=1)
    type: str = "string"
    format: str = "default"
    precision: int | None = None
    scale: int | None = None
    constraints: ConstraintsModel = ConstraintsModel()


class SchemaModel(BaseModel):
    fields: list[FieldModel]
    missingValues: list[str] = [""]


class ResourceModel(BaseModel):
    name: str = "data"
    encoding: str = "utf-8"
    dialect: DialectModel = DialectModel()
    table: SchemaModel = Field(alias="schema")
