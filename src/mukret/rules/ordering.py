"""Things in an order in which each comes after those that it needs."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TypeVar

Item = TypeVar("Item")


def after_what_they_need(
    items: Iterable[Item], needs: Callable[[Item], Sequence[Item]]
) -> tuple[list[Item], list[list[Item]]]:
    """The items, otherwise in their own order; and the cycles among them, each from an item round to itself.

    An item of a cycle comes where it was met. Of cycles that share an item one is given.
    """
    order: list[Item] = []
    done: set[Item] = set()
    cycles: list[list[Item]] = []
    for first in items:
        trail: list[tuple[Item, Iterator[Item]]] = [] if first in done else [(first, iter(needs(first)))]
        while trail:
            item, rest = trail[-1]
            following = next((need for need in rest if need not in done), None)
            if following is None:
                trail.pop()
                done.add(item)
                order.append(item)
                continue
            above = [entry for entry, _ in trail]
            if following not in above:
                trail.append((following, iter(needs(following))))
            elif not any(set(above) & set(cycle) for cycle in cycles):
                cycles.append([*above[above.index(following) :], following])
    return order, cycles
