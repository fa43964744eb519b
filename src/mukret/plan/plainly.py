"""The plain way of finding rows and values: in nodes that are decoded, one by one, as the rules say
it.

It is for what a scan does not find: rows that are put together, or stand under a header or below
each other, and paths with `..`, slices, indexes from the end or several selectors; and for
documents that a scan leaves to others.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field

from mukret.paths import Path
from mukret.rules.rows import Excused, Refusal, RowRules
from mukret.types import Bad
from mukret.values import JsonValue


@dataclass
class Gathered:
    """The rows of one table in a batch.

    `owners` holds for each row the number of its parent, ascending. `placeholders` are the rows of
    parents that have none (`outer`), `odd` those that are no objects, `faulty` those that can't be
    read, `met` those of them that are no rows, but what a path met instead. `above` is the row
    above each in a table that recurses, -1 for none; `refusals`, by parent, rows that can't be told
    apart.
    """

    rows: list[JsonValue] = field(default_factory=list)
    owners: list[int] = field(default_factory=list)
    positions: list[int] = field(default_factory=list)
    names: list[str | None] = field(default_factory=list)
    depths: list[int] = field(default_factory=list)
    above: list[int] = field(default_factory=list)
    placeholders: set[int] = field(default_factory=set)
    odd: list[int] = field(default_factory=list)
    faulty: dict[int, Bad] = field(default_factory=dict)
    met: set[int] = field(default_factory=set)
    refusals: list[tuple[int, Refusal]] = field(default_factory=list)


@dataclass(frozen=True)
class Parents:
    """The nodes in which rows are looked for, and their names; some of them are placeholders, and
    in some nothing is looked for (`unreadable`). `excused`: what is on record already below each of
    them.
    """

    nodes: Sequence[JsonValue]
    names: Sequence[str | None]
    placeholders: Collection[int] = ()
    unreadable: Collection[int] = ()
    excused: Callable[[int], Excused | None] = lambda owner: None


def gathered(rows: RowRules, parents: Parents) -> Gathered:
    """The rows below all parents that may have some."""
    rows_below = Gathered()
    for owner, parent in enumerate(parents.nodes):
        if owner in parents.unreadable:
            continue
        below = rows.find(
            parent,
            is_placeholder=owner in parents.placeholders,
            excused=parents.excused(owner),
        )
        if below.refusal is not None:
            rows_below.refusals.append((owner, below.refusal))
        first = len(rows_below.rows)
        # Everything about rows is a list per fact, not an object per row: columns are made of
        # lists.
        for number, row in enumerate(below.rows, first):
            rows_below.rows.append(row.node)
            rows_below.owners.append(owner)
            rows_below.positions.append(row.position)
            rows_below.names.append(row.name(parents.names[owner]))
            rows_below.depths.append(row.depth)
            rows_below.above.append(-1 if row.above is None else first + row.above)
            if row.is_placeholder:
                rows_below.placeholders.add(number)
            if row.fault is not None:
                rows_below.faulty[number] = row.fault
            if row.met:
                rows_below.met.add(number)
    return rows_below


def nodes_of(
    paths: Sequence[Path], rows: Sequence[JsonValue], *, with_nulls: bool
) -> tuple[list[list[JsonValue]], set[int]]:
    """For each row the nodes of the first path that finds a value other than null, and the rows in
    which a path met another kind. Nulls are left out unless `with_nulls`; where no path finds a
    value, the first path's nodes count.
    """
    column: list[list[JsonValue]] = []
    suspects: set[int] = set()
    for number, row in enumerate(rows):
        tried: list[list[JsonValue]] = []
        for path in paths:
            reached = path.explored(row)
            tried.append([item.value for item in reached if item.step is None])
            # Something of another kind was met on the way: whether that is a fault hangs on what is
            # taken.
            if len(tried[-1]) < len(reached):
                suspects.add(number)
            if _holds_a_value(tried[-1]):
                break
        chosen = tried[-1] if _holds_a_value(tried[-1]) else tried[0]
        column.append(
            chosen if with_nulls else [value for value in chosen if value is not None]
        )
    return column, suspects


def _holds_a_value(nodes: Sequence[JsonValue]) -> bool:
    return any(node is not None for node in nodes)


def finds_something(path: Path, nodes: Sequence[JsonValue]) -> bool:
    """Whether a path finds anything below any of some nodes."""
    return any(path.values(node) for node in nodes)
