"""The order in which fields are evaluated, and what must be known before a run."""

from __future__ import annotations

from collections.abc import Collection

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
        node: own for node, own in graph.own.items() if own.reads.across_run and own.reads.rows
    }
    behind = {node: (graph.behind(node) & looking.keys()) - {node} for node in looking}
    needed = set(looking)
    if wanted is not None:
        own = [node for node in looking if node[0] in wanted]
        needed = set(own).union(*(behind[node] for node in own))
    passes: list[list[tuple[str, Field]]] = []
    known: set[Node] = set()
    while known != needed:
        ready = [node for node in looking if node in needed - known and behind[node] <= known]
        assert ready, "what hangs on itself is left out of the judgement"
        passes.append([(node[0], looking[node]) for node in ready])
        known |= set(ready)
    return passes
