"""Logical expressions of filters (RFC 9535, section 2.3.5) as trees that can be asked about a node.

Each `holds` and each `of` takes the current node (`@`) and the root of the query (`$`).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal, NamedTuple

from mukret.paths.comparing import NOTHING, equal, less
from mukret.paths.functions import Function
from mukret.values import JsonValue

if TYPE_CHECKING:
    from mukret.paths.query import Segment

Operator = Literal["==", "!=", "<", "<=", ">", ">="]


@dataclass(frozen=True)
class Either:
    """`||`"""

    parts: tuple[Logical, ...]

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        return any(part.holds(current, root) for part in self.parts)


@dataclass(frozen=True)
class Both:
    """`&&`"""

    parts: tuple[Logical, ...]

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        return all(part.holds(current, root) for part in self.parts)


@dataclass(frozen=True)
class Not:
    """`!`"""

    part: Logical

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        return not self.part.holds(current, root)


@dataclass(frozen=True)
class Literally:
    """A literal: text, number, true, false or null."""

    value: JsonValue

    def of(self, current: JsonValue, root: JsonValue) -> JsonValue:
        return self.value


@dataclass(frozen=True)
class Query:
    """A query within a filter, from the current node or (`absolute`) from the root."""

    absolute: bool
    segments: tuple[Segment, ...]

    @property
    def singular(self) -> bool:
        """Whether it can find at most one node."""
        return all(segment.singular for segment in self.segments)

    def nodes(self, current: JsonValue, root: JsonValue) -> list[JsonValue]:
        """The values of the nodes that it finds."""
        nodes = [root if self.absolute else current]
        for segment in self.segments:
            nodes = [child for value in nodes for child in segment.values(value, root)]
        return nodes

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        """Whether it finds a node, null included."""
        return bool(self.nodes(current, root))

    def of(self, current: JsonValue, root: JsonValue) -> JsonValue:
        """The value of a singular query's node, or NOTHING."""
        value = root if self.absolute else current
        for segment in self.segments:
            value = next(iter(segment.values(value, root)), NOTHING)
            if value is NOTHING:
                break
        return value


@dataclass(frozen=True)
class FilterCall:
    """A call of a function, well-typed."""

    function: Function
    arguments: tuple[Argument, ...]

    def of(self, current: JsonValue, root: JsonValue) -> JsonValue:
        """The result: a value, NOTHING, or a truth value."""
        given = []
        for kind, argument in zip(
            self.function.parameters, self.arguments, strict=True
        ):
            # `count` and `value` take nodes, all other functions values (RFC 9535, section 2.4).
            if kind == "nodes":
                assert isinstance(argument, Query)
                given.append(argument.nodes(current, root))
            else:
                assert not isinstance(argument, Either | Both | Not | FilterComparison)
                given.append(argument.of(current, root))
        return self.function.call(*given)

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        return bool(self.of(current, root))


@dataclass(frozen=True)
class FilterComparison:
    left: Comparable
    operator: Operator
    right: Comparable

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        left, right = self.left.of(current, root), self.right.of(current, root)
        match self.operator:
            case "==":
                return equal(left, right)
            case "!=":
                return not equal(left, right)
            case "<":
                return less(left, right)
            case ">":
                return less(right, left)
            case "<=":
                # Two texts, or two numbers, have an order; anything else is only equal or not
                # (section 2.3.5.2.2).
                return less(left, right) or equal(left, right)
            case _:
                return less(right, left) or equal(left, right)


Comparable = Literally | Query | FilterCall
Logical = Either | Both | Not | Query | FilterCall | FilterComparison
Argument = Literally | Logical


class Asked(NamedTuple):
    """A query within a logical expression; `value`: what it finds is compared or measured, and not
    only counted.
    """

    query: Query
    value: bool


def queries_in(part: Argument, *, value: bool = False) -> Iterator[Asked]:
    """The queries of a logical expression; those within the filters of a query stand in its
    segments.
    """
    match part:
        case Query():
            yield Asked(part, value)
        case Either(parts) | Both(parts):
            for inner in parts:
                yield from queries_in(inner)
        case Not(inner):
            yield from queries_in(inner)
        # A compared query must give one value: it is marked, since that can be read from a cell.
        case FilterComparison(left, _, right):
            yield from queries_in(left, value=True)
            yield from queries_in(right, value=True)
        case FilterCall(function, arguments):
            for kind, argument in zip(function.parameters, arguments, strict=True):
                yield from queries_in(
                    argument, value=kind == "value" or function.name == "value"
                )


def looks_at_the_root(part: Argument) -> bool:
    """Whether a logical expression, or a filter within one of its queries,
    asks of the root (`$`).
    """
    for query, _ in queries_in(part):
        if query.absolute or any(map(looks_at_the_root, _filters_of(query))):
            return True
    return False


def _filters_of(query: Query) -> Iterator[Logical]:
    """The logical expressions of the filters in a query."""
    for segment in query.segments:
        for selector in segment.selectors:
            logical: Logical | None = getattr(selector, "logical", None)
            if logical is not None:
                yield logical


@dataclass(frozen=True)
class Doubt:
    """Something that the standard allows and that can't be meant, at a character of the text (from
    0).
    """

    position: int
    cause: str
    hint: str | None


@dataclass(frozen=True)
class Condition:
    """A logical expression that stands alone: `@` is a node,
    `$` what the node was looked for in.
    """

    text: str
    logical: Logical
    doubts: tuple[Doubt, ...] = field(default=(), compare=False)

    def holds(self, node: JsonValue, root: JsonValue) -> bool:
        return self.logical.holds(node, root)

    def __str__(self) -> str:
        return self.text
