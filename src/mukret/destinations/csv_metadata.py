"""`csv-metadata.json`: what the CSV files hold, in the W3C's CSV on the Web vocabulary (tabular
metadata, 2015).
"""

from __future__ import annotations

from mukret.destinations.csv import ENDING
from mukret.destinations.joins import (
    columns_empty_in_placeholders,
    parent_key,
    primary_key,
)
from mukret.rules.model import Field, Rules, Table
from mukret.rules.sources import At
from mukret.types import (
    ListOf,
    ValueType,
)
from mukret.values import JsonValue

FILE = "csv-metadata.json"


def csv_metadata(rules: Rules) -> dict[str, JsonValue]:
    """The metadata document of all tables that are written; keys and joins that the rules imply
    included.
    """
    written = [table for table in rules.tables.values() if table.columns]
    document: dict[str, JsonValue] = {"@context": "http://www.w3.org/ns/csvw"}
    if rules.title:
        document["dc:title"] = rules.title
    document["tables"] = [_table(rules, table) for table in written]
    return document


def _table(rules: Rules, table: Table) -> dict[str, JsonValue]:
    fields = {field.name: field for field in table.fields}
    fields.update({item.name: item.field for item in table.inherit})
    # A placeholder of an outer join is empty but for what its parent gives it.
    may_be_empty = columns_empty_in_placeholders(rules, table)
    columns = [
        _column(fields[name], kind, may_lack=name in may_be_empty)
        for name, kind in table.columns
    ]
    schema: dict[str, JsonValue] = {"columns": columns, "null": ""}
    if key := primary_key(rules, table):
        schema["primaryKey"] = list(key)
    if above := parent_key(rules, table):
        parent, shared = above[0], list(above[1])
        reference = {"resource": f"{parent}{ENDING}", "columnReference": shared}
        schema["foreignKeys"] = [{"columnReference": shared, "reference": reference}]
    described = {"dc:description": table.note} if table.note else {}
    return {"url": f"{table.name}{ENDING}", **described, "tableSchema": schema}


def _column(field: Field, kind: ValueType, *, may_lack: bool) -> dict[str, JsonValue]:
    titles = (
        field.name if field.title is None else [field.title, field.name]
    )  # the file is headed with either
    column: dict[str, JsonValue] = {
        "name": field.name,
        "titles": titles,
        "datatype": kind.elsewhere.csvw,
    }
    if isinstance(kind, ListOf):
        column["separator"] = ";"
    if field.required and isinstance(field.source, At) and not may_lack:
        column["required"] = True
    about = " ".join(
        part
        for part in (field.note, field.measured_in and f"({field.measured_in})")
        if part
    )
    return {**column, **({"dc:description": about} if about else {})}
