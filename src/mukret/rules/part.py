"""The part of a set of rules that is enough to know what becomes of the rows of some tables."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from mukret.expressions import Expression
from mukret.rules.model import RESPONSE, Compute, Field, Lookup, Rules, Table


def part_for(rules: Rules, names: Iterable[str]) -> Rules:
    """The rules with these tables alone and what they hang on: tables above, looked up and aggregated.

    All of them, if a value may end the run. What an embedded text that can't be read does to a document only the whole
    rules can tell: whether it stands in a row of any table.
    """
    if any(own.bad == "stop" for own in _all_fields(rules)):
        return rules
    needed: set[str] = set()
    todo = [*names, *_behind(rules.response_fields, None)]
    while todo:
        name = todo.pop()
        if name not in needed:
            needed.add(name)
            todo += _needs(rules.tables[name])
    if len(needed) == len(rules.tables):
        return rules
    return replace(
        rules,
        tables={name: table for name, table in rules.tables.items() if name in needed},
        schedule=tuple(step for step in rules.schedule if step.table in needed or step.table == RESPONSE),
    )


def _needs(table: Table) -> Iterator[str]:
    if table.within is not None:
        yield table.within
    yield from _behind(table.fields, table.where)


def _behind(fields: Iterable[Field], condition: Expression | None) -> Iterator[str]:
    """The tables that values are looked up in, or are made of."""
    expressions = [condition] if condition else []
    for own in fields:
        match own.source:
            case Compute(expression=expression):
                expressions.append(expression)
            case Lookup(table=str(target), across_run=False):
                yield target
    for expression in expressions:
        yield from (aggregate.table for aggregate in expression.aggregates())


def _all_fields(rules: Rules) -> Iterator[Field]:
    yield from rules.response_fields
    for table in rules.tables.values():
        yield from table.fields
