"""Where the examples stand that a survey shows, looked for only when all nodes of a batch are
counted.

While nodes of one place are handed on together, each set of them has an owner: what says of the nth
of them in which container it is, and by which step. The locations of those containers are found
afterwards, in one pass, by identity.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from itertools import islice
from typing import NamedTuple

from mukret.paths import Location
from mukret.values import JsonValue

# Of the nodes that are handed over together: the container of the nth and the step to it, or the
# number of a root.
Owner = Callable[[int], tuple[JsonValue, str | int] | int]


def part_owner(nodes: Sequence[JsonValue], kind: type, owner: Owner) -> Owner:
    """For those nodes that are of one type."""
    return lambda index: owner(
        next(
            islice(
                (i for i, node in enumerate(nodes) if type(node) is kind), index, None
            )
        )
    )


def member_owner(objects: Sequence[JsonValue], name: str) -> Owner:
    """For the members of one name, of those objects that have it."""
    return lambda index: (
        next(islice((item for item in objects if name in item), index, None)),
        name,
    )


def element_owner(
    arrays: Sequence[JsonValue], ends: Sequence[int], shift: int
) -> Owner:
    """For the elements of arrays in a row: `ends` says where each array's end; `shift`: so many at
    the beginning of each are passed over.
    """

    def owner(index: int) -> tuple[JsonValue, int]:
        number = next(number for number, end in enumerate(ends) if index < end)
        before = ends[number - 1] if number else 0
        return arrays[number], index - before + shift

    return owner


def row_owner(arrays: Sequence[JsonValue], position: int) -> Owner:
    """For the cells of one column."""
    return lambda index: (arrays[index], position)


def map_owner(objects: Sequence[JsonValue]) -> Owner:
    """For all members of objects whose names are data."""
    return lambda index: next(
        islice(((item, name) for item in objects for name in item), index, None)
    )


def locations(
    documents: Sequence[JsonValue], containers: set[int]
) -> dict[int, tuple[int, Location]]:
    """The document and the location of each of these containers, told by identity."""
    located: dict[int, tuple[int, Location]] = {}
    for number, document in enumerate(documents):
        # A location is kept as a chain of steps that leads up; only those asked for are unrolled.
        todo: list[tuple[JsonValue, _Link | None]] = [(document, None)]
        while todo and len(located) < len(containers):
            node, link = todo.pop()
            if id(node) in containers:
                located[id(node)] = (number, _unlinked(link))
            for step, child in _children(node):
                if type(child) in (dict, list):
                    todo.append((child, _Link(link, step)))
    return located


class _Link(NamedTuple):
    above: _Link | None
    step: str | int


def _children(node: JsonValue) -> Iterable[tuple[str | int, JsonValue]]:
    if type(node) is dict:
        return node.items()
    return enumerate(node) if type(node) is list else ()


def _unlinked(link: _Link | None) -> Location:
    steps: list[str | int] = []
    while link is not None:
        steps.append(link.step)
        link = link.above
    return tuple(reversed(steps))
