"""Topological order: each thing after those that it needs."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from graphlib import CycleError, TopologicalSorter
from typing import TypeVar

Item = TypeVar("Item")


def after_what_they_need(
    items: Iterable[Item], needs: Callable[[Item], Iterable[Item]]
) -> tuple[list[Item], list[list[Item]]]:
    """The items, and the cycles among them, each from an item round to itself.

    Of cycles that share an item one is given.
    """
    graph = {item: list(dict.fromkeys(needs(item))) for item in items}
    cycles: list[list[Item]] = []
    while True:
        try:
            return list(TopologicalSorter(graph).static_order()), cycles
        except CycleError as error:
            cycle: list[Item] = error.args[1][
                ::-1
            ]  # it comes as what is needed before what needs it
            graph[cycle[0]].remove(cycle[1])
            if not any(set(cycle) & set(other) for other in cycles):
                cycles.append(cycle)
