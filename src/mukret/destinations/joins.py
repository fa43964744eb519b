"""What the rules imply of keys: which columns of a table tell its rows apart, and which lead to the
table around it.
"""

from __future__ import annotations

from mukret.rules.model import Field, Rules, Table
from mukret.rules.sources import At, Fact

# Facts that every row has.
_ALWAYS_THERE = frozenset({"position", "path", "depth", "kind", "document", "file"})


def primary_key(rules: Rules, table: Table) -> tuple[str, ...]:
    """The key, if all of it is written and none of it can be null; else nothing."""
    names = {name for name, _ in table.columns}
    return (
        table.key
        if set(table.key) <= names
        # A placeholder has null in what its row would have had.
        and not set(table.key) & columns_empty_in_placeholders(rules, table)
        else ()
    )


def parent_key(rules: Rules, table: Table) -> tuple[str, tuple[str, ...]] | None:
    """The table around it and that one's whole key,
    if it is inherited and written on both sides.
    """
    parent = rules.tables.get(table.within or "")
    if (
        parent is None
        or not parent.key
        or not set(parent.key) <= {name for name, _ in parent.columns}
    ):
        return None
    # A part of the key would join a row with several.
    inherited = {item.name for item in table.inherit}
    return (parent.name, parent.key) if set(parent.key) <= inherited else None


def never_null(rules: Rules, table: Table) -> set[str]:
    """The columns in which no null is written."""
    fields: dict[str, Field] = {field.name: field for field in table.fields}
    fields.update({item.name: item.field for item in table.inherit})
    may_be_empty = columns_empty_in_placeholders(rules, table)
    filled = {name for name, field in fields.items() if _always_filled(field)}
    return (filled | set(primary_key(rules, table))) - may_be_empty


def _always_filled(field: Field) -> bool:
    """Whether a field is never null, whatever stands in the response."""
    match field.source:
        case At(take="count"):
            return True
        case At():
            return field.required
        # Facts of a request are there for some inputs alone.
        case Fact(name):
            return name in _ALWAYS_THERE and field.bad != "null"
    return False


def columns_empty_in_placeholders(rules: Rules, table: Table) -> set[str]:
    """The fields that are null, whatever they say, in the rows that stand for a parent without
    rows.
    """
    fields_of_table = {field.name for field in table.fields if table.rows.outer}
    return fields_of_table | {
        item.name
        for item in table.inherit
        if item.origin in rules.tables and rules.tables[item.origin].rows.outer
    }
