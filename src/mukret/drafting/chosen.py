"""A draft of some fields alone, or of what stands below one path."""

from __future__ import annotations

import re
from collections.abc import Sequence

from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.errors import UsageError
from mukret.paths import Path
from mukret.text import did_you_mean
from mukret.values import JsonValue

_LAST_NAME = re.compile(r"(\w+)'?\]?$")


def below(draft: Draft, path: Path) -> None:
    """Has the tables of a draft that was made of what a path finds look for their rows from the
    document on. What stands elsewhere is no concern of it.
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
    everything = [own for table in draft.tables for own in table.fields] + draft.response
    for name in names:
        if not any(_is_called(own, name) for own in everything):
            hint = did_you_mean(name, dict.fromkeys(own.name for own in everything))
            raise UsageError("usage", f"--fields: no field {name} in the draft", hint=hint)
    for table in draft.tables:
        table.fields = [own for own in table.fields if any(_is_called(own, name) for name in names)]
    draft.response = [own for own in draft.response if any(_is_called(own, name) for name in names)]
    _without_what_is_gone(draft)


def _without_what_is_gone(draft: Draft) -> None:
    kept = {id(table) for table in draft.tables if table.fields}
    for table in draft.tables:
        above: DraftTable | None = table
        while table.fields and above is not None:  # tables above say where the rows are
            kept.add(id(above))
            above = above.within
    draft.tables = [table for table in draft.tables if id(table) in kept]
    there = {own.name for own in draft.response}
    for table in draft.tables:  # each after the one that it is within
        handed_down = table.within.names() if table.within is not None else set()
        table.inherit = [name for name in table.inherit if name in handed_down | there]
        if not table.fields:
            table.fields = [
                DraftField(
                    "position", {"fact": "position"}, comment="the table within has the fields"
                )
            ]
        table.key = table.key if table.names() >= {*table.key} else []
        table.joined_by = [name for name in table.joined_by if name in table.names()]
    used = {own.reading.get("type") for table in draft.tables for own in table.fields}
    draft.enums = {name: words for name, words in draft.enums.items() if name in used}
    draft.ignored.clear()
    read = [str(own.source.get("at")) for own in draft.response] + [
        str(table.rows) for table in draft.tables
    ]
    draft.embedded = tuple(
        path for path in draft.embedded if any(one.startswith(path) for one in read)
    )


def _is_called(own: DraftField, name: str) -> bool:
    member = _LAST_NAME.search(str(own.source.get("at", "")))
    return own.name == name or (member is not None and member[1] == name)
