"""What all types share: reading options, the steps before a type's own, and the record of a value
that is bad.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from functools import cached_property
from typing import Literal, TypeAlias

from mukret.codes import Code
from mukret.paths.regexps import captured
from mukret.values import JsonValue, scalar_text

# The characters that trimming takes away: Unicode's White_Space property.
WHITE_SPACE = (
    "\t\n\v\f\r \x85\xa0\u1680"
    + "".join(map(chr, range(0x2000, 0x200B)))
    + "\u2028\u2029\u202f\u205f\u3000"
)

# A value of a type as Python holds it; null is None, whatever the type.
TypedValue: TypeAlias = (
    "bool | int | float | Decimal | str | date | datetime | time | timedelta"
    " | list[TypedValue] | None"
)

Rounding = Literal["half-even", "half-up"]


class Bad(Exception):
    """A value that its type can't take.

    `expected` says in words what would have been taken. `index` and `value` name the element of a
    list that is to blame; `location` and `value` a node below the row that stands in the way of a
    path. `nulled`: the type itself says that the value becomes null (an enum's `otherwise: null`).
    Where `told`, the text is a sentence of its own about what is wrong, and not what was expected.
    """

    def __init__(
        self,
        code: str,
        expected: str,
        *,
        index: int | None = None,
        value: JsonValue = None,
        location: tuple[str | int, ...] | None = None,
        nulled: bool = False,
        told: bool = False,
    ) -> None:
        super().__init__(code)
        self.code = code
        self.expected = expected
        self.told = told
        self.index = index
        self.value = value
        self.location = location
        self.nulled = nulled

    def alone(self) -> Bad:
        """This, to be kept: without the frames that raised it, which would keep a whole batch
        alive, in a cycle.
        """
        self.__traceback__ = self.__context__ = self.__cause__ = None
        return self

    def at_element(self, index: int, value: JsonValue) -> Bad:
        return Bad(
            self.code,
            self.expected,
            index=index,
            value=value,
            nulled=self.nulled,
            told=self.told,
        )

    def about(self, value: JsonValue) -> Bad:
        """The same, with the value that is meant: one that stands at no path of its own."""
        return Bad(
            self.code, self.expected, value=value, nulled=self.nulled, told=self.told
        )


@dataclass(frozen=True)
class ReadingOptions:
    """Reading options, in the order in which they work."""

    trim: bool = False
    blank: frozenset[str] = frozenset()
    capture: str | None = None
    strip: tuple[str, ...] = ()
    split: str | None = None
    grouping: str | None = None
    point: str = "."
    percent: bool = False
    accounting: bool = False
    round: Rounding | None = None
    format: tuple[str, ...] = ("iso",)
    zone: str | None = None
    fold: Literal["first", "second"] | None = None
    unit: str | None = None


PLAIN = ReadingOptions()
# Reading options that every type has but json.
COMMON_OPTIONS = frozenset({"blank", "capture", "strip"})


@dataclass(frozen=True)
class Elsewhere:
    """What a type is where rows are written. `csvw`: its datatype (W3C, Metadata Vocabulary for
    Tabular Data, section
    5.11.2); `postgresql`: as the server itself calls it; `sqlite`: what decides on the affinity of
    a column;
    `json_schema`: the keywords that its JSON values meet (draft 2020-12).
    """

    csvw: str | Mapping[str, str] = "string"
    postgresql: str = "text"
    sqlite: str = "TEXT"
    json_schema: Mapping[str, JsonValue] = field(
        default_factory=lambda: {"type": "string"}
    )


TEXT_ELSEWHERE = Elsewhere()


@dataclass(frozen=True)
class ValueType:
    """A type: how a value is read, how it is written as text, and what it is called, here and
    elsewhere.
    """

    @property
    def name(self) -> str:
        raise AssertionError("every type has a name")

    @property
    def elsewhere(self) -> Elsewhere:
        return TEXT_ELSEWHERE

    @property
    def is_number(self) -> bool:
        """Whether its values are aligned by their digits."""
        return False

    @property
    def accepts_options(self) -> frozenset[str]:
        """The reading options that mean something for this type."""
        return COMMON_OPTIONS

    @property
    def always_trims(self) -> bool:
        return True

    @property
    def empty_is_null(self) -> bool:
        return True

    def convert(self, value: JsonValue, options: ReadingOptions) -> object:
        """The typed value of a raw value that is not null. Raises Bad."""
        raise AssertionError("every type converts")

    def written(self, value: object) -> str:
        """The text of a typed value, as it stands in a CSV cell."""
        return str(value)


@dataclass(frozen=True)
class TypeSpec:
    """A type with its reading options: all that is needed to read a raw value."""

    type: ValueType
    options: ReadingOptions = field(default=PLAIN)

    @cached_property
    def trims(self) -> bool:
        return self.options.trim or self.type.always_trims

    @cached_property
    def blanks(self) -> frozenset[str]:
        """Strings that mean null."""
        return (
            self.options.blank | {""} if self.type.empty_is_null else self.options.blank
        )

    @cached_property
    def strips(self) -> tuple[str, ...]:
        return tuple(sorted(self.options.strip, key=len, reverse=True))

    def read(self, value: JsonValue) -> object:
        """The typed value, None for null and blank. Raises Bad."""
        if value is None:
            return None
        if type(value) is str:
            text = value.strip(WHITE_SPACE) if self.trims else value
            if text in self.blanks:
                return None
            return self.read_text(text)
        # -1 and 9999 for nothing: numbers can be blank, too.
        if self.options.blank and scalar_text(value) in self.options.blank:
            return None
        if (
            self.options.capture is not None
            and (digits := scalar_text(value)) is not None
        ):
            return self.read_text(digits)
        return self.type.convert(value, self.options)

    def read_text(self, text: str) -> object:
        """The steps after `blank`, for a text. Raises Bad."""
        if self.options.capture is not None:
            part = captured(self.options.capture, text)
            if part is None:
                raise Bad(Code.NO_MATCH, f"a text that matches {self.options.capture}")
            text = part.strip(WHITE_SPACE) if self.trims else part
        return self.type.convert(
            self.stripped(text) if self.strips else text, self.options
        )

    def stripped(self, text: str) -> str:
        """Takes the `strip` strings off both ends until none is left there."""
        first, last = (
            0,
            len(text),
        )  # cutting the text itself each time would take the square of its length
        before = None
        while before != (first, last):
            before = first, last
            for part in self.strips:
                if text.startswith(part, first, last):
                    first += len(part)
                if text.endswith(part, first, last):
                    last -= len(part)
                if self.trims:
                    first, last = _trimmed(text, first, last)
        return text[first:last]

    def read_nodes(self, nodes: list[JsonValue]) -> object:
        """The list of all nodes that a path found, nulls and blanks skipped.

        Raises Bad with the node's index.
        """
        from mukret.types.lists import ListOf

        assert isinstance(self.type, ListOf)
        return self.type.convert_elements(nodes, self.options)


def _trimmed(text: str, first: int, last: int) -> tuple[int, int]:
    while first < last and text[first] in WHITE_SPACE:
        first += 1
    while first < last and text[last - 1] in WHITE_SPACE:
        last -= 1
    return first, last
