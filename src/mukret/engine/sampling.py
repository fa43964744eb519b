"""Documents looked at in full: which paths no rule reads, and which members come twice in one object.

Only some documents are: the first ones and some all along, within a budget of nodes, so that the cost of a run stays
that of its rules.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from typing import NamedTuple

from mukret.documents import Batch
from mukret.documents.cutting import Part
from mukret.documents.doubled import Doubled, DoubledMembers
from mukret.engine.ways import Way, Ways, selects
from mukret.paths import Index, Name, Slice, Wildcard, child_segment
from mukret.paths.locate import path_text
from mukret.rules.model import Rules
from mukret.values import JsonValue, shown_text

MOST_NODES = 100_000
MOST_PATHS = 500
MOST_KNOWN = 10_000


class Sampled(NamedTuple):
    """A document, or the first part of one, that is to be looked at in full; `source` is the number of its file."""

    source: int
    number: int
    part: Part
    raw: bytes


@dataclass
class Sample:
    """What was seen. `unread` counts nodes by path, array indexes written as `*`."""

    wanted: _Wanted
    documents: int = 0
    unread: Counter[str] = field(default_factory=Counter)
    examples: dict[str, str] = field(default_factory=dict)
    """For each of these paths what stood there first."""
    doubled: DoubledMembers = field(default_factory=DoubledMembers)
    nodes_left: int = MOST_NODES

    def see(self, batch: Batch) -> None:
        self.doubled.see(batch)
        for index in batch.raw:
            if self.nodes_left <= 0:
                return
            self.documents += batch.part.array is None
            self.walk(batch.whole(index))

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
            inner: list[tuple[JsonValue, str, _Wanted]] = []
            for step, child in _children(node):
                self.nodes_left -= 1
                below = wanted.below(step, len(node))
                if below is not None and type(child) in (dict, list):
                    inner.append((child, path + _step_text(step), below))
                elif (below is None or below.only_further_down) and len(self.unread) < MOST_PATHS:
                    unread = path + _step_text(step)
                    self.unread[unread] += 1
                    if unread not in self.examples:
                        self.examples[unread] = shown_text(child)
            todo += reversed(inner)

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "unread": dict(sorted(self.unread.items())),
            "twice": [{"file": found.file, "document": found.document, "path": found.path} for found in self.twice],
        }


def sample_for(rules: Rules) -> Sample:
    """An empty sample that knows what these rules read, and what they leave out on purpose."""
    ways = Ways(rules)
    return Sample(_Wanted(ways.closed(ways.of_document()), ways))


class _Wanted:
    """What is left of the rules' paths below a node. Nodes that are reached alike share one, so that the question which
    paths go on is answered once and not for every node."""

    def __init__(self, ways: frozenset[Way], of_rules: Ways) -> None:
        self.of_rules = of_rules
        self.whole = Way(()) in ways
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
            ways = {Way(way.segments[1:], way.rows) for way in self.ways if selects(way.segments[0], step, length)}
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
