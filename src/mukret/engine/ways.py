"""The paths of the rules from a document downwards: what is read of it, row by row of every table."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from mukret.paths import Filter, Index, Name, Path, Segment, Slice, Wildcard, child_segment
from mukret.rules.model import At, Field, Rest, Rules, Table

Segments = tuple[Segment, ...]


@dataclass(frozen=True)
class Way:
    """What is left of a path. At its end stands a row of the table `rows` (or what another such word says); without
    one, something that is read."""

    segments: Segments
    rows: str | None = None

    def after(self, before: Segments) -> Way:
        return Way((*before, *self.segments), self.rows)


class Ways:
    """The paths of the rules. A table that recurses leads to itself, so they are followed step by step."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules

    def closed(self, ways: Iterable[Way]) -> frozenset[Way]:
        """With what goes on from the rows at which some of them end."""
        found: set[Way] = set()
        todo = list(ways)
        while todo:
            way = todo.pop()
            if way not in found:
                found.add(way)
                table = self.rules.tables.get(way.rows or "")
                if table is not None and not way.segments:
                    todo += self.of_row(table)
        return frozenset(found)

    def of_document(self) -> Iterator[Way]:
        yield from self.of_fields(self.rules.response_fields)
        yield from (Way(path.segments) for path in self.rules.ignore)
        yield from self.to_rows(None)

    def of_row(self, table: Table) -> Iterator[Way]:
        yield from self.of_fields(table.fields)
        yield from self.to_rows(table.name)
        if table.rows.recurse is not None:
            yield from self.to_nodes(table.rows.recurse, table)
        if table.rows.header is not None:
            yield Way(())  # which element is which column is not known before

    def of_fields(self, fields: Iterable[Field]) -> Iterator[Way]:
        for own in fields:
            match own.source:
                case At(paths=paths):
                    yield from (Way(path.segments) for path in paths)
                case Rest():
                    yield Way(())

    def to_rows(self, within: str | None) -> Iterator[Way]:
        for table in self.rules.tables.values():
            if table.within != within:
                continue
            for path in table.rows.paths:
                yield from self.to_nodes(path, table)
            if table.rows.header is not None and table.rows.header.path is not None:
                yield Way(table.rows.header.path.segments)
            for member, path in table.rows.zip.paths.items() if table.rows.zip else ():
                yield from self.through(member, path, table)

    @staticmethod
    def to_nodes(path: Path, table: Table) -> Iterator[Way]:
        """An array that is spread may be there or not."""
        yield Way(path.segments, table.name)
        if table.rows.spread:
            yield Way((*path.segments, child_segment(Wildcard())), table.name)

    def through(self, member: str, path: Path, table: Table) -> Iterator[Way]:
        """The ways from a row that a zip puts together which go on from one of its members."""
        for way in self.closed(self.of_row(table)):
            if not way.segments and way.rows is None:
                yield Way(path.segments)
                continue
            if way.segments and selects(way.segments[0], member, 0):
                yield Way(way.segments[1:], way.rows).after(path.segments)
            if way.segments and way.segments[0].descend:
                yield way.after(path.segments)


def selects(segment: Segment, step: str | int, length: int) -> bool:
    """Whether a segment can find a member, or an element of an array of some length; a filter can find any."""
    for selector in segment.selectors:
        match selector:
            case Wildcard() | Filter():
                return True
            case Name(name) if name == step:
                return True
            case Index(index) if isinstance(step, int) and index in (step, step - length):
                return True
            case Slice(start, end, stride) if isinstance(step, int) and stride != 0:
                if step in range(*slice(start, end, stride).indices(length)):
                    return True
    return False
