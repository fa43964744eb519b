"""Logical expressions of filters (RFC 9535, section 2.3.5) as trees that can be asked about a node.

Each `holds` and each `of` takes the current node (`@`) and the root of the query (`$`).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

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
        found = [root if self.absolute else current]
        for segment in self.segments:
            found = [child for value in found for child in segment.values(value, root)]
        return found

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
class Call:
    """A call of a function, well-typed."""

    function: Function
    arguments: tuple[Argument, ...]

    def of(self, current: JsonValue, root: JsonValue) -> JsonValue:
        """The result: a value, NOTHING, or a truth value."""
        given = []
        for kind, argument in zip(self.function.parameters, self.arguments, strict=True):
            if kind == "nodes":
                assert isinstance(argument, Query)
                given.append(argument.nodes(current, root))
            else:
                assert not isinstance(argument, Either | Both | Not | Comparison)
                given.append(argument.of(current, root))
        return self.function.call(*given)

    def holds(self, current: JsonValue, root: JsonValue) -> bool:
        return bool(self.of(current, root))


@dataclass(frozen=True)
class Comparison:
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
                return less(left, right) or equal(left, right)
            case _:
                return less(right, left) or equal(left, right)


Comparable = Literally | Query | Call
Logical = Either | Both | Not | Query | Call | Comparison
Argument = Literally | Logical


@dataclass(frozen=True)
class Doubt:
    """Something that the standard allows and that can't be meant, at a character of the text (from 0)."""

    position: int
    cause: str
    hint: str | None


@dataclass(frozen=True)
class Condition:
    """A logical expression that stands alone: `@` is a node, `$` what the node was looked for in."""

    text: str
    logical: Logical
    doubts: tuple[Doubt, ...] = field(default=(), compare=False)

    def holds(self, node: JsonValue, root: JsonValue) -> bool:
        return self.logical.holds(node, root)

    def __str__(self) -> str:
        return self.text
