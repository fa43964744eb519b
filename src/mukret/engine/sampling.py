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
from mukret.rules.model import At, Field, Rows, Rules
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
                elif below is None and len(self.unread) < MOST_PATHS:
                    self.unread[path + _step_text(step)] += 1

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "unread": dict(sorted(self.unread.items())),
            "twice": [{"file": found.file, "document": found.document, "path": found.path} for found in self.twice],
        }


def sample_for(rules: Rules) -> Sample:
    """An empty sample that knows what these rules read."""
    rows: dict[str, list[Segments]] = {}
    for table in rules.parents_first():
        above = rows[table.within] if table.within else [()]
        rows[table.name] = [(*base, *own) for base in above for own in _ways(table.rows)]
    paths = [path.segments for path in _paths(rules.response_fields)]
    for name, table in rules.tables.items():
        paths += [(*base, *path.segments) for base in rows[name] for path in _paths(table.fields)]
    return Sample(_Wanted(frozenset(paths)))


def _ways(rows: Rows) -> Iterator[Segments]:
    """The ways to rows: an array that is spread may be there or not."""
    for path in rows.paths:
        yield path.segments
        if rows.spread:
            yield (*path.segments, child_segment(Wildcard()))


def _paths(fields: Iterable[Field]) -> Iterator[Path]:
    for own in fields:
        if isinstance(own.source, At):
            yield from own.source.paths


class _Wanted:
    """What is left of the rules' paths below a node. Nodes that are reached alike share one, so that the question which
    paths go on is answered once and not for every node."""

    def __init__(self, paths: frozenset[Segments]) -> None:
        self.whole = () in paths
        self.paths = [path for path in paths if path]
        self.by_place = any(
            isinstance(selector, Index | Slice) for path in self.paths for selector in path[0].selectors
        )
        self.known: dict[object, _Wanted | None] = {}

    def below(self, step: str | int, length: int) -> _Wanted | None:
        """What is wanted below a member, or an element of an array of some length; None if nothing is."""
        key = step if isinstance(step, str) else (step, length) if self.by_place else 0
        if key not in self.known:
            paths = frozenset(path[1:] for path in self.paths if _selects(path[0], step, length))
            paths |= {path for path in self.paths if path[0].descend}
            if len(self.known) > MOST_KNOWN:
                self.known.clear()
            self.known[key] = _Wanted(paths) if paths else None
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
