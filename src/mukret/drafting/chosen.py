"""A draft cut down to some fields, or made of what stands below one path."""

from __future__ import annotations

import re
from collections.abc import Sequence

from mukret.codes import Code
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.errors import UsageError
from mukret.paths import Path
from mukret.text import did_you_mean
from mukret.values import JsonValue

_LAST_NAME = re.compile(r"(\w+)'?\]?$")


def below(draft: Draft, path: Path) -> None:
    """Puts a path before those of a draft that was made of what the path finds, so that its tables
    look for their rows from the document on. What stands elsewhere is ignored.
    """
    draft.ignored.clear()
    for table in draft.tables:
        if table.within is None:
            table.rows = _from(path, table.rows)
            header = table.options.get("header")
            if isinstance(header, str) and header.startswith("$"):
                table.options["header"] = _from(path, header)


def _from(path: Path, rows: JsonValue) -> JsonValue:
    if isinstance(rows, dict):
        return {name: _from(path, inner) for name, inner in rows.items()}
    return path.text + str(rows).removeprefix("$")


def with_fields_alone(draft: Draft, names: Sequence[str]) -> None:
    """Leaves these fields, by their name in the draft or that of the member, and the tables that
    have some. A key stays where all of it does. Raises UsageError for a name that no field has.
    """
    everything = [
        field for table in draft.tables for field in table.fields
    ] + draft.response
    # All names are looked at before any field goes: a typo leaves the draft whole.
    for name in names:
        if not any(_is_called(field, name) for field in everything):
            hint = did_you_mean(name, dict.fromkeys(field.name for field in everything))
            raise UsageError(
                Code.USAGE, f"--fields: no field {name} in the draft", hint=hint
            )
    for table in draft.tables:
        table.fields = _called(table.fields, names)
    draft.response = _called(draft.response, names)
    _without_what_is_gone(draft)


def _called(fields: Sequence[DraftField], names: Sequence[str]) -> list[DraftField]:
    return [field for field in fields if _is_one_of(field, names)]


def _without_what_is_gone(draft: Draft) -> None:
    """Takes out of a draft what has no meaning without the fields that were taken out."""
    draft.tables = _tables_with_fields(draft.tables)
    response = {field.name for field in draft.response}
    types = set()
    # Each comes after the one that it is within.
    for table in draft.tables:
        _table_without_what_is_gone(table, response)
        types |= {field.reading.get("type") for field in table.fields}
    draft.enums = {name: words for name, words in draft.enums.items() if name in types}
    draft.ignored.clear()
    read = [str(field.source.get("at")) for field in draft.response]
    read += [str(table.rows) for table in draft.tables]
    draft.embedded = tuple(path for path in draft.embedded if _reads_below(path, read))


def _table_without_what_is_gone(table: DraftTable, response: set[str]) -> None:
    """`response`: the fields of the response that are left."""
    handed_down = table.within.names() if table.within is not None else set()
    table.inherit = [name for name in table.inherit if name in handed_down | response]
    if not table.fields:
        why = "the table within has the fields"
        table.fields = [DraftField("position", {"fact": "position"}, comment=why)]
    names = table.names()
    # A part of a key is none.
    table.key = table.key if names >= {*table.key} else []
    table.joined_by = [name for name in table.joined_by if name in names]


def _tables_with_fields(tables: Sequence[DraftTable]) -> list[DraftTable]:
    """Those that have fields, and the tables above them, which say where their rows are."""
    kept: set[int] = set()
    for table in tables:
        above = table if table.fields else None
        while above is not None:
            kept.add(id(above))
            above = above.within
    return [table for table in tables if id(table) in kept]


def _is_called(field: DraftField, name: str) -> bool:
    member = _LAST_NAME.search(str(field.source.get("at", "")))
    return field.name == name or (member is not None and member[1] == name)


def _is_one_of(field: DraftField, names: Sequence[str]) -> bool:
    return any(_is_called(field, name) for name in names)


def _reads_below(place: str, paths: Sequence[str]) -> bool:
    return any(path.startswith(place) for path in paths)
