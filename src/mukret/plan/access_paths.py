"""The paths of the rules from a document downwards: what is read of it,
row by row of every table.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from mukret.paths import (
    Condition,
    Filter,
    Index,
    Name,
    Path,
    Segment,
    Slice,
    Wildcard,
    child_segment,
)
from mukret.paths.filters import Logical, queries_in
from mukret.rules.model import Field, Rules, Table, must_haves
from mukret.rules.sources import At, Rest

Segments = tuple[Segment, ...]
# At the end of an access path: something is counted there, or looked at by a condition; what stands
# below it is not read.
PRESENCE = ""


@dataclass(frozen=True)
class AccessPath:
    """What is left of a path.

    At its end stands a row of the table `rows` (or what another such word says); without one,
    something that is read.
    """

    segments: Segments
    rows: str | None = None

    def after(self, before: Segments) -> AccessPath:
        return AccessPath((*before, *self.segments), self.rows)


class AccessPaths:
    """The paths of the rules.

    A table that recurses leads to itself, so they are followed step by step.

    `kinds`: those that a document is of; of the tables at its root only those count that read them.
    None: all do.
    """

    def __init__(self, rules: Rules, kinds: frozenset[str] | None = None) -> None:
        self.rules = rules
        self.kinds = kinds

    def closed(self, access_paths: Iterable[AccessPath]) -> frozenset[AccessPath]:
        """Adds the access paths that go on from rows at which some of these end."""
        closure: set[AccessPath] = set()
        todo = list(access_paths)
        while todo:
            access_path = todo.pop()
            if access_path not in closure:
                closure.add(access_path)
                table = self.rules.tables.get(access_path.rows or "")
                if table is not None and not access_path.segments:
                    todo += self.of_row(table)
        return frozenset(closure)

    def of_document(self) -> Iterator[AccessPath]:
        yield from self.of_fields(self.rules.response_fields)
        for path in self.rules.ignore:
            yield from self.of_path(path)
        for path in must_haves(self.rules):
            yield from self.of_path(path, PRESENCE)
        for kind in self.rules.kinds.values():
            yield from self.asked_of(kind.when, absolute=None)
        yield from self.to_rows(None)

    def of_row(self, table: Table) -> Iterator[AccessPath]:
        yield from self.of_fields(table.fields)
        yield from self.asked_of(table.rows.when, absolute=False)
        yield from self.to_rows(table.name)
        if table.rows.recurse is not None:
            yield from self.to_nodes(table.rows.recurse, table)
        if table.rows.header is not None:
            yield AccessPath(())  # which element is which column is not known before

    def of_fields(self, fields: Iterable[Field]) -> Iterator[AccessPath]:
        for field in fields:
            match field.source:
                case At(paths=paths, take=take):
                    for path in paths:
                        yield from self.of_path(
                            path, PRESENCE if take == "count" else None
                        )
                case Rest():
                    yield AccessPath(())

    def to_rows(self, within: str | None) -> Iterator[AccessPath]:
        for table in self.rules.tables.values():
            if table.within != within or not self.reads(table):
                continue
            for path in table.rows.paths:
                yield from self.to_nodes(path, table)
            if table.rows.header is not None and table.rows.header.path is not None:
                yield from self.of_path(table.rows.header.path)
            for member, path in table.rows.zip.paths.items() if table.rows.zip else ():
                yield from self.through(member, path, table)
            yield from self.asked_of(table.rows.when, absolute=True)

    def reads(self, table: Table) -> bool:
        """Whether a table reads documents of these kinds."""
        return self.kinds is None or table.kind is None or table.kind in self.kinds

    def to_nodes(self, path: Path, table: Table) -> Iterator[AccessPath]:
        """An array that is spread may be there or not."""
        yield from self.of_path(path, table.name)
        if table.rows.spread:
            yield AccessPath((*path.segments, child_segment(Wildcard())), table.name)

    def of_path(self, path: Path, end: str | None = None) -> Iterator[AccessPath]:
        """A path, and what its filters ask of where it begins."""
        yield AccessPath(path.segments, end)
        for logical in filters_of(path.segments):
            yield from self.asked(logical, absolute=True)

    def asked_of(
        self, condition: Condition | None, *, absolute: bool | None
    ) -> Iterator[AccessPath]:
        if condition is not None:
            yield from self.asked(condition.logical, absolute=absolute)

    @staticmethod
    def asked(logical: Logical, *, absolute: bool | None) -> Iterator[AccessPath]:
        """What a condition looks at: from the root of the query it stands in (`absolute`), from the
        node in question, or from either.
        """
        for query, value in queries_in(logical):
            if absolute is None or query.absolute == absolute:
                yield AccessPath(query.segments, None if value else PRESENCE)

    def asked_by_filters(self, segment: Segment) -> Iterator[AccessPath]:
        """What the filters of a step look at, from the nodes that they judge."""
        for logical in filters_of((segment,)):
            yield from self.asked(logical, absolute=False)

    def through(self, member: str, path: Path, table: Table) -> Iterator[AccessPath]:
        """The access paths from a row that a zip puts together which go on from one of
        its members.
        """
        for access_path in self.closed(self.of_row(table)):
            if not access_path.segments and access_path.rows is None:
                yield AccessPath(path.segments)
                continue
            if access_path.segments and selects(access_path.segments[0], member, 0):
                yield AccessPath(access_path.segments[1:], access_path.rows).after(
                    path.segments
                )
            if access_path.segments and access_path.segments[0].descend:
                yield access_path.after(path.segments)


class ByFirstStep:
    """Access paths by where they go first.

    Of the many that lead to one member each, a question about a member looks at its own alone:
    rules with thousands of fields would take the square of their number otherwise.
    """

    def __init__(self, access_paths: Iterable[AccessPath]) -> None:
        self.named: dict[str, list[AccessPath]] = {}
        self.others: list[AccessPath] = []
        for access_path in access_paths:
            first = access_path.segments[0]
            match first.selectors:
                # Most paths begin with one name: a member is looked up, and not tried against each
                # of them.
                case (Name(name),) if not first.descend:
                    self.named.setdefault(name, []).append(access_path)
                case _:
                    self.others.append(access_path)

    def candidates(self, step: str | int) -> list[AccessPath]:
        """The access paths that may lead to a member or an element."""
        return (
            [*self.named.get(step, ()), *self.others]
            if isinstance(step, str)
            else self.others
        )


def filters_of(segments: Segments) -> Iterator[Logical]:
    """The conditions of the filters in a path."""
    for segment in segments:
        yield from (
            selector.logical
            for selector in segment.selectors
            if isinstance(selector, Filter)
        )


def selects(segment: Segment, step: str | int, length: int) -> bool:
    """Whether a segment can find a member, or an element of an array of some length; a filter can
    find any.
    """
    for selector in segment.selectors:
        match selector:
            case Wildcard() | Filter():
                return True
            case Name(name) if name == step:
                return True
            # A negative index counts from the end (RFC 9535, section 2.3.3).
            case Index(index) if isinstance(step, int) and index in (
                step,
                step - length,
            ):
                return True
            case Slice(start, end, stride) if isinstance(step, int) and stride != 0:
                if step in range(*slice(start, end, stride).indices(length)):
                    return True
    return False
