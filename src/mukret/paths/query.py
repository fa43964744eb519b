"""A parsed query and what it finds.

Nodelists come in the order of RFC 9535; a node found twice is listed twice.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import NamedTuple

from mukret.paths.comparing import descendants
from mukret.paths.filters import Doubt, Logical, looks_at_the_root
from mukret.values import JsonValue, holds_nothing

Step = str | int
# Member names and (non-negative) element numbers that lead from the root to a node.
Location = tuple[Step, ...]

Node = tuple[Location, JsonValue]
Child = tuple[Step, JsonValue]


@dataclass(frozen=True)
class Name:
    """The member with this name."""

    name: str

    def select(self, value: JsonValue, root: JsonValue) -> Iterable[Child]:
        return (
            ((self.name, value[self.name]),)
            if type(value) is dict and self.name in value
            else ()
        )


@dataclass(frozen=True)
class Index:
    """The element with this number; negative ones count from the end."""

    index: int

    def select(self, value: JsonValue, root: JsonValue) -> Iterable[Child]:
        if type(value) is list and -len(value) <= self.index < len(value):
            return ((self.index % len(value), value[self.index]),)
        return ()


@dataclass(frozen=True)
class Slice:
    """Elements from `start` up to `end` by `step`; the rules are those of Python, and step 0
    selects nothing.
    """

    start: int | None
    end: int | None
    step: int | None

    def select(self, value: JsonValue, root: JsonValue) -> Iterator[Child]:
        if type(value) is list and self.step != 0:
            for number in range(
                *slice(self.start, self.end, self.step).indices(len(value))
            ):
                yield number, value[number]


@dataclass(frozen=True)
class Wildcard:
    """All elements of an array, all member values of an object."""

    def select(self, value: JsonValue, root: JsonValue) -> Iterable[Child]:
        return _children(value)


@dataclass(frozen=True)
class Filter:
    """The elements or member values for which a logical expression holds; `text` is how it was
    written.
    """

    text: str = field(compare=False)
    logical: Logical

    def select(self, value: JsonValue, root: JsonValue) -> Iterator[Child]:
        holds = self.logical.holds
        return ((step, child) for step, child in _children(value) if holds(child, root))


Selector = Name | Index | Slice | Wildcard | Filter


def _children(value: JsonValue) -> Iterable[Child]:
    if type(value) is dict:
        return value.items()
    return enumerate(value) if type(value) is list else ()


@dataclass(frozen=True)
class Segment:
    """Selectors applied to a node one after the other; with `descend` (`..`) also to every node
    below it.
    """

    selectors: tuple[Selector, ...]
    descend: bool = False

    @property
    def singular(self) -> bool:
        """Whether it finds at most one node below each."""
        return (
            not self.descend
            and len(self.selectors) == 1
            and isinstance(self.selectors[0], Name | Index)
        )

    @cached_property
    def takes(self) -> tuple[type, ...]:
        """The types of values in which it can find something, itself, apart from what stands below
        them.
        """
        kinds = {Name: (dict,), Index: (list,), Slice: (list,)}
        wanted = {
            kind
            for selector in self.selectors
            for kind in kinds.get(type(selector), (dict, list))
        }
        return tuple(kind for kind in (dict, list) if kind in wanted)

    def meets_other_kind(self, value: JsonValue) -> bool:
        """Whether it stands before a value in which it can find nothing although that holds
        something: a name before an array, an index before an object, anything before a scalar.
        Queries for descendants never do.
        """
        return (
            not self.descend
            and type(value) not in self.takes
            and not holds_nothing(value)
        )

    @property
    def only(self) -> Selector | None:
        """The one selector of a plain child segment; None for all others."""
        return (
            self.selectors[0] if len(self.selectors) == 1 and not self.descend else None
        )

    def values(self, value: JsonValue, root: JsonValue) -> Iterator[JsonValue]:
        """The values of the nodes found below one."""
        for node in descendants(value) if self.descend else (value,):
            for selector in self.selectors:
                for _, child in selector.select(node, root):
                    yield child

    def children(self, value: JsonValue, root: JsonValue) -> list[Child]:
        """The nodes found below one, each with its last step."""
        visited = descendants(value) if self.descend else (value,)
        return [
            child
            for node in visited
            for selector in self.selectors
            for child in selector.select(node, root)
        ]


def child_segment(selector: Selector) -> Segment:
    """A child segment with one selector."""
    return Segment((selector,))


# The steps to a node, last one first; what is above is shared, so that deep nodes cost no more than
# others.
_Trail = tuple["_Trail", Step] | None


class Reached(NamedTuple):
    """Where a query came to: a node that it finds, or one before which it stood still, since `step`
    can find nothing in a value of its kind.
    """

    trail: _Trail
    value: JsonValue
    step: Segment | None = None

    @property
    def location(self) -> Location:
        """Where the node stands, below where the query began."""
        return _location(self.trail)


@dataclass(frozen=True)
class Path:
    """A query: segments, applied one after the other."""

    text: str = field(compare=False)
    segments: tuple[Segment, ...]
    doubts: tuple[Doubt, ...] = field(default=(), compare=False)

    @property
    def singular(self) -> bool:
        """Whether the query can find at most one node (names and indexes only)."""
        return all(segment.singular for segment in self.segments)

    @property
    def begins_with_name(self) -> bool:
        """Whether nothing but members of an object can be found."""
        if not self.segments or self.segments[0].descend:
            return False
        return all(
            isinstance(selector, Name) for selector in self.segments[0].selectors
        )

    @property
    def leading_names(self) -> tuple[tuple[str, ...], tuple[Segment, ...]]:
        """The names with which it begins, and the segments that follow them."""
        names: list[str] = []
        for number, segment in enumerate(self.segments):
            if not isinstance(segment.only, Name):
                return tuple(names), self.segments[number:]
            names.append(segment.only.name)
        return tuple(names), ()

    @property
    def looks_at_the_root(self) -> bool:
        """Whether a filter asks of the root (`$`)."""
        filters = (
            selector
            for segment in self.segments
            for selector in segment.selectors
            if isinstance(selector, Filter)
        )
        return any(looks_at_the_root(selector.logical) for selector in filters)

    def members_named(self, name: str) -> Path:
        """A query for all members of a name, at any depth below the nodes that this one finds."""
        step = name if name.isidentifier() else f"['{escaped_name(name)}']"
        return Path(
            f"{self.text}..{step}",
            (*self.segments, Segment((Name(name),), descend=True)),
        )

    def nodes(self, root: JsonValue) -> list[Node]:
        """The nodes found, each with its location below `root`."""
        return [
            (item.location, item.value)
            for item in self.explored(root)
            if item.step is None
        ]

    def explored(self, root: JsonValue) -> list[Reached]:
        """The nodes found and, each in its place among them, those at which a step met another
        kind.

        What follows `..` never does: it looks at everything.
        """
        alone = self._at_its_names(root)
        if alone is not None:
            return [alone]
        reached = [Reached(None, root)]
        looks_anywhere = False
        for segment in self.segments:
            # Behind `..` a step meets everything there is: that some of it is of another kind is no
            # fault.
            looks_anywhere = looks_anywhere or segment.descend
            following: list[Reached] = []
            for item in reached:
                if item.step is not None:
                    following.append(item)
                elif not looks_anywhere and segment.meets_other_kind(item.value):
                    following.append(item._replace(step=segment))
                else:
                    following += _below(item, segment, root)
            reached = following
        return reached

    def _at_its_names(self, root: JsonValue) -> Reached | None:
        """The node of a path of names alone, if each name is there: most are, and this is a
        fraction of the work.
        """
        names = self._names_alone
        if names is None:
            return None
        trail: _Trail = None
        value = root
        for name in names:
            # The general way says what is there instead.
            if type(value) is not dict or name not in value:
                return None
            trail, value = (trail, name), value[name]
        return Reached(trail, value)

    @cached_property
    def _names_alone(self) -> tuple[str, ...] | None:
        names, rest = self.leading_names
        return None if rest else names

    def values(self, document: JsonValue) -> list[JsonValue]:
        """The values found in a JSON document (dicts, lists and scalars)."""
        nodes = [document]
        for segment in self.segments:
            nodes = [
                below for value in nodes for below in segment.values(value, document)
            ]
        return nodes

    def locations(self, document: JsonValue) -> list[str]:
        """The normalized path (RFC 9535, section 2.7) of each node found."""
        return [normalized(location) for location, _ in self.nodes(document)]

    def __str__(self) -> str:
        return self.text


def _below(item: Reached, segment: Segment, root: JsonValue) -> Iterator[Reached]:
    for trail, value, _ in _with_descendants(item) if segment.descend else (item,):
        for selector in segment.selectors:
            for step, below in selector.select(value, root):
                yield Reached((trail, step), below)


def _with_descendants(start: Reached) -> Iterator[Reached]:
    todo = [start]
    while todo:
        item = todo.pop()
        yield item
        trail, value = item.trail, item.value
        if type(value) is list:
            todo += (
                Reached((trail, step), value[step])
                # From the end, since the list is taken from its end: nodes come in document order.
                for step in range(len(value) - 1, -1, -1)
            )
        elif type(value) is dict:
            todo += (Reached((trail, name), value[name]) for name in reversed(value))


def _location(trail: _Trail) -> Location:
    steps: list[Step] = []
    while trail is not None:
        trail, step = trail
        steps.append(step)
    return tuple(reversed(steps))


# Names that are longer are not kept as they stand in a path.
LONGEST_KEPT = 60
_ESCAPES = {
    "\b": "\\b",
    "\t": "\\t",
    "\n": "\\n",
    "\f": "\\f",
    "\r": "\\r",
    "'": "\\'",
    "\\": "\\\\",
}


def normalized(location: Location) -> str:
    """A location as a normalized path: `$['ports'][0]['code']`."""
    return f"${''.join(map(_step_text, location))}"


def _step_text(step: str | int) -> str:
    return f"[{step}]" if type(step) is int else _name_step(str(step))


def _name_step(name: str) -> str:
    return (
        _known_name_step(name)
        if len(name) <= LONGEST_KEPT
        else f"['{escaped_name(name)}']"
    )


@lru_cache(maxsize=4096)
def _known_name_step(name: str) -> str:
    return f"['{escaped_name(name)}']"


def escaped_name(name: str) -> str:
    """A member name as it stands between the single quotes of a normalized path."""
    if name.isalnum():
        return name
    return "".join(map(_escaped_character, name))


def _escaped_character(character: str) -> str:
    if character < " ":
        return _ESCAPES.get(character) or f"\\u{ord(character):04x}"
    return _ESCAPES.get(character, character)


def with_wildcards(
    segments: Iterable[Segment], where: Callable[[Segment], bool]
) -> tuple[Segment, ...]:
    """The segments, with a wildcard in the place of each for which `where` holds."""
    opened = []
    for segment in segments:
        opened.append(child_segment(Wildcard()) if where(segment) else segment)
    return tuple(opened)
