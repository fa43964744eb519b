"""A parsed query and what it finds. Nodelists come in the order of RFC 9535; a node found twice is listed twice."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from mukret.values import JsonValue

Location = tuple[str | int, ...]
"""Member names and (non-negative) element numbers that lead from the root to a node."""

Node = tuple[Location, JsonValue]


@dataclass(frozen=True)
class Name:
    """The member with this name."""

    name: str

    def select(self, value: JsonValue) -> Iterator[tuple[str | int, JsonValue]]:
        if type(value) is dict and self.name in value:
            yield self.name, value[self.name]


@dataclass(frozen=True)
class Index:
    """The element with this number; negative ones count from the end."""

    index: int

    def select(self, value: JsonValue) -> Iterator[tuple[str | int, JsonValue]]:
        if type(value) is list and -len(value) <= self.index < len(value):
            yield self.index % len(value), value[self.index]


@dataclass(frozen=True)
class Slice:
    """Elements from `start` up to `end` by `step`; the rules are those of Python, and step 0 selects nothing."""

    start: int | None
    end: int | None
    step: int | None

    def select(self, value: JsonValue) -> Iterator[tuple[str | int, JsonValue]]:
        if type(value) is list and self.step != 0:
            for number in range(*slice(self.start, self.end, self.step).indices(len(value))):
                yield number, value[number]


@dataclass(frozen=True)
class Wildcard:
    """All elements of an array, all member values of an object."""

    def select(self, value: JsonValue) -> Iterator[tuple[str | int, JsonValue]]:
        if type(value) is dict:
            yield from value.items()
        elif type(value) is list:
            yield from enumerate(value)


Selector = Name | Index | Slice | Wildcard
Segment = tuple[Selector, ...]


@dataclass(frozen=True)
class Path:
    """A query: child segments, applied one after the other, each a list of selectors."""

    text: str = field(compare=False)
    segments: tuple[Segment, ...]

    @property
    def singular(self) -> bool:
        """Whether the query can find at most one node (names and indexes only)."""
        return all(len(segment) == 1 and isinstance(segment[0], Name | Index) for segment in self.segments)

    @property
    def begins_with_name(self) -> bool:
        return bool(self.segments) and all(isinstance(selector, Name) for selector in self.segments[0])

    def nodes(self, root: JsonValue) -> list[Node]:
        """The nodes found, each with its location below `root`."""
        found: list[Node] = [((), root)]
        for segment in self.segments:
            found = [
                ((*location, step), child)
                for location, value in found
                for selector in segment
                for step, child in selector.select(value)
            ]
        return found

    def values(self, document: JsonValue) -> list[JsonValue]:
        """The values found in a JSON document (dicts, lists and scalars)."""
        found = [document]
        for segment in self.segments:
            found = [child for value in found for selector in segment for _, child in selector.select(value)]
        return found

    def locations(self, document: JsonValue) -> list[str]:
        """The normalized path (RFC 9535, section 2.7) of each node found."""
        return [normalized(location) for location, _ in self.nodes(document)]

    def __str__(self) -> str:
        return self.text


_ESCAPES = {"\b": "\\b", "\t": "\\t", "\n": "\\n", "\f": "\\f", "\r": "\\r", "'": "\\'", "\\": "\\\\"}


def normalized(location: Location) -> str:
    """A location as a normalized path: `$['ports'][0]['code']`."""
    return "$" + "".join(f"[{step}]" if isinstance(step, int) else f"['{escaped_name(step)}']" for step in location)


def escaped_name(name: str) -> str:
    """A member name as it stands between the single quotes of a normalized path."""
    if name.isalnum():
        return name
    return "".join(_ESCAPES.get(c) or (c if c >= " " else f"\\u{ord(c):04x}") for c in name)
