"""The sections `enums` and `types`, and what a field's `type` and reading options mean together."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from collections.abc import Mapping as MappingType
from dataclasses import fields as dataclass_fields
from dataclasses import replace
from decimal import Decimal
from types import MappingProxyType
from typing import Any, NamedTuple, TypeAlias, TypeVar, cast

from mukret.codes import Code
from mukret.paths.regexps import PatternError, capturing
from mukret.rules.model import Policy
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar
from mukret.text import nearest
from mukret.types import (
    PLAIN,
    Boolean,
    DecimalType,
    Enum,
    EnumValue,
    Integer,
    ListOf,
    ReadingOptions,
    Text,
    TypeSpec,
    ValueType,
    parse_type,
)
from mukret.types.calendar import Date, Datetime, Time
from mukret.types.durations import UNITS
from mukret.types.enums import Attribute
from mukret.types.formats import pattern_problem
from mukret.types.instants import EPOCH_MICROS, Timestamp
from mukret.types.names import TYPE_NAMES, TypeNameError, item_name, list_of
from mukret.types.numbers import MAX_DIGITS
from mukret.types.zones import zone, zone_names

# What a reading option can be: a flag, a text, several of them, or a pattern.
OptionValue: TypeAlias = Any
GivenOptions: TypeAlias = dict[str, OptionValue]

Found = TypeVar("Found")
OPTION_NAMES = tuple(option.name for option in dataclass_fields(ReadingOptions))
TYPE_KEYS = keys("type note " + " ".join(OPTION_NAMES))
_DEFAULT_OPTIONS = ("blank", "trim", "zone", "fold", "grouping", "point", "round")
DEFAULT_KEYS = keys(" ".join((*_DEFAULT_OPTIONS, "bad")))
ENUM_KEYS = keys("values otherwise case note")
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
_INTEGER = re.compile(r"[-+]?[0-9]+")
_DECIMAL = re.compile(r"[-+]?(?:[0-9]+\.[0-9]*|\.[0-9]+)")


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


class EnumReader:
    def __init__(self, reader: Reader, name: str) -> None:
        self.reader = reader
        self.name = name

    def read(self, body: Mapping) -> Enum:
        exact = self.reader.choice(body.get("case"), "case", ("exact",)) == "exact"
        values = self.values(body)
        types = self.attribute_types(body, values)
        otherwise = self.otherwise(body, values)
        enum = Enum(
            self.name,
            # Attributes have one type for all words, as a column has.
            tuple(_widened(values, types)),
            otherwise,
            exact,
            MappingProxyType(types),
        )
        self.check_words(body, enum)
        return enum

    def values(self, body: Mapping) -> list[EnumValue]:
        section = self.reader.mapping(
            body.get("values"), f"values of the enum {self.name}"
        )
        if section is None or not section.entries:
            # A section that is no mapping has been noted as that.
            if "values" not in body.entries or section is not None:
                self.reader.add(
                    Code.MISSING_KEY,
                    f"the enum {self.name} has no values",
                    body,
                    "values: {boarding: {}, departed: {}}",
                )
            return []
        return [
            value
            for name in section.entries
            if (value := self.value(section, name)) is not None
        ]

    def value(self, section: Mapping, name: str) -> EnumValue | None:
        key, node = section.entries[name]
        if name in ("bad", "null"):
            self.reader.add(
                Code.NAME_INVALID,
                f"no enum value can be called {name}",
                key,
                "the word means something in otherwise",
            )
            return None
        if isinstance(node, Scalar) and node.empty:
            return None  # noted as an empty key
        body = self.reader.mapping(node, f"the value {name}")
        if body is None:
            return None
        accept = tuple(
            scalar.text for scalar in self.reader.scalars(body.get("accept"), "accept")
        )
        attributes: dict[str, Attribute] = {}
        for attribute, (attribute_key, attribute_node) in body.entries.items():
            if attribute == "accept":
                continue
            self.reader.name(attribute_key, "an attribute")
            scalar = self.reader.scalar(attribute_node, f"the attribute {attribute}")
            if scalar is not None:
                attributes[attribute] = literal(scalar)
        return EnumValue(name, accept, MappingProxyType(attributes))

    def otherwise(self, body: Mapping, values: list[EnumValue]) -> str | None:
        scalar = self.reader.scalar(body.get("otherwise"), "otherwise")
        if scalar is None:
            return "bad"
        # In quotes, too: there may be no value of this name, and nothing else could be meant.
        if scalar.means_null or scalar.text == "null":
            return None
        names = [value.name for value in values]
        if scalar.text != "bad" and scalar.text not in names:
            near = nearest(scalar.text, names)
            hint = (
                f"did you mean {near}?"
                if near
                else "it is bad, null, or the name of a value"
            )
            self.reader.add(
                Code.WRONG_VALUE,
                f"otherwise: {scalar.text} is no value of the enum {self.name}",
                scalar,
                hint,
            )
            return "bad"
        return scalar.text

    def attribute_types(
        self, body: Mapping, values: list[EnumValue]
    ) -> dict[str, ValueType]:
        names = dict.fromkeys(
            attribute for value in values for attribute in value.attributes
        )
        types: dict[str, ValueType] = {}
        for name in names:
            literals = [
                value.attributes[name]
                for value in values
                if value.attributes.get(name) is not None
            ]
            kind = common_literal_type(literals)
            if kind is None:
                message = (
                    f"the attribute {name} of the enum {self.name} has literals of "
                    "different types"
                )
                self.reader.add(
                    Code.WRONG_VALUE,
                    message,
                    body.get("values") or body,
                    "quote them all, or none",
                )
                continue
            # An attribute of several types would make a column of none.
            types[name] = kind
        return types

    def check_words(self, body: Mapping, enum: Enum) -> None:
        owner: dict[str, str] = {}
        for value in enum.values:
            for word in (value.name, *value.accept):
                # Folded as values will be: `Due` and `due` are one word unless case counts.
                first = owner.setdefault(enum.folded(word), value.name)
                if first != value.name:
                    section = body.get("values")
                    where = (
                        section.key(value.name)
                        if isinstance(section, Mapping)
                        else body
                    )
                    self.reader.add(
                        Code.NAME_CLASH,
                        f"{first} and {value.name} both accept {word!r}",
                        where,
                    )


def _widened(
    values: list[EnumValue], types: MappingType[str, ValueType]
) -> Iterator[EnumValue]:
    """The values with all numbers of a decimal attribute as decimals, with as many digits after the
    point as it has.
    """
    for value in values:
        attributes = dict(value.attributes)
        for name, number in attributes.items():
            kind = types.get(name)
            if isinstance(kind, DecimalType) and isinstance(number, int | Decimal):
                attributes[name] = kind.fitted(Decimal(number), None)
        yield replace(value, attributes=MappingProxyType(attributes))


def literal(scalar: Scalar) -> Attribute:
    """The value of a YAML literal: quoted ones are texts, plain ones what YAML 1.2's core schema
    says.
    """
    text = scalar.text
    if not scalar.plain:
        return text
    if scalar.means_null:
        return None
    if text in ("true", "True", "TRUE", "false", "False", "FALSE"):
        return text.lower() == "true"
    # Below 64 bits without having to count; larger ones are texts, or decimals where a type says
    # so.
    if _INTEGER.fullmatch(text) and len(text) < 19:
        return int(text)
    if _DECIMAL.fullmatch(text) and len(text) <= 38:
        return Decimal(text)
    return text


def common_literal_type(literals: list[Attribute]) -> ValueType | None:
    kinds = {type(item) for item in literals}
    if kinds <= {str}:
        return Text()
    if kinds == {bool}:
        return Boolean()
    if kinds == {int}:
        return Integer()
    # Digits as they are written: 1.50 has two after the point.
    if kinds <= {int, Decimal}:
        return _common_decimal(
            [Decimal(item) for item in literals if isinstance(item, int | Decimal)]
        )
    return None


def _common_decimal(numbers: Sequence[Decimal]) -> ValueType | None:
    """A decimal that holds all of these; None if they have too many digits for one."""
    scale = max(max(0, -int(number.as_tuple().exponent)) for number in numbers)
    whole = max(max(1, number.adjusted() + 1) for number in numbers)
    digits = whole + scale
    return DecimalType(digits, scale) if digits <= MAX_DIGITS else None


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
