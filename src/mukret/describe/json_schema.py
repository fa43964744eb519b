"""JSON Schema (draft 2020-12) of the records, as the formats `json` and `jsonl` write them.

One schema takes a record, an array of them and the object that has all tables, nested or not: a
table within another is a member of its record that need not be there.
"""

from __future__ import annotations

from collections.abc import Mapping

from mukret.describe.nesting import Nested, nested_tables
from mukret.destinations.joins import never_null
from mukret.rules.model import Field, Rules
from mukret.types import ValueType
from mukret.values import JsonValue

DIALECT = "https://json-schema.org/draft/2020-12/schema"

Schema = dict[str, JsonValue]


def json_schema(rules: Rules, table: str | None = None) -> Schema:
    """The schema of the records of one table, or of all."""
    tables = {nested.name: nested for nested in nested_tables(rules)}
    definitions = {name: _record(rules, nested) for name, nested in tables.items()}
    head: Schema = {"$schema": DIALECT, "title": rules.title or "Records"}
    if rules.note:
        head["description"] = rules.note
    root = _any_form(tables) if table is None else _of_one(table)
    return {**head, **root, "$defs": _reached(definitions, tables, table)}


def _of_one(table: str) -> Schema:
    """A record, or an array of them: which one is told by its kind, so that a mistake is told where
    it stands.
    """
    record = {"$ref": f"#/$defs/{table}"}
    return {"if": {"type": "array"}, "then": {"items": record}, "else": record}


def _any_form(tables: Mapping[str, Nested]) -> Schema:
    records = [{"$ref": f"#/$defs/{name}"} for name in tables]
    record = records[0] if len(records) == 1 else {"anyOf": records}
    # All tables in one object, as `--to - --format json` writes them, or one record.
    payload: Schema = {
        "type": "object",
        "properties": {
            name: {"type": "array", "items": {"$ref": f"#/$defs/{name}"}}
            for name in tables
        },
        "required": [name for name, table in tables.items() if table.above is None],
        "additionalProperties": False,
    }
    return {
        "if": {"type": "array"},
        "then": {"items": record},
        "else": {"anyOf": [payload, record]},
    }


def _reached(
    definitions: Mapping[str, Schema], tables: Mapping[str, Nested], table: str | None
) -> dict[str, Schema]:
    """The definitions of a table and of those within it; all of them if it is None."""
    if table is None:
        return dict(definitions)
    reached = [table]
    for name in reached:
        reached += tables[name].inside
    return {name: definitions[name] for name in definitions if name in reached}


def _record(rules: Rules, table: Nested) -> Schema:
    sure = never_null(rules, table.table)
    properties = {
        name: _property(kind, table.fields[name], null=name not in sure)
        for name, kind in table.table.columns
    }
    inside = {
        name: {"type": "array", "items": {"$ref": f"#/$defs/{name}"}}
        for name in table.inside
    }
    described = {"description": table.table.note} if table.table.note else {}
    return {
        "$anchor": table.name,
        "type": "object",
        **described,
        "properties": {**properties, **inside},
        # Members are always there, null or not: what lacks was cut off.
        "required": list(properties),
        "additionalProperties": False,
    }


def _property(kind: ValueType, field: Field, *, null: bool) -> Schema:
    told = [
        part
        for part in (field.note, field.measured_in and f"({field.measured_in})")
        if part
    ]
    about = {"title": field.title} if field.title else {}
    if told:
        about["description"] = " ".join(told)
    schema = kind.elsewhere.json_schema
    # A member is always there: null stands where there is no value.
    return {**about, **(_or_null(schema) if null else schema)}


def _or_null(schema: Mapping[str, JsonValue]) -> Schema:
    """The schema, or null. An empty schema (of a type `json`) takes null already."""
    if "type" not in schema:
        return dict(schema)
    words = {"enum": [*schema["enum"], None]} if "enum" in schema else {}
    return {**schema, "type": [schema["type"], "null"], **words}
