"""The part of a set of rules that is enough to know what becomes of the rows of some tables."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from mukret.rules.graph import looked_at, tables_behind
from mukret.rules.model import RESPONSE, Rules


def part_for(rules: Rules, names: Iterable[str]) -> Rules:
    """The rules with these tables alone and what they hang on: tables above, looked up and
    aggregated.

    All of them, if a value may end the run. What an embedded text that can't be read does to a
    document only the whole rules can tell: whether it stands in a row of any table.
    """
    # A table that nobody asked for may end the run: then all of them must be read.
    if any(field.bad == "stop" for _, field in rules.all_fields()):
        return rules
    kept = tables_behind(
        rules, [*names, *looked_at(field.reads for field in rules.response_fields)]
    )
    if len(kept) == len(rules.tables):
        return rules
    return replace(
        rules,
        tables={name: table for name, table in rules.tables.items() if name in kept},
        schedule=tuple(
            step
            for step in rules.schedule
            if step.table in kept or step.table == RESPONSE
        ),
    )
