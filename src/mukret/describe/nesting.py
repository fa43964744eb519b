"""The tables that are written, each with those that stand in its records when they are nested."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from mukret.rules.model import Field, Rules, Table


@dataclass(frozen=True)
class Nested:
    """`fields`: those of the columns, by their names; `above`: the nearest table around it that is
    written; `inside`: the names of the tables whose rows stand in its records.
    """

    table: Table
    fields: dict[str, Field]
    above: str | None
    inside: tuple[str, ...]

    @property
    def name(self) -> str:
        return self.table.name


def nested_tables(rules: Rules) -> list[Nested]:
    """Those with columns, in the order of the rules."""
    written = [name for name, table in rules.tables.items() if table.columns]
    # A table in between that has no columns is stepped over, as in the output.
    above = {name: rules.around(name, written) for name in written}
    inside = defaultdict[str | None, list[str]](list)
    for name in written:
        inside[above[name]].append(name)
    return [
        Nested(
            rules.tables[name],
            column_fields(rules.tables[name]),
            above[name],
            tuple(inside[name]),
        )
        for name in written
    ]


def column_fields(table: Table) -> dict[str, Field]:
    """The fields that are written, inherited ones first, by the names of their columns."""
    inherited = {item.name: item.field for item in table.inherit}
    return {**inherited, **{field.name: field for field in table.fields if field.keep}}
