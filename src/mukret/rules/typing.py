"""The sections `enums` (by way of `enums.py`) and `types`, and what a field's `type` and reading
options mean together.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from collections.abc import Mapping as MappingType
from dataclasses import fields as dataclass_fields
from dataclasses import replace
from typing import Any, NamedTuple, TypeAlias, TypeVar, cast

from mukret.codes import Code
from mukret.paths.regexps import PatternError, capturing
from mukret.rules.enums import ENUM_KEYS, EnumReader
from mukret.rules.model import Policy
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar
from mukret.text import nearest
from mukret.types import (
    PLAIN,
    Enum,
    ListOf,
    ReadingOptions,
    Text,
    TypeSpec,
    ValueType,
    parse_type,
)
from mukret.types.calendar import Date, Datetime, Time
from mukret.types.durations import UNITS
from mukret.types.formats import pattern_problem
from mukret.types.instants import EPOCH_MICROS, Timestamp
from mukret.types.names import TYPE_NAMES, TypeNameError, item_name, list_of
from mukret.types.zones import zone, zone_names

# What a reading option can be: a flag, a text, several of them, or a pattern.
OptionValue: TypeAlias = Any
GivenOptions: TypeAlias = dict[str, OptionValue]

Found = TypeVar("Found")
OPTION_NAMES = tuple(option.name for option in dataclass_fields(ReadingOptions))
TYPE_KEYS = keys("type note " + " ".join(OPTION_NAMES))
_DEFAULT_OPTIONS = ("blank", "trim", "zone", "fold", "grouping", "point", "round")
DEFAULT_KEYS = keys(" ".join((*_DEFAULT_OPTIONS, "bad")))
# Options with a few words of their own.
CHOICES = {
    "unit": tuple(UNITS),
    "round": ("half-even", "half-up"),
    "fold": ("first", "second"),
}
# The named formats of each type; all of them also take strptime patterns.
_FORMATS: dict[type[ValueType], tuple[str, ...]] = {
    Timestamp: ("iso", "rfc5322", *EPOCH_MICROS),
    Date: ("iso", "rfc5322", *EPOCH_MICROS),
    Datetime: ("iso",),
    Time: ("iso",),
}
_CUT_SHORT = re.compile(r"(?:decimal|list)\s*\([^)]*")


class _Named(NamedTuple):
    """A type with a name, and the options that the file gives it."""

    kind: ValueType
    given: GivenOptions


class TypeNames:
    """Everything that a type can be called in one rules file."""

    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.enums: dict[str, Enum] = {}
        self.named: dict[str, _Named] = {}
        # Reading options of the whole file.
        self.defaults: GivenOptions = {}
        self.default_policy: Policy = "reject"

    def reading(self, name: str) -> TypeSpec:
        """The type of this name with its options.

        Raises KeyError, or TypeNameError for a broken built-in one.
        """
        kind, given = self.named_type(name)
        return TypeSpec(kind, replace(PLAIN, **given))

    def field_reading(self, name: str) -> TypeSpec:
        """The same for a field, which has the defaults of the file where the type says nothing.

        Raises as `reading`.
        """
        kind, given = self.named_type(name)
        return TypeSpec(kind, replace(PLAIN, **{**self.defaults_for(kind), **given}))

    def with_defaults(self, reading: TypeSpec) -> TypeSpec:
        """A built-in type with the defaults of the file."""
        return TypeSpec(
            reading.type, replace(reading.options, **self.defaults_for(reading.type))
        )

    def defaults_for(self, kind: ValueType) -> GivenOptions:
        return {
            name: value
            for name, value in self.defaults.items()
            if name in kind.accepts_options
        }

    def named_type(self, name: str) -> _Named:
        """The type of this name, and the options that it is given."""
        # Types of the file first, then enums: names of built-in types can't be taken by either.
        if name in self.named:
            return self.named[name]
        if name in self.enums:
            return _Named(self.enums[name], {})
        item = item_name(name)
        if item is not None:
            kind, given = self.named_type(item)
            return _Named(list_of(kind), given)
        built_in = parse_type(name)
        if built_in is None:
            raise KeyError(name)
        return _Named(built_in, {})

    def known(self) -> list[str]:
        return [*self.enums, *self.named, *TYPE_NAMES]

    def of_field(self, node: Node | None, what: str) -> TypeSpec | None:
        """The type that the `type:` of a field names, problems noted."""
        return self.of_node(node, what, self.field_reading)

    def of_node(
        self, node: Node | None, what: str, named: Callable[[str], Found]
    ) -> Found | None:
        """What a `type:` names, problems noted."""
        scalar = self.reader.scalar(node, what)
        if scalar is None:
            return None
        if scalar.plain and _CUT_SHORT.fullmatch(scalar.text):
            return None  # YAML cut it at the comma: noted as a trap where the keys were checked
        try:
            return named(scalar.text)
        except KeyError as error:
            name = str(error.args[0])  # of the elements, in list(name)
            near = nearest(name, self.known())
            hint = (
                f"did you mean {near}?" if near else f"known: {', '.join(self.known())}"
            )
            self.reader.add(Code.UNKNOWN_TYPE, f"no type {name}", scalar, hint)
        except TypeNameError as error:
            self.reader.add(error.code, str(error), scalar, error.hint)
        return None

    # ---- sections

    def read_enums(self, node: Node | None) -> None:
        section = self.reader.mapping(node, "enums")
        if section:
            self.reader.distinct([key for key, _ in section.entries.values()], "enums")
        for name, (key, value) in section.entries.items() if section else ():
            self.new_name(key, "an enum")
            body = self.reader.mapping(value, f"the enum {name}", ENUM_KEYS)
            if body is not None:
                self.enums[name] = EnumReader(self.reader, name).read(body)

    def read_types(self, node: Node | None) -> None:
        section = self.reader.mapping(node, "types")
        if section is None:
            return
        names = [key for key, _ in section.entries.values()]
        for key in names:
            self.new_name(key, "a type")
            if key.text in self.enums:
                self.reader.add(
                    Code.NAME_CLASH, f"{key.text} is already the name of an enum", key
                )
        self.reader.distinct(names, "types")
        waiting = dict(section.entries)
        # A type is read after that which it is made of.
        while waiting:
            ready = [
                name
                for name, (_, value) in waiting.items()
                if self.base_name(value) not in waiting
            ]
            if not ready:
                key, _ = next(iter(waiting.values()))
                names_left = ", ".join(waiting)
                self.reader.add(
                    Code.CYCLE, f"types that stand for each other: {names_left}", key
                )
                return
            for name in ready:
                self.read_type(name, waiting.pop(name)[1])

    def new_name(self, key: Scalar, what: str) -> None:
        self.reader.name(key, what)
        try:
            taken = parse_type(key.text) is not None
        # `decimal(40,2)` is none, but looks like one.
        except TypeNameError:
            taken = True
        if taken:
            self.reader.add(
                Code.NAME_CLASH,
                f"{key.text} is a built-in type",
                key,
                "choose another name",
            )

    @staticmethod
    def base_name(node: Node) -> str | None:
        base = node.get("type") if isinstance(node, Mapping) else None
        return base.text if isinstance(base, Scalar) else None

    def read_type(self, name: str, node: Node) -> None:
        body = self.reader.mapping(node, f"the type {name}", TYPE_KEYS)
        if body is None:
            return
        if "type" not in body.entries:
            self.reader.add(
                Code.MISSING_KEY,
                f"the type {name} has no type to stand on",
                body,
                "say type: integer, or another",
            )
            return
        base = self.of_node(body.get("type"), f"type of {name}", self.named_type)
        if base is not None:
            self.named[name] = _Named(
                # Options go on top of those of the type that it stands on.
                base.kind,
                {**base.given, **self.options(base.kind, base.given, body)},
            )

    def read_defaults(self, node: Node | None) -> None:
        """Reading options, and what becomes of bad values, for the whole file."""
        body = self.reader.mapping(node, "defaults", DEFAULT_KEYS)
        if body is None:
            return
        for name in _DEFAULT_OPTIONS:
            if name in body.entries:
                value = self.option(name, body.entries[name][1], Text())
                if value is not None:
                    self.defaults[name] = value
        # Each is well alone; both together would make 1.204 mean two things.
        self.marks_differ({"point": PLAIN.point, **self.defaults}, body)
        self.default_policy = policy(self.reader, body.get("bad")) or "reject"

    # ---- reading options

    def with_options(self, base: TypeSpec, body: Mapping) -> TypeSpec:
        """A type with the reading options that stand in a mapping on top of its own."""
        given = self.options(base.type, vars(base.options), body)
        return TypeSpec(base.type, replace(base.options, **given))

    def options(
        self, kind: ValueType, below: MappingType[str, OptionValue], body: Mapping
    ) -> GivenOptions:
        """The reading options that stand in a mapping; `below` are those that they go on top of."""
        given: GivenOptions = {}
        for name in OPTION_NAMES:
            if name not in body.entries:
                continue
            key, node = body.entries[name]
            if name not in kind.accepts_options and not (
                name == "trim" and kind.always_trims
            ):
                # What the type knows, for somebody who looks for the right word.
                hint = f"it takes {', '.join(sorted(kind.accepts_options))}"
                self.reader.add(
                    Code.WRONG_OPTION,
                    f"{name} means nothing for the type {kind.name}",
                    key,
                    hint,
                )
                continue
            value = self.option(name, node, kind)
            if value is not None:
                given[name] = value
        self.marks_differ({"point": PLAIN.point, **below, **given}, body)
        return given

    def marks_differ(
        self, options: MappingType[str, OptionValue], body: Mapping
    ) -> None:
        if (
            options.get("grouping") is not None
            and options["grouping"] == options["point"]
        ):
            self.reader.add(
                Code.WRONG_VALUE,
                "grouping and point are the same character",
                body,
                "say point as well",
            )

    def option(self, name: str, node: Node, kind: ValueType) -> OptionValue:
        reader = self.reader
        match name:
            case "trim" | "percent" | "accounting":
                return reader.flag(node, name)
            case "blank":
                return frozenset(_texts(reader.scalars(node, name)))
            # An empty text would be found everywhere and take nothing away.
            case "strip":
                return tuple(filter(None, _texts(reader.scalars(node, name))))
            case "unit" | "round" | "fold":
                return reader.choice(node, name, CHOICES[name])
            case "capture":
                return self.capture(node)
            case "split":
                return reader.text(node, name) or None
            case "grouping" | "point":
                return self.character(node, name)
            case "zone":
                return self.zone(node)
            case _:
                return self.formats(node, kind)

    def character(self, node: Node, name: str) -> str | None:
        text = self.reader.text(node, name)
        # Digits would be lost with it, signs and exponents would change the number.
        if text is not None and (len(text) != 1 or text.isalnum() or text in "+-"):
            self.reader.add(
                Code.WRONG_VALUE,
                f"{name} is one character, and no digit, letter or sign",
                node,
            )
            return None
        return text

    def zone(self, node: Node) -> str | None:
        name = self.reader.text(node, "zone")
        if name is None:
            return None
        try:
            # Looked up now, so that no row fails for a misspelt name.
            zone(name)
        except KeyError:
            near = nearest(name, zone_names())
            hint = (
                f"did you mean {near}?"
                if near
                else "an IANA name such as Atlantic/Faroe, or an offset such as +02:00"
            )
            self.reader.add(Code.UNKNOWN_ZONE, f"no time zone {name}", node, hint)
            return None
        return name

    def formats(self, node: Node, kind: ValueType) -> tuple[str, ...] | None:
        kind = kind.item if isinstance(kind, ListOf) else kind
        named = _FORMATS[type(kind)]
        words = []
        for scalar in self.reader.scalars(node, "format"):
            word = scalar.text
            words.append(word)
            # A sign of a pattern: names have none.
            if "%" in word:
                problem = _format_problem(word, kind)
                if problem:
                    message = f"the format {word}: {problem}"
                    self.reader.add(Code.WRONG_VALUE, message, scalar)
            elif word not in named:
                near = nearest(word, named)
                hint = (
                    f"did you mean {near}?"
                    if near
                    else f"one of {', '.join(named)}, or a pattern such as %d.%m.%Y"
                )
                message = f"no format {word} of {kind.name}"
                self.reader.add(Code.WRONG_VALUE, message, scalar, hint)
        return tuple(words) or None

    def capture(self, node: Node) -> str | None:
        scalar = self.reader.scalar(node, "capture")
        if scalar is None:
            return None
        try:
            capturing(scalar.text)
        except PatternError as error:
            self.reader.add(
                Code.NO_PATTERN,
                f"capture: {error.cause}",
                scalar,
                error.hint,
                # The caret stands within the pattern, where the mistake is.
                error.position,
            )
            return None
        return scalar.text


def policy(reader: Reader, node: Node | None) -> Policy | None:
    """What `bad` says; the YAML null and the word are the same."""
    if isinstance(node, Scalar) and node.means_null:
        return "null"
    return cast(Policy | None, reader.choice(node, "bad", ("reject", "null", "stop")))


def _texts(scalars: Iterable[Scalar]) -> Iterator[str]:
    return (scalar.text for scalar in scalars)


def _format_problem(pattern: str, kind: ValueType) -> str | None:
    """Why a pattern can't read values of a type."""
    problem = pattern_problem(
        pattern, date=not isinstance(kind, Time), time=not isinstance(kind, Date)
    )
    has_no_offset = isinstance(kind, Datetime | Time)
    if problem is None and has_no_offset and "%z" in pattern:
        return f"it reads an offset, which a {kind.name} does not have"
    return problem
