"""The graph of what reads what, over the fields of all tables: order, parts and passes are made
from it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from mukret.expressions import Expression
from mukret.rules.model import RESPONSE, WHERE, Field, Inherited, Rules
from mukret.rules.ordering import after_what_they_need
from mukret.rules.sources import Reads, expression_reads

# A field of a table, or its condition (WHERE); with None, the question which rows of the table
# survive.
Node = tuple[str, str | None]


class FieldGraph:
    """`needs` has for each node those that must be known before.

    Lookups and aggregates see the rows that survive, and whether a row survives hangs on all of its
    fields and on its condition. Where those hang on the lookup in turn (a table that looks into
    itself), the row is judged without them: `without` has them, by table.
    """

    def __init__(
        self,
        fields: Mapping[str, Sequence[Field]],
        inherited: Mapping[str, Sequence[Inherited]],
        conditions: Mapping[str, Expression],
    ) -> None:
        self.own: dict[Node, Field] = {}
        self.taken: dict[Node, Inherited] = {}
        # Nodes are fields, inherited fields, conditions (WHERE) and what decides which rows survive
        # (None). One graph of them all, since any may hang on any other.
        self.needs: dict[Node, list[Node]] = {}
        for table in fields:
            for item in inherited.get(table, ()):
                self.taken[table, item.name] = item
                self.needs[table, item.name] = [(item.origin, item.name)]
            for field in fields[table]:
                self.own[table, field.name] = field
                self.needs[table, field.name] = needed(table, field.reads)
        for table, condition in conditions.items():
            self.needs[table, WHERE] = needed(table, expression_reads(condition))
        self.without = self._without()
        for table, names in self.without.items():
            # Which rows survive hangs on all fields of the table, but for those that are made of
            # the answer.
            self.needs[table, None] = [
                node
                for node in self.needs
                if node[0] == table and node[1] is not None and node[1] not in names
            ]

    @classmethod
    def of(cls, rules: Rules) -> FieldGraph:
        tables = rules.tables
        # The graph is made of parts as well, while the rules are still being read.
        return cls(
            {
                RESPONSE: rules.response_fields,
                **{name: table.fields for name, table in tables.items()},
            },
            {name: table.inherit for name, table in tables.items()},
            {
                name: table.where
                for name, table in tables.items()
                if table.where is not None
            },
        )

    @property
    def in_order(self) -> list[Node]:
        """All nodes, each after what it needs."""
        return after_what_they_need(self.needs, lambda node: self.needs[node])[0]

    def behind(self, start: Node) -> set[Node]:
        """All that a node needs, at first or second hand."""
        return _reached(start, self.needs)

    def _without(self) -> dict[str, frozenset[str]]:
        """For each table of which is asked which rows survive:
        its fields that hang on the answer.
        """
        needed_by: dict[Node, list[Node]] = {}
        for node, needs in self.needs.items():
            for need in needs:
                needed_by.setdefault(need, []).append(node)
            needed_by.setdefault(node, []).append(
                (node[0], None)
            )  # survival needs all fields of the table
        asked = sorted({table for table, name in needed_by if name is None})
        hanging: dict[str, frozenset[str]] = {}
        for table in asked:
            reached = _reached((table, None), needed_by)
            hanging[table] = frozenset(
                str(name) for of, name in reached if of == table and name
            )
        return hanging


def needed(table: str, reads: Reads) -> list[Node]:
    """What a value of a table needs that reads this."""
    nodes: list[Node] = [(table, name) for name in (*reads.fields, *reads.above)]
    for other, names in reads.rows.items():
        nodes += [(other, name) for name in names]
        nodes.append((other, None))
    return nodes


def tables_behind(rules: Rules, names: Iterable[str]) -> set[str]:
    """These tables and those that the rows of one hang on: tables above, and those that are looked
    at in the same document.
    """
    behind: set[str] = set()
    todo = list(names)
    while todo:
        name = todo.pop()
        if name in behind:
            continue
        behind.add(name)
        table = rules.tables[name]
        # A row needs the rows above it, however little it takes from them: they say where it
        # stands.
        todo += [] if table.within is None else [table.within]
        todo += looked_at(
            [*(field.reads for field in table.fields), *_condition(table.where)]
        )
    return behind


def looked_at(some: Iterable[Reads]) -> list[str]:
    """The tables whose rows in the same document are looked at."""
    return [table for reads in some if not reads.across_run for table in reads.rows]


def _condition(expression: Expression | None) -> list[Reads]:
    return [] if expression is None else [expression_reads(expression)]


def _reached(start: Node, edges: Mapping[Node, Sequence[Node]]) -> set[Node]:
    seen: set[Node] = set()
    todo = [start]
    while todo:
        for node in edges.get(todo.pop(), ()):
            if node not in seen:
                seen.add(node)
                todo.append(node)
    return seen
