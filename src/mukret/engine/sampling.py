"""Documents looked at in full: which paths no rule reads, and which members come twice in one object.

Only some documents are: the first ones and some all along, within a budget of nodes, so that the cost of a run stays
that of its rules.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from mukret.documents import Batch
from mukret.documents.doubled import Doubled, DoubledMembers
from mukret.paths import Filter, Index, Name, Path, Segment, Slice, Wildcard, child_segment
from mukret.paths.locate import path_text
from mukret.rules.model import At, Field, Rest, Rules, Table
from mukret.values import JsonValue

MOST_NODES = 100_000
MOST_PATHS = 500
MOST_KNOWN = 10_000

Segments = tuple[Segment, ...]


@dataclass
class Sample:
    """What was seen. `unread` counts nodes by path, array indexes written as `*`."""

    wanted: _Wanted
    documents: int = 0
    unread: Counter[str] = field(default_factory=Counter)
    doubled: DoubledMembers = field(default_factory=DoubledMembers)
    nodes_left: int = MOST_NODES

    def see(self, batch: Batch) -> None:
        self.doubled.see(batch)
        for index in batch.raw:
            if self.nodes_left <= 0:
                return
            self.documents += 1
            self.walk(batch.documents[index])

    @property
    def twice(self) -> list[Doubled]:
        """Members that came twice in one object."""
        return self.doubled.found

    def walk(self, document: JsonValue) -> None:
        todo: list[tuple[JsonValue, str, _Wanted]] = [(document, "$", self.wanted)]
        while todo and self.nodes_left > 0:
            node, path, wanted = todo.pop()
            if wanted.whole:
                continue  # a field takes the whole of it
            for step, child in _children(node):
                self.nodes_left -= 1
                below = wanted.below(step, len(node))
                if below is not None and type(child) in (dict, list):
                    todo.append((child, path + _step_text(step), below))
                elif (below is None or below.only_further_down) and len(self.unread) < MOST_PATHS:
                    self.unread[path + _step_text(step)] += 1

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "unread": dict(sorted(self.unread.items())),
            "twice": [{"file": found.file, "document": found.document, "path": found.path} for found in self.twice],
        }


def sample_for(rules: Rules) -> Sample:
    """An empty sample that knows what these rules read, and what they leave out on purpose."""
    ways = _Ways(rules)
    return Sample(_Wanted(ways.closed(ways.of_document()), ways))


@dataclass(frozen=True)
class _Way:
    """What is left of a path. At its end stands a row of the table `rows`; without one, something that is read."""

    segments: Segments
    rows: str | None = None

    def after(self, before: Segments) -> _Way:
        return _Way((*before, *self.segments), self.rows)


class _Ways:
    """The paths of the rules. A table that recurses leads to itself, so they are followed step by step."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules

    def closed(self, ways: Iterable[_Way]) -> frozenset[_Way]:
        """With what goes on from the rows at which some of them end."""
        found: set[_Way] = set()
        todo = list(ways)
        while todo:
            way = todo.pop()
            if way not in found:
                found.add(way)
                if way.rows is not None and not way.segments:
                    todo += self.of_row(self.rules.tables[way.rows])
        return frozenset(found)

    def of_document(self) -> Iterator[_Way]:
        yield from self.of_fields(self.rules.response_fields)
        yield from (_Way(path.segments) for path in self.rules.ignore)
        yield from self.to_rows(None)

    def of_row(self, table: Table) -> Iterator[_Way]:
        yield from self.of_fields(table.fields)
        yield from self.to_rows(table.name)
        if table.rows.recurse is not None:
            yield from self.to_nodes(table.rows.recurse, table)
        if table.rows.header is not None:
            yield _Way(())  # which element is which column is not known before

    @staticmethod
    def of_fields(fields: Iterable[Field]) -> Iterator[_Way]:
        for own in fields:
            match own.source:
                case At(paths=paths):
                    yield from (_Way(path.segments) for path in paths)
                case Rest():
                    yield _Way(())

    def to_rows(self, within: str | None) -> Iterator[_Way]:
        for table in self.rules.tables.values():
            if table.within != within:
                continue
            for path in table.rows.paths:
                yield from self.to_nodes(path, table)
            if table.rows.header is not None and table.rows.header.path is not None:
                yield _Way(table.rows.header.path.segments)
            for member, path in table.rows.zip.paths.items() if table.rows.zip else ():
                yield from self.through(member, path, table)

    @staticmethod
    def to_nodes(path: Path, table: Table) -> Iterator[_Way]:
        """An array that is spread may be there or not."""
        yield _Way(path.segments, table.name)
        if table.rows.spread:
            yield _Way((*path.segments, child_segment(Wildcard())), table.name)

    def through(self, member: str, path: Path, table: Table) -> Iterator[_Way]:
        """The ways from a row that a zip puts together which go on from one of its members."""
        for way in self.closed(self.of_row(table)):
            if not way.segments and way.rows is None:
                yield _Way(path.segments)
            elif way.segments and _selects(way.segments[0], member, 0):
                yield _Way(way.segments[1:], way.rows).after(path.segments)


class _Wanted:
    """What is left of the rules' paths below a node. Nodes that are reached alike share one, so that the question which
    paths go on is answered once and not for every node."""

    def __init__(self, ways: frozenset[_Way], of_rules: _Ways) -> None:
        self.of_rules = of_rules
        self.whole = _Way(()) in ways
        self.ways = [way for way in ways if way.segments]
        self.only_further_down = not self.whole and all(way.segments[0].descend for way in self.ways)
        """All that goes on here are queries for descendants: a scalar has none."""
        self.by_place = any(
            isinstance(selector, Index | Slice) for way in self.ways for selector in way.segments[0].selectors
        )
        self.known: dict[object, _Wanted | None] = {}

    def below(self, step: str | int, length: int) -> _Wanted | None:
        """What is wanted below a member, or an element of an array of some length; None if nothing is."""
        key = step if isinstance(step, str) else (step, length) if self.by_place else 0
        if key not in self.known:
            ways = {_Way(way.segments[1:], way.rows) for way in self.ways if _selects(way.segments[0], step, length)}
            ways |= {way for way in self.ways if way.segments[0].descend}
            if len(self.known) > MOST_KNOWN:
                self.known.clear()
            self.known[key] = _Wanted(self.of_rules.closed(ways), self.of_rules) if ways else None
        return self.known[key]


@lru_cache(maxsize=1000)
def _step_text(step: str | int) -> str:
    return path_text((child_segment(Name(step) if isinstance(step, str) else Wildcard()),))[1:]


def _children(node: JsonValue) -> Iterator[tuple[str | int, JsonValue]]:
    if type(node) is dict:
        yield from node.items()
    elif type(node) is list:
        yield from enumerate(node)


def _selects(segment: Segment, step: str | int, length: int) -> bool:
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
