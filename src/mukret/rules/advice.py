"""Warnings about rules before any data is read: valid, but perhaps not what was meant."""

from __future__ import annotations

from collections.abc import Iterator

from mukret.codes import Code
from mukret.errors import Notice
from mukret.rules.model import RESPONSE, Field, Rules, Table


def advice(rules: Rules) -> list[Notice]:
    """Warnings, in the order of the file."""
    notices = [*_unused(rules), *_not_joined(rules)]
    return [notice for _, notice in sorted(notices, key=lambda item: item[0])]


Placed = tuple[tuple[bool, str, int, int], Notice]


def _placed(
    rules: Rules,
    thing: Field | Table,
    code: str,
    message: str,
    hint: str,
    table: str | None,
) -> Placed:
    place = f"{thing.file}:{thing.line}:{thing.column}"
    order = (thing.file != rules.file, thing.file, thing.line, thing.column)
    return order, Notice(code, message, place, hint, table)


def _unused(rules: Rules) -> Iterator[Placed]:
    """Fields of the response that no table has, itself or by way of another field."""
    fields = {field.name: field for field in rules.response_fields}
    used: set[str] = set()
    todo = [
        item.name
        for table in rules.tables.values()
        for item in table.inherit
        if item.origin == RESPONSE
    ]
    # A field that an inherited one is made of is used as well, at any distance.
    while todo:
        name = todo.pop()
        if name in fields and name not in used:
            used.add(name)
            todo += fields[name].reads.fields
    for name, field in fields.items():
        if name not in used:
            message = (
                f"response.fields: no table inherits {name}, so it is written nowhere"
            )
            hint = f"inherit: [{name}] in a table, or take the field away"
            yield _placed(rules, field, Code.NOT_INHERITED, message, hint, None)


def _not_joined(rules: Rules) -> Iterator[Placed]:
    """Tables of which no row can be led back to its row of the table that it is within."""
    for table in rules.tables.values():
        parent = rules.tables.get(table.within or "")
        if (
            parent is None
            or not table.columns
            or not parent.columns
            or _tells_apart(rules, table, parent)
        ):
            continue
        # No error: such tables can be meant. But they can't be joined, and nobody sees that in the
        # table itself.
        message = (
            f"{table.name} inherits nothing that tells the rows of {parent.name} apart"
        )
        hint = (
            f"inherit: [{', '.join(parent.key)}]"
            if parent.key
            else f"give {parent.name} a key, and inherit it"
        )
        yield _placed(rules, table, Code.NOT_JOINED, message, hint, table.name)


def _tells_apart(rules: Rules, table: Table, parent: Table) -> bool:
    """Whether a table has what tells the rows of its parent apart, at least those of one row above
    or document.
    """
    inherited = {item.name for item in table.inherit}
    # The part of the parent's key that is its own tells its rows apart below one row of its own
    # parent.
    of_its_parents = {item.name for item in parent.inherit}
    own_names = [name for name in parent.key if name not in of_its_parents]
    if parent.key:
        return inherited.issuperset(own_names or parent.key)
    return any(item.origin == parent.name for item in table.inherit) or _is_alone(
        rules, parent
    )


def _is_alone(rules: Rules, table: Table) -> bool:
    """Whether a table has one row in each document at most."""
    above = rules.tables.get(table.within or "")
    rows = table.rows
    is_one = (
        len(rows.named_paths) == 1
        and rows.named_paths[0].singular
        and not rows.spread
        and rows.recurse is None
    )
    # Alone within a row that is one of many it comes as often as that.
    return is_one and (above is None or _is_alone(rules, above))
