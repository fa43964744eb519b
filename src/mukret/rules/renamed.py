"""Which tables and columns of two versions of the rules are the same under another name."""

from __future__ import annotations

from collections.abc import Mapping

from mukret.rules.model import Field, Rules, Table
from mukret.rules.sources import Compute, Lookup


def same_tables(old: Rules, new: Rules) -> dict[str, str]:
    """The old name of each table of the new rules that was there before: under its name, or else as
    one that is gone and found its rows in the same way.
    """
    old_names = {name: name for name in new.tables if name in old.tables}
    gone = [name for name in old.tables if name not in new.tables]
    for name in new.tables:
        # A table of another name with the same rows is the same one, renamed; of several the one
        # with most columns in common.
        rows = _way_to_rows(new, name)
        alike = [
            other
            for other in gone
            if name not in old_names and _way_to_rows(old, other) == rows
        ]
        if alike:
            old_names[name] = max(
                alike,
                key=lambda other: len(
                    same_columns(old.tables[other], new.tables[name])
                ),
            )
            gone.remove(old_names[name])
    return old_names


def _way_to_rows(rules: Rules, name: str | None) -> list[object]:
    """How the rows of a table are found, from the document on."""
    way: list[object] = []
    while name is not None:
        table = rules.tables[name]
        way.append((table.rows, table.kind))
        name = table.within
    return way


def same_columns(old: Table, new: Table) -> dict[str, str]:
    """The old name of each column of the new table that was there before: under its name, or else
    as one that is gone and has the same source, if possible of the same type.
    """
    before, after = _columns(old), _columns(new)
    old_names = {name: name for name in after if name in before}
    gone = {name: column for name, column in before.items() if name not in after}
    # First those that changed in name alone, so that a column with another type does not take their
    # place.
    for same_type in (True, False):
        for name, column in after.items():
            alike = _first_alike(gone, column, same_type)
            if name not in old_names and alike is not None:
                old_names[name] = alike
                del gone[alike]
    return {name: old_names[name] for name in after if name in old_names}


def _first_alike(
    columns: Mapping[str, Field], new: Field, same_type: bool
) -> str | None:
    """The name of the first of these columns that has the source of another one."""
    for name, old in columns.items():
        if _source(old) == _source(new) and (not same_type or old.type == new.type):
            return name
    return None


def _columns(table: Table) -> Mapping[str, Field]:
    fields = {field.name: field for field in table.fields if field.keep}
    return {item.name: item.field for item in table.inherit} | fields


def _source(field: Field) -> object:
    """Where the values of a field come from, comparable between two versions."""
    match field.source:
        case Compute(text=text):
            return "compute", text
        case Lookup() as lookup:
            return (
                "lookup",
                lookup.name,
                lookup.by,
                lookup.key,
                lookup.give,
                lookup.across_run,
            )
    # Paths, facts and constants are compared as they are.
    return field.source
