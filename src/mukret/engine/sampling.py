"""A sample of documents looked at in full: which paths no rule reads, and which members come twice
in one object.

The first documents are looked at, and some all along, within a budget of nodes, so that a run costs
what its rules cost.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import NamedTuple

from mukret.documents import Batch
from mukret.documents.cutting import Names, Part
from mukret.documents.doubled import Doubled, DoubledMembers
from mukret.paths import Index, Name, Slice, Wildcard, child_segment
from mukret.paths.locate import path_text
from mukret.plan.access_paths import AccessPath, AccessPaths, ByFirstStep, selects
from mukret.rules.model import Rules
from mukret.values import JsonValue, holds_nothing, shown_text

MOST_NODES = 100_000
MOST_PATHS = 500
MOST_KNOWN = 10_000
# Stand for steps of which none is asked for by its name or place: the same goes on below each.
ANY_ELEMENT, ANY_OTHER_MEMBER = 0, 1


class Sampled(NamedTuple):
    """A document, or a part of one, that is to be looked at in full; `source` is the number of its
    file, `kinds` are the kinds that it is of.
    """

    source: int
    number: int
    part: Part
    raw: bytes
    kinds: frozenset[str]


@dataclass
class Sample:
    """What was seen.

    `unread` counts nodes by path, array indexes written as `*`; empty ones are not counted.
    """

    rules: Rules
    arrays: Sequence[Names] = ()
    """Those that long documents are cut at."""
    documents: int = 0
    unread: Counter[str] = field(default_factory=Counter)
    examples: dict[str, str] = field(default_factory=dict)
    """For each of these paths what stood there first."""
    doubled: DoubledMembers = field(default_factory=DoubledMembers)
    nodes_left: int = MOST_NODES
    wanted: dict[frozenset[str], _Wanted] = field(default_factory=dict)
    """What the rules want of documents, by their kinds."""

    def see(self, batch: Batch, kinds: Sequence[frozenset[str]]) -> None:
        """Looks at all documents of a batch of which the bytes are kept."""
        array = None if batch.part.array is None else self.arrays[batch.part.array]
        self.doubled.see(batch, array)
        for index in batch.raw:
            # What is asked of it is what came so far: the first of the input, and some spread over
            # it.
            if self.nodes_left <= 0:
                return
            if array is None:
                self.documents += 1
                self.walk(batch.whole(index), "$", self.wanted_of(kinds[index]))
            else:
                self.walk_in(batch.whole(index), array, self.wanted_of(kinds[index]))

    def wanted_of(self, kinds: frozenset[str]) -> _Wanted:
        if kinds not in self.wanted:
            access_paths = AccessPaths(self.rules, kinds if self.rules.kinds else None)
            self.wanted[kinds] = _Wanted(
                access_paths.closed(access_paths.of_document()), access_paths
            )
        return self.wanted[kinds]

    @property
    def twice(self) -> list[Doubled]:
        """Members that came twice in one object."""
        return self.doubled.found

    def walk_in(self, document: JsonValue, names: Names, wanted: _Wanted) -> None:
        """Looks into an array of a document; what stands around it has been looked at."""
        path = "$"
        for name in names:
            below = wanted.below(name, len(document))
            # No rule looks into it, and what stands around was noted once.
            if below is None:
                return
            document, path, wanted = document[name], path + _step_text(name), below
        self.walk(document, path, wanted)

    def walk(self, node: JsonValue, path: str, wanted: _Wanted) -> None:
        todo: list[tuple[JsonValue, str, _Wanted]] = [(node, path, wanted)]
        while todo and self.nodes_left > 0:
            node, path, wanted = todo.pop()
            if wanted.whole or type(node) not in (dict, list):
                continue  # a field takes the whole of it
            inner: list[tuple[JsonValue, str, _Wanted]] = []
            self.nodes_left -= len(node)
            for step, child, below in wanted.children(node):
                if below is not None and type(child) in (dict, list):
                    if child:
                        inner.append((child, path + _step_text(step), below))
                elif (below is None or below.only_further_down) and not holds_nothing(
                    child
                ):
                    self.note(path + _step_text(step), child)
            todo += reversed(inner)

    def note(self, path: str, node: JsonValue) -> None:
        """Counts a node that no rule reads."""
        if path in self.unread or len(self.unread) < MOST_PATHS:
            self.unread[path] += 1
            if path not in self.examples:
                self.examples[path] = shown_text(node)

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "unread": dict(sorted(self.unread.items())),
            "twice": [
                {"file": member.file, "document": member.document, "path": member.path}
                for member in self.twice
            ],
        }


class _Wanted:
    """The rest of the rules' paths below a node.

    Nodes that are reached alike share one, so that it is worked out once and not for every node.
    """

    def __init__(
        self, access_paths: frozenset[AccessPath], of_rules: AccessPaths
    ) -> None:
        self.of_rules = of_rules
        self.whole = AccessPath(()) in access_paths
        self.access_paths = [
            access_path for access_path in access_paths if access_path.segments
        ]
        read = len(self.access_paths) < len(access_paths)
        # All that goes on here are queries for descendants: a scalar has none.
        self.only_further_down = not read and all(
            access_path.segments[0].descend for access_path in self.access_paths
        )
        self.by_place = any(
            isinstance(selector, Index | Slice)
            for access_path in self.access_paths
            for selector in access_path.segments[0].selectors
        )
        self.names = {
            selector.name
            for access_path in self.access_paths
            for selector in access_path.segments[0].selectors
            if isinstance(selector, Name)
        }
        self.by_first_step = ByFirstStep(self.access_paths)
        self.known: dict[object, _Wanted | None] = {}

    def children(
        self, node: JsonValue
    ) -> Iterator[tuple[str | int, JsonValue, _Wanted | None]]:
        """The members or elements of a node, each with what is wanted below it."""
        length, names, known = len(node), self.names, self.known
        if type(node) is list:
            for index, child in enumerate(node):
                yield index, child, self.below(index, length)
            return
        for name, child in node.items():
            key = name if name in names else ANY_OTHER_MEMBER
            # Written out: it is called for every node of the sample.
            yield name, child, known[key] if key in known else self.below(name, length)

    def below(self, step: str | int, length: int) -> _Wanted | None:
        """What is wanted below a member, or an element of an array of some length; None if nothing
        is.
        """
        key: object = (step, length) if self.by_place else ANY_ELEMENT
        if isinstance(step, str):
            key = step if step in self.names else ANY_OTHER_MEMBER
        # The same steps come in every document: what is wanted below each is worked out once, and
        # forgotten if names turn out to be data.
        if key not in self.known:
            if len(self.known) > MOST_KNOWN:
                self.known.clear()
            paths = self.paths_below(step, length)
            self.known[key] = (
                _Wanted(self.of_rules.closed(paths), self.of_rules) if paths else None
            )
        return self.known[key]

    def paths_below(self, step: str | int, length: int) -> set[AccessPath]:
        """What is left of the access paths below a step, and what filters ask of there."""
        paths: set[AccessPath] = set()
        for whole in self.by_first_step.candidates(step):
            first = whole.segments[0]
            if selects(first, step, length):
                paths.add(AccessPath(whole.segments[1:], whole.rows))
            # `..` goes on below as it stands.
            if first.descend:
                paths.add(whole)
            paths.update(self.of_rules.asked_by_filters(first))
        return paths


@lru_cache(maxsize=1000)
def _step_text(step: str | int) -> str:
    return path_text(
        (child_segment(Name(step) if isinstance(step, str) else Wildcard()),)
    )[1:]
