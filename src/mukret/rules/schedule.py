"""The order in which fields are evaluated, and what must be known before a run."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Set
from graphlib import TopologicalSorter

from mukret.rules.graph import FieldGraph, Node
from mukret.rules.model import Derive, Field, Inherit, Rules, Step, Survive


def make_schedule(graph: FieldGraph) -> tuple[Step, ...]:
    """Steps for all fields, each after what it needs."""
    steps: list[Step] = []
    for node in graph.in_order:
        table, name = node
        if node in graph.taken:
            steps.append(Inherit(table, graph.taken[node]))
        elif node in graph.own:
            steps.append(Derive(table, graph.own[node]))
        # A condition is no step of its own: it is asked with the rows that survive.
        elif name is None:
            steps.append(Survive(table, graph.without[table]))
    return tuple(steps)


def lookup_passes(
    rules: Rules, wanted: Collection[str] | None = None
) -> list[list[tuple[str, Field]]]:
    """The lookups across the run, by the readings of the input that must go before.

    In each the answers of some are gathered: what those hang on is known from earlier ones. With
    `wanted` those that these tables hang on.
    """
    graph = FieldGraph.of(rules)
    looking = {
        node: field
        for node, field in graph.own.items()
        if field.reads.across_run and field.reads.rows
    }
    behind = {node: (graph.behind(node) & looking.keys()) - {node} for node in looking}
    needed = _needed(behind, wanted)
    order = TopologicalSorter({node: behind[node] for node in needed})
    order.prepare()  # what hangs on itself is left out of the judgement, so that there is no cycle
    passes: list[list[tuple[str, Field]]] = []
    while order.is_active():
        ready = set(order.get_ready())
        # In the order of the rules, so that two runs of them do the same.
        passes.append([(node[0], looking[node]) for node in looking if node in ready])
        order.done(*ready)
    return passes


def _needed(
    behind: Mapping[Node, Set[Node]], wanted: Collection[str] | None
) -> set[Node]:
    """The lookups of these tables, and those that they hang on."""
    if wanted is None:
        return set(behind)
    nodes = {node for node in behind if node[0] in wanted}
    return nodes.union(*(behind[node] for node in nodes))
