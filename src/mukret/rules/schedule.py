"""The order in which fields are evaluated: each after what it needs, over all tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from mukret.expressions import Expression
from mukret.rules.model import WHERE, Above, Compute, Derive, Field, Inherit, Inherited, Lookup, Step, Survive
from mukret.rules.ordering import after_what_they_need

_Node = tuple[str, str | None]
"""A field of a table; with None, the question which rows of the table survive."""


def make_schedule(
    fields: Mapping[str, Sequence[Field]],
    inherited: Mapping[str, Sequence[Inherited]],
    conditions: Mapping[str, Expression],
) -> tuple[Step, ...]:
    """Steps for all fields, by table in an order in which parents come first.

    Lookups and aggregates see the rows that survive, and whether a row survives hangs on all of its fields and on its
    condition. Where those hang on the lookup in turn (a table that looks into itself), the row is judged without them.
    """
    own: dict[_Node, Field] = {(table, item.name): item for table, items in fields.items() for item in items}
    taken: dict[_Node, Inherited] = {(table, item.name): item for table, items in inherited.items() for item in items}
    nodes: list[_Node] = []
    for table in fields:
        nodes += [(table, item.name) for item in inherited.get(table, ())]
        nodes += [(table, item.name) for item in fields[table]]
    needs: dict[_Node, list[_Node]] = {}
    for node in nodes:
        needs[node] = [(taken[node].origin, node[1])] if node in taken else _needs(node[0], own[node])
    for table, condition in conditions.items():
        needs[table, WHERE] = [(table, name) for name in condition.fields()] + _aggregated(condition)
        nodes.append((table, WHERE))
    asked = sorted({need[0] for found in needs.values() for need in found if need[1] is None})
    without = {}
    for table in asked:
        hanging = _hanging_on((table, None), needs)
        of_table = [node for node in nodes if node[0] == table]
        without[table] = frozenset(str(node[1]) for node in of_table if node in hanging)
    for table in asked:
        needs[table, None] = [node for node in nodes if node[0] == table and node[1] not in without[table]]
    order, _ = after_what_they_need(nodes, lambda node: needs[node])
    steps: list[Step] = []
    for node in order:
        table = node[0]
        if node in taken:
            steps.append(Inherit(table, taken[node]))
        elif node in own:
            steps.append(Derive(table, own[node]))
        elif node[1] is None:
            steps.append(Survive(table, without[table]))
    return tuple(steps)


def _needs(table: str, own: Field) -> list[_Node]:
    found: list[_Node] = [(table, name) for name in own.reads]
    match own.source:
        case Compute(expression=expression):
            found += _aggregated(expression)
        case Above(field=name):
            found.append((table, name))
        case Lookup(table=str(target)) as lookup:
            found += [(target, name) for name in (*lookup.key, lookup.give)]
            found.append((target, None))
    return found


def _aggregated(expression: Expression) -> list[_Node]:
    found: list[_Node] = []
    for aggregate in expression.aggregates():
        found.append((aggregate.table, None))
        if aggregate.field is not None:
            found.append((aggregate.table, aggregate.field))
    return found


def _hanging_on(start: _Node, needs: Mapping[_Node, Sequence[_Node]]) -> set[_Node]:
    """All nodes that need this one, at first or second hand. Survival needs all fields of its table."""
    needed_by: dict[_Node, list[_Node]] = {}
    for node, found in needs.items():
        for need in found:
            needed_by.setdefault(need, []).append(node)
        if node[1] is not None:
            needed_by.setdefault(node, []).append((node[0], None))
    seen: set[_Node] = set()
    todo = [start]
    while todo:
        for node in needed_by.get(todo.pop(), ()):
            if node not in seen:
                seen.add(node)
                todo.append(node)
    return seen
