"""Typing the smallest parts of an expression: literals, names, and what all the rest stands on."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import cast

from lark import Token, Tree

from mukret.codes import Code
from mukret.errors import ExpressionError
from mukret.expressions.parse import Syntax
from mukret.expressions.tree import (
    BOOLEAN,
    Constant,
    Conversion,
    EnumAttribute,
    Expression,
    FieldValue,
    Now,
)
from mukret.text import did_you_mean
from mukret.types import (
    Bad,
    Date,
    Datetime,
    DecimalType,
    Duration,
    Enum,
    Float,
    Integer,
    ReadingOptions,
    Text,
    Timestamp,
    TypeSpec,
    ValueType,
)
from mukret.types.base import PLAIN
from mukret.types.instants import read_date
from mukret.types.numbers import INT64_MAX, MAX_DIGITS

_INTERVALS = {"DAY": "d", "HOUR": "h", "MINUTE": "min", "SECOND": "s"}
# Finds a type by name for CAST; raises KeyError, or ValueError with the reason.
TypeNames = Callable[[str], TypeSpec]


# The fields of the tables directly within one, by table.
Children = Mapping[str, Mapping[str, ValueType]]


def unquoted(token: Token) -> str:
    text = str(token)
    return text[1:-1].replace('""', '"') if text.startswith('"') else text


def string_of(token: Token) -> str:
    text = str(token)
    return text[text.index("'") + 1 : -1].replace("''", "'")


class Basics:
    """Each `_name` types the nodes of that name in the syntax tree."""

    def __init__(
        self,
        text: str,
        fields: Mapping[str, ValueType],
        types: TypeNames,
        children: Children,
    ) -> None:
        self.text = text
        self.fields = fields
        self.types = types
        self.within = children

    def fail(
        self,
        where: Syntax | Token,
        message: str,
        hint: str | None = None,
        code: str = Code.EXPRESSION_TYPE,
    ) -> ExpressionError:
        position = (
            where.start_pos
            if isinstance(where, Token)
            else getattr(where.meta, "start_pos", 0)
        )
        return ExpressionError(code, message, self.text, position or 0, hint)

    def check(self, node: Syntax) -> Expression:
        return cast(Expression, getattr(self, f"_{node.data}")(node))

    def children(self, node: Syntax) -> list[Syntax]:
        return [child for child in node.children if isinstance(child, Tree)]

    def checked(self, node: Syntax) -> list[Expression]:
        return [self.check(child) for child in self.children(node)]

    # ---- literals and names

    def _parenthesized(self, node: Syntax) -> Expression:
        return self.checked(node)[0]

    def _integer_literal(self, node: Syntax) -> Expression:
        digits = str(node.children[0])
        if len(digits) > MAX_DIGITS:
            raise self.fail(node, f"a number of more than {MAX_DIGITS} digits")
        number = int(digits)
        if number <= INT64_MAX:
            return Constant(Integer(), number)
        return Constant(DecimalType(len(digits), 0), Decimal(digits))

    def _decimal_literal(self, node: Syntax) -> Expression:
        number = Decimal(str(node.children[0]))
        scale = max(0, -cast(int, number.as_tuple().exponent))
        precision = max(len(number.as_tuple().digits), scale, 1)
        if precision > MAX_DIGITS:
            raise self.fail(node, f"a number of more than {MAX_DIGITS} digits")
        return Constant(DecimalType(precision, scale), number)

    def _float_literal(self, node: Syntax) -> Expression:
        try:
            return Constant(Float(), Float().convert(str(node.children[0]), PLAIN))
        except Bad:
            raise self.fail(node, "a number that no double can hold") from None

    def _string_literal(self, node: Syntax) -> Expression:
        return Constant(Text(), string_of(cast(Token, node.children[0])))

    def _true_literal(self, node: Syntax) -> Expression:
        return Constant(BOOLEAN, True)

    def _false_literal(self, node: Syntax) -> Expression:
        return Constant(BOOLEAN, False)

    def _null_literal(self, node: Syntax) -> Expression:
        return Constant(None, None)

    def _date_literal(self, node: Syntax) -> Expression:
        try:
            return Constant(Date(), read_date(string_of(cast(Token, node.children[0]))))
        except Bad as bad:
            raise self.fail(node, f"expected {bad.expected}") from None

    def _timestamp_literal(self, node: Syntax) -> Expression:
        """With an offset a timestamp, without one a datetime."""
        text = string_of(cast(Token, node.children[0]))
        try:
            return Constant(Timestamp(), Timestamp().convert(text, PLAIN))
        except Bad as bad:
            expected = bad.expected
            if bad.code == Code.NO_ZONE:
                return Constant(Datetime(), Datetime().convert(text, PLAIN))
        raise self.fail(node, f"expected {expected}")

    def _interval_literal(self, node: Syntax) -> Expression:
        before, quote, rest = str(node.children[0]).partition("'")
        text, _, unit = rest.rpartition(quote)
        unit = unit.strip().upper()
        # MINUTE and MINUTES, as most databases take both.
        unit = unit.removesuffix("S") if unit.removesuffix("S") in _INTERVALS else unit
        if unit not in _INTERVALS:
            hint = f"INTERVAL '90' MINUTE; known: {', '.join(_INTERVALS)}"
            raise self.fail(
                node,
                f"{before.strip()} '{text}' has no unit {unit} of fixed length",
                hint,
            )
        try:
            return Constant(
                Duration(),
                Duration().convert(text.strip(), ReadingOptions(unit=_INTERVALS[unit])),
            )
        except Bad as bad:
            raise self.fail(node, f"expected {bad.expected}") from None

    def _current_timestamp(self, node: Syntax) -> Expression:
        return Now(Timestamp())

    def _field(self, node: Syntax) -> Expression:
        token = cast(Token, node.children[0])
        name = unquoted(token)
        if name not in self.fields:
            raise self.fail(
                token,
                f"no field {name}",
                # Of the table alone: a field of another one is reached by inheriting it.
                did_you_mean(name, self.fields),
                Code.UNKNOWN_FIELD,
            )
        return FieldValue(self.fields[name], name)

    def _attribute(self, node: Syntax) -> Expression:
        owner, attribute = (cast(Token, child) for child in node.children)
        name = unquoted(owner)
        kind = self.fields.get(name)
        if kind is None:
            raise self.fail(
                owner,
                f"no field {name}",
                did_you_mean(name, self.fields),
                Code.UNKNOWN_FIELD,
            )
        # Everything else with a dot would be a table, and those are named in aggregates alone.
        if not isinstance(kind, Enum):
            raise self.fail(
                attribute, f"{name} is of type {kind.name}: only enums have attributes"
            )
        known = kind.attribute_types
        if unquoted(attribute) not in known:
            message = f"the enum {kind.name} has no attribute {unquoted(attribute)}"
            raise self.fail(
                attribute,
                message,
                did_you_mean(unquoted(attribute), known),
                Code.UNKNOWN_ATTRIBUTE,
            )
        return EnumAttribute(
            known[unquoted(attribute)], name, kind, unquoted(attribute)
        )

    def widened(self, expression: Expression, target: ValueType) -> Expression:
        """The expression in another type of its family or above; NULL takes any type."""
        if expression.type == target:
            return expression
        if isinstance(expression, Constant) and expression.value is None:
            return Constant(target, None)
        return Conversion(target, expression, TypeSpec(target))
