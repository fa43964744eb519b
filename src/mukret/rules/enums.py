"""The enums of a rules file: words, what each is also written as, and what is known of it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from collections.abc import Mapping as MappingType
from dataclasses import replace
from decimal import Decimal
from types import MappingProxyType

from mukret.codes import Code
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Scalar
from mukret.text import nearest
from mukret.types import (
    Boolean,
    DecimalType,
    Enum,
    EnumValue,
    Integer,
    Text,
    ValueType,
)
from mukret.types.enums import Attribute
from mukret.types.numbers import MAX_DIGITS

ENUM_KEYS = keys("values otherwise case note")


_INTEGER = re.compile(r"[-+]?[0-9]+")


_DECIMAL = re.compile(r"[-+]?(?:[0-9]+\.[0-9]*|\.[0-9]+)")


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
