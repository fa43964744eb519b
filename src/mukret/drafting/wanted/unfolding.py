"""Records that may be rows written side by side: a table for the members of each, beside the tables
of a draft.

`{"adult": {"amount": 7}, "child": {"amount": 3}}` is a record with two amounts, or two rows. A
draft has to choose; who types wanted rows has chosen.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.paths import Name, Segment, parse_path
from mukret.paths.locate import path_text

NAME, VALUE = "member_name", "member_value"
FEWEST = 2


def with_members_as_rows(draft: Draft) -> None:
    """Adds tables to a draft of candidates: for each record that has members of the same shape the
    members as rows.
    """
    for table in list(draft.tables):
        draft.tables += _tables_of_members(draft, table)


def _tables_of_members(draft: Draft, table: DraftTable) -> Iterator[DraftTable]:
    for number, (path, fields) in enumerate(_groups(table).items()):
        below = [table_fields for table_fields in fields if table_fields is not None]
        table_fields = [DraftField(NAME, {"fact": "name"}), *below]
        yield DraftTable(
            f"{table.name}_members_{number}", path, within=table, fields=table_fields
        )


def _groups(table: DraftTable) -> dict[str, list[DraftField]]:
    """By the path to the members: what stands below each of them, or they themselves."""
    inner: dict[str, dict[str, set[str]]] = {}
    readings: dict[tuple[str, str], DraftField] = {}
    for field in table.fields:
        segments = _segments(field)
        for place, segment in enumerate(segments):
            if not isinstance(segment.only, Name):
                break
            path, rest = _text(segments[:place]), _text(segments[place + 1 :])
            inner.setdefault(path, {}).setdefault(rest, set()).add(segment.only.name)
            readings.setdefault((path, rest), field)
    groups: dict[str, list[DraftField]] = {}
    for path, below in inner.items():
        shared = [rest for rest, names in below.items() if len(names) >= FEWEST]
        if shared:
            fields = [_field(rest, readings[path, rest]) for rest in shared]
            groups[f"{path}.*"] = fields
    return groups


def _segments(field: DraftField) -> tuple[Segment, ...]:
    """The path of a field that reads one value; empty for any other."""
    at = field.source.get("at")
    if not isinstance(at, str) or "take" in field.source:
        return ()
    return parse_path(at).segments


def _field(rest: str, like: DraftField) -> DraftField:
    reading = {name: value for name, value in like.reading.items() if name != "keep"}
    last = parse_path(rest).segments[-1:]
    name = last[0].only.name if last and isinstance(last[0].only, Name) else VALUE
    plain = re.sub("[^A-Za-z0-9]", "_", name)
    return DraftField(
        f"member_{plain}" if rest != "$" else VALUE, {"at": rest}, reading
    )


def _text(segments: tuple[Segment, ...]) -> str:
    return path_text(segments)
