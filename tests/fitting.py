"""Documents that fit their rules: what the paths lead to is there, and is such as the types take;
now and then something has another shape.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from typing import Any

from mukret.paths import Filter, Index, Name, Segment, Selector, Slice, Wildcard
from mukret.rules.model import Field, Rules, Table
from mukret.rules.sources import At
from mukret.types import Bad, ListOf, TypeSpec
from mukret.values import JsonValue, Number

Draw = Callable[[int, int], int]


class Grower:
    """Grows one document; `pool` are the values that its leaves are chosen from."""

    def __init__(self, draw: Draw, rules: Rules, pool: Sequence[JsonValue]) -> None:
        self.draw = draw
        self.rules = rules
        self.pool = tuple(pool)

    def document(self) -> JsonValue:
        holder: list[JsonValue] = [{}]
        for path in self.rules.must_have:
            self.put(holder, 0, path.segments, 1)
        for own in self.rules.response_fields:
            self.field(holder, 0, own)
        for table in self.rules.tables.values():
            if table.within is None:
                self.rows(holder, 0, table, depth=0)
        if self.draw(0, 3) == 0:
            self.change_a_shape(holder)
        return holder[0]

    # ---- rows and fields

    def rows(self, holder: Any, step: Any, table: Table, depth: int) -> None:
        """Rows of a table below a node, with all that they read."""
        paths = table.rows.named_paths
        count = self.draw(1, (7, 3, 2)[self.level(table)])
        for path in paths if table.rows.zip else paths[self.draw(0, len(paths) - 1) :]:
            places = list(self.put(holder, step, path.segments, count))
            for above, below in places:
                self.row(above, below, table, depth)

    def level(self, table: Table) -> int:
        """How many tables it is within; as many as two count."""
        above = self.rules.tables.get(table.within or "")
        return 0 if above is None else min(2, 1 + self.level(above))

    def row(self, holder: Any, step: Any, table: Table, depth: int) -> None:
        if table.rows.header is not None or table.rows.zip is not None:
            return  # what grows elsewhere must do
        for own in table.fields:
            self.field(holder, step, own)
        for child in self.rules.tables.values():
            if child.within == table.name:
                self.rows(holder, step, child, depth)
        if table.rows.recurse is not None and depth < 2:
            for above, below in list(
                self.put(holder, step, table.rows.recurse.segments, 1)
            ):
                self.row(above, below, table, depth + 1)

    def field(self, holder: Any, step: Any, own: Field) -> None:
        if not isinstance(own.source, At) or (
            not own.required and self.draw(0, 9) == 0
        ):
            return
        path = own.source.paths[self.draw(0, len(own.source.paths) - 1)]
        several = own.source.take not in ("only", "first", "last")
        for above, below in list(
            self.put(holder, step, path.segments, self.draw(1, 3) if several else 1)
        ):
            if above[below] == {} or path.segments == ():
                self.leaf(above, below, own)

    def leaf(self, holder: Any, step: Any, own: Field) -> None:
        assert isinstance(own.source, At)
        reading = own.reading
        if isinstance(reading.type, ListOf) and own.source.take == "all":
            reading = TypeSpec(reading.type.item, reading.options)
        if holder[step] != {}:
            return
        taken, refused = judged(reading, self.pool)
        values = taken
        if refused and self.draw(0, 39) == 0:
            values = refused[sorted(refused)[self.draw(0, len(refused) - 1)]]
        if values:
            holder[step] = values[self.draw(0, len(values) - 1)]

    # ---- places

    def put(
        self, holder: Any, step: Any, segments: Sequence[Segment], count: int
    ) -> Iterator[tuple[Any, Any]]:
        """Makes a path find something below a node, `count` of it where it may find several, as far
        as what is there already allows; gives the places, each as what holds it and the step to it.
        """
        if not segments:
            yield holder, step
            return
        for inner in self.steps(holder, step, segments[0].selectors, count):
            yield from self.put(holder[step], inner, segments[1:], count)

    def steps(
        self, holder: Any, step: Any, selectors: Sequence[Selector], count: int
    ) -> Iterator[Any]:
        for selector in selectors:
            node = holder[step]
            match selector:
                case Name(name) if type(node) is dict:
                    node.setdefault(name, {})
                    yield name
                case Index() | Slice() | Wildcard() | Filter() if (
                    node == {} or type(node) is list
                ):
                    if node == {}:
                        node = holder[step] = []
                    wanted = (
                        selector.index + 1
                        if isinstance(selector, Index) and selector.index >= 0
                        else count
                    )
                    node += ({} for _ in range(wanted - len(node)))
                    yield from self.chosen(selector, len(node))
                case Wildcard() | Filter() if type(node) is dict:
                    yield from list(node)

    @staticmethod
    def chosen(selector: Selector, length: int) -> Iterator[int]:
        if isinstance(selector, Index):
            yield selector.index if selector.index >= 0 else length + selector.index
        elif isinstance(selector, Slice):
            if selector.step != 0:
                yield from range(
                    *slice(selector.start, selector.end, selector.step).indices(length)
                )
        else:
            yield from range(length)

    # ---- shapes that change

    def change_a_shape(self, holder: Any) -> None:
        """A node somewhere comes as something else: alone instead of in a list, as a text, as
        nothing …
        """
        step: Any = 0
        while (type(holder[step]) in (list, dict) and holder[step]) and self.draw(0, 3):
            holder = holder[step]
            steps = list(holder) if type(holder) is dict else range(len(holder))
            step = steps[self.draw(0, len(steps) - 1)]
        node = holder[step]
        others: list[JsonValue] = [
            "closed",
            "",
            None,
            7,
            True,
            [],
            {},
            [node],
            {"a": node},
            ["x"],
            Number("1.5"),
        ]
        if type(node) in (list, dict) and node:
            others += [node[0] if type(node) is list else next(iter(node.values()))] * 3
        holder[step] = others[self.draw(0, len(others) - 1)]


@lru_cache(maxsize=5000)
def judged(
    reading: TypeSpec, pool: tuple[JsonValue, ...]
) -> tuple[list[JsonValue], dict[str, list[JsonValue]]]:
    """The values of a pool that a type takes and that give something; and those that it refuses, by
    code.
    """
    taken: list[JsonValue] = []
    refused: dict[str, list[JsonValue]] = {}
    for value in pool:
        try:
            if reading.read(value) is not None:
                taken.append(value)
        except Bad as bad:
            refused.setdefault(bad.code, []).append(value)
    return taken, refused
