"""The order in which fields are evaluated: each after what it needs, over all tables."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from mukret.expressions import Expression
from mukret.rules.model import (
    RESPONSE,
    WHERE,
    Above,
    Compute,
    Derive,
    Field,
    Inherit,
    Inherited,
    Lookup,
    Rules,
    Step,
    Survive,
)
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
    graph = _Graph(fields, inherited, conditions)
    order, _ = after_what_they_need(graph.nodes, lambda node: graph.needs[node])
    steps: list[Step] = []
    for node in order:
        table = node[0]
        if node in graph.taken:
            steps.append(Inherit(table, graph.taken[node]))
        elif node in graph.own:
            steps.append(Derive(table, graph.own[node]))
        elif node[1] is None:
            steps.append(Survive(table, graph.without[table]))
    return tuple(steps)


class _Graph:
    """What needs what, over the fields of all tables. Where it is asked which rows of a table survive, `without` has
    the fields that hang on the answer."""

    def __init__(
        self,
        fields: Mapping[str, Sequence[Field]],
        inherited: Mapping[str, Sequence[Inherited]],
        conditions: Mapping[str, Expression],
    ) -> None:
        self.own: dict[_Node, Field] = {(table, item.name): item for table, items in fields.items() for item in items}
        self.taken: dict[_Node, Inherited] = {
            (table, item.name): item for table, items in inherited.items() for item in items
        }
        self.nodes: list[_Node] = []
        for table in fields:
            self.nodes += [(table, item.name) for item in inherited.get(table, ())]
            self.nodes += [(table, item.name) for item in fields[table]]
        self.needs: dict[_Node, list[_Node]] = {}
        for node in self.nodes:
            taken = self.taken.get(node)
            self.needs[node] = [(taken.origin, taken.name)] if taken else _needs(node[0], self.own[node])
        for table, condition in conditions.items():
            self.needs[table, WHERE] = [(table, name) for name in condition.fields()] + _aggregated(condition)
            self.nodes.append((table, WHERE))
        asked = sorted({need[0] for found in self.needs.values() for need in found if need[1] is None})
        self.without: dict[str, frozenset[str]] = {}
        for table in asked:
            hanging = _hanging_on((table, None), self.needs)
            of_table = [node for node in self.nodes if node[0] == table]
            self.without[table] = frozenset(str(node[1]) for node in of_table if node in hanging)
        for table in asked:
            own = [node for node in self.nodes if node[0] == table and node[1] not in self.without[table]]
            self.needs[table, None] = own

    def behind(self, start: _Node) -> set[_Node]:
        """All that a node needs, at first or second hand."""
        seen: set[_Node] = set()
        todo = [start]
        while todo:
            for need in self.needs[todo.pop()]:
                if need not in seen:
                    seen.add(need)
                    todo.append(need)
        return seen


def lookup_passes(rules: Rules, wanted: Collection[str] | None = None) -> list[list[tuple[str, Field]]]:
    """The lookups across the run, by the readings of the input that must go before. In each the answers of some are
    gathered: what those hang on is known from earlier ones. With `wanted` those that these tables hang on."""
    tables = rules.tables
    graph = _Graph(
        {RESPONSE: rules.response_fields, **{name: table.fields for name, table in tables.items()}},
        {name: table.inherit for name, table in tables.items()},
        {name: table.where for name, table in tables.items() if table.where is not None},
    )
    looking = {
        node: own
        for node, own in graph.own.items()
        if isinstance(own.source, Lookup) and own.source.across_run and own.source.table is not None
    }
    behind = {node: (graph.behind(node) & looking.keys()) - {node} for node in looking}
    needed = set(looking)
    if wanted is not None:
        own = [node for node in looking if node[0] in wanted]
        needed = set(own).union(*(behind[node] for node in own))
    passes: list[list[tuple[str, Field]]] = []
    known: set[_Node] = set()
    while known != needed:
        ready = [node for node in looking if node in needed - known and behind[node] <= known]
        assert ready, "what hangs on itself is left out of the judgement"
        passes.append([(node[0], looking[node]) for node in ready])
        known |= set(ready)
    return passes


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
