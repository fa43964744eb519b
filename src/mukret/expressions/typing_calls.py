"""Typing calls: functions, casts, parts of times, zones, aggregates over rows of other tables."""

from __future__ import annotations

from typing import cast

from lark import Token

from mukret.codes import Code
from mukret.errors import ExpressionError
from mukret.expressions import families
from mukret.expressions.functions import ALIASES, FUNCTIONS, WrongArgument
from mukret.expressions.likeness import like_pattern
from mukret.expressions.parse import Syntax
from mukret.expressions.temporal import PARTS, SECONDS
from mukret.expressions.tree import (
    BOOLEAN,
    Aggregate,
    AtZone,
    Case,
    Coalesce,
    Constant,
    Conversion,
    Expression,
    Extraction,
    FunctionCall,
    Inversion,
    Like,
    Negation,
)
from mukret.expressions.typing_basics import string_of, unquoted
from mukret.expressions.typing_operators import Operators
from mukret.text import did_you_mean
from mukret.types import (
    Bad,
    Datetime,
    DecimalType,
    Integer,
    Text,
    Timestamp,
    ValueType,
)
from mukret.types.numbers import MAX_DIGITS
from mukret.types.zones import zone, zone_names

AGGREGATES = ("COUNT", "SUM", "MIN", "MAX", "AVG", "LISTAGG")
_BRANCHING = ("COALESCE", "NULLIF")
# What functions of SQL's dialects are called in the standard.
_ELSEWHERE = {
    **dict.fromkeys(("NOW", "GETDATE", "SYSDATE", "CURRENT_DATE"), "CURRENT_TIMESTAMP"),
    **dict.fromkeys(("LENGTH", "LEN"), "CHAR_LENGTH(text)"),
    **dict.fromkeys(("IFNULL", "NVL", "ISNULL"), "COALESCE(a, b)"),
    **dict.fromkeys(
        ("STRPOS", "INSTR", "CHARINDEX", "LOCATE"), "POSITION(part IN text)"
    ),
    **dict.fromkeys(("STRING_AGG", "GROUP_CONCAT"), "LISTAGG(table.field, ', ')"),
    **dict.fromkeys(("DATE_PART", "DATEPART"), "EXTRACT(YEAR FROM x)"),
    **dict.fromkeys(("IF", "IIF"), "CASE WHEN … THEN … ELSE … END"),
    "SUBSTR": "SUBSTRING(text, start, length)",
    "POW": "POWER(a, b)",
}


class Calls(Operators):
    # ---- functions

    def _call(self, node: Syntax) -> Expression:
        token = cast(Token, node.children[0])
        name = ALIASES.get(str(token).upper(), str(token).upper())
        arguments = self.children(node)
        match name:
            # Functions whose type hangs on all of their arguments have no signature in the table.
            case "COALESCE" if arguments:
                items = self.unified(arguments)
                return Coalesce(items[0].type, tuple(items))
            case "NULLIF" if len(arguments) == 2:
                value = self.check(arguments[0])
                same = self.compared(arguments[0], "=", arguments[1])
                kind = value.type or Text()
                return Case(
                    kind, ((same, Constant(kind, None)),), self.widened(value, kind)
                )
            case "COALESCE" | "NULLIF":
                raise self.wrong_count(node, name, len(arguments))
            case "ROUND" if len(arguments) in (1, 2):
                return self.rounded(node, arguments)
        if name in AGGREGATES:
            return self.aggregate(node, name, arguments)
        if name in FUNCTIONS:
            return self.called(node, name, arguments)
        known = [
            *_BRANCHING,
            *(known for known in FUNCTIONS if " " not in known),
            *AGGREGATES,
            "CAST",
            "EXTRACT",
            "TRIM",
        ]
        hint = (
            f"it is {_ELSEWHERE[name]} here"
            if name in _ELSEWHERE
            else did_you_mean(name, known)
        )
        raise self.fail(token, f"no function {token}", hint, Code.UNKNOWN_FUNCTION)

    def wrong_count(self, node: Syntax, name: str, count: int) -> ExpressionError:
        arguments = "1 argument" if count == 1 else f"{count} arguments"
        return self.fail(
            node, f"{name} does not take {arguments}", code=Code.EXPRESSION_SYNTAX
        )

    def called(self, node: Syntax, name: str, arguments: list[Syntax]) -> Expression:
        function = FUNCTIONS[name]
        if not function.takes(len(arguments)):
            raise self.wrong_count(node, name.partition(" ")[0], len(arguments))
        expressions = [self.check(argument) for argument in arguments]
        types = [expression.type for expression in expressions]
        known = next((kind for kind in types if kind is not None), Text())
        given: list[ValueType] = []
        for index, kind in enumerate(types):
            # A bare NULL takes the type that is wanted in its place.
            given.append(
                kind if kind is not None else self.wanted(name, types, index, known)
            )
        try:
            wanted, result = function.signature(given)
        except WrongArgument as wrong:
            actual = given[wrong.index].name
            message = f"{name.partition(' ')[0]} wants {wrong.wanted} here, but this is {actual}"
            raise self.fail(
                arguments[wrong.index], message, self.cast_hint(wrong.wanted)
            ) from None
        widened = [
            self.widened(item, kind)
            for item, kind in zip(expressions, wanted, strict=True)
        ]
        return FunctionCall(result, name, tuple(widened))

    @staticmethod
    def wanted(
        name: str, types: list[ValueType | None], index: int, known: ValueType
    ) -> ValueType:
        """A type that a NULL in this place can have."""
        # Tried one after the other: signatures are functions, and can't be asked what they take.
        for candidate in (known, Integer(), Text()):
            try:
                FUNCTIONS[name].signature([kind or candidate for kind in types])
                return candidate
            except WrongArgument as wrong:
                if wrong.index != index:
                    continue
        return known

    @staticmethod
    def cast_hint(wanted: str) -> str | None:
        return {
            "a text": "write CAST(… AS text)",
            "a number": "cast it first: CAST(… AS decimal(12,2))",
            "an integer": "cast it first: CAST(… AS integer)",
        }.get(wanted)

    def rounded(self, node: Syntax, arguments: list[Syntax]) -> Expression:
        """ROUND(x) and ROUND(x, n): of a decimal n decides the digits after the point, so it must
        be a literal.
        """
        number = self.numeric(arguments[0], "ROUND")
        digits: Expression = (
            self.check(arguments[1]) if len(arguments) == 2 else Constant(Integer(), 0)
        )
        count = self.literal_integer(digits)
        kind = number.type or Integer()
        if count is None and (
            not isinstance(digits.type, Integer) or isinstance(kind, DecimalType)
        ):
            raise self.fail(
                arguments[-1],
                "ROUND wants a whole number here",
                "such as ROUND(fare, 2)",
            )
        # Rounding up can need one digit more before the point: 9.99 becomes 10.0.
        if isinstance(kind, DecimalType) and count is not None:
            scale = min(kind.scale, max(0, count))
            whole = max(kind.precision - kind.scale, 0) + 1
            result: ValueType = DecimalType(
                min(MAX_DIGITS, max(1, whole + scale)), scale
            )
        else:
            result = kind
        return FunctionCall(result, "ROUND", (self.widened(number, kind), digits))

    @staticmethod
    def literal_integer(expression: Expression) -> int | None:
        if isinstance(expression, Negation):
            inner = Calls.literal_integer(expression.operand)
            return None if inner is None else -inner
        value = expression.value if isinstance(expression, Constant) else None
        return value if type(value) is int else None

    def _extract(self, node: Syntax) -> Expression:
        token, operand_node = cast(Token, node.children[0]), self.children(node)[0]
        part, operand = str(token).upper(), self.check(operand_node)
        if part not in PARTS:
            raise self.fail(
                token, f"EXTRACT knows no {token}", did_you_mean(part, PARTS)
            )
        if operand.type is not None and not isinstance(operand.type, PARTS[part]):
            hint = (
                "cast it first: CAST(… AS timestamp)"
                if families.is_textual(operand.type)
                else None
            )
            raise self.fail(
                operand_node, f"a value of type {operand.type.name} has no {part}", hint
            )
        # Seconds have a fraction, all other parts are whole.
        result = SECONDS if part in ("SECOND", "EPOCH") else Integer()
        return Extraction(
            result, self.widened(operand, operand.type or Timestamp()), part
        )

    def _at_zone(self, node: Syntax) -> Expression:
        operand_node, token = self.children(node)[0], cast(Token, node.children[1])
        operand, name = self.check(operand_node), string_of(token)
        if operand.type is not None and not isinstance(
            operand.type, Timestamp | Datetime
        ):
            message = (
                "AT TIME ZONE wants a timestamp or a datetime, but this is "
                f"{operand.type.name}"
            )
            raise self.fail(operand_node, message)
        try:
            zone(name)
        except KeyError:
            raise self.fail(
                token,
                f"no time zone {name}",
                did_you_mean(name, zone_names()),
                Code.UNKNOWN_ZONE,
            ) from None
        kind = operand.type or Timestamp()
        # An instant becomes local time there, a local time the instant at which it was.
        result = Datetime() if isinstance(kind, Timestamp) else Timestamp()
        return AtZone(result, self.widened(operand, kind), name)

    def _substring(self, node: Syntax) -> Expression:
        return self.called(node, "SUBSTRING", self.children(node))

    def _position(self, node: Syntax) -> Expression:
        return self.called(node, "POSITION", self.children(node))

    def _trim(self, node: Syntax) -> Expression:
        """TRIM(x), TRIM(characters FROM x), with LEADING, TRAILING or BOTH before."""
        side = str(node.children[0]).partition("(")[2].strip().upper() or "BOTH"
        return self.called(node, f"TRIM {side}", self.children(node)[::-1])

    def _like(self, node: Syntax) -> Expression:
        text_node, pattern_node = self.children(node)
        parts = []
        for child in (text_node, pattern_node):
            part = self.check(child)
            if part.type is not None and not families.is_textual(part.type):
                raise self.fail(
                    child,
                    f"LIKE compares texts, but this is {part.type.name}",
                    "write CAST(… AS text)",
                )
            parts.append(self.widened(part, Text()))
        token = node.children[2] if len(node.children) > 2 else None
        escape = string_of(token) if isinstance(token, Token) else None
        if escape is not None and len(escape) != 1:
            raise self.fail(cast(Token, token), "ESCAPE wants one character")
        # A literal pattern can be judged now, before a row is read.
        if isinstance(parts[1], Constant) and isinstance(parts[1].value, str):
            try:
                like_pattern(parts[1].value, escape)
            except Bad as bad:
                raise self.fail(pattern_node, bad.expected) from None
        return Like(BOOLEAN, parts[0], parts[1], escape)

    def _not_like(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._like(node))

    # ---- aggregates

    def aggregate(self, node: Syntax, name: str, arguments: list[Syntax]) -> Expression:
        """COUNT(table), SUM(table.field), LISTAGG(table.field, ', ') …"""
        if len(arguments) != (2 if name == "LISTAGG" else 1):
            raise self.wrong_count(node, name, len(arguments))
        over = arguments[0]
        # An expression would have to be evaluated in rows of another table; a field there can do
        # it.
        if over.data not in ("field", "attribute"):
            hint = (
                f"{name}(sailings.fare): a field with compute in the table below can hold an "
                "expression"
            )
            raise self.fail(
                over, f"{name} takes a field of a table directly within this one", hint
            )
        table = self.table_within(name, cast(Token, over.children[0]))
        if over.data == "field":
            if name != "COUNT":
                example = next(iter(self.within[table]), "fare")
                hint = f"{name}({table}.{example})"
                raise self.fail(over, f"{name} wants a field of {table}", hint)
            return Aggregate(Integer(), name, table, None)
        field = self.field_within(table, cast(Token, over.children[1]))
        separator = self.separator(arguments[1]) if name == "LISTAGG" else ""
        kind = self.within[table][field]
        result = families.aggregate_type(name, kind)
        if result is None:
            by_name = {
                "LISTAGG": "texts",
                "SUM": "numbers or durations",
                "AVG": "numbers",
            }
            wants = by_name.get(name, "values with an order")
            raise self.fail(
                over, f"{name} wants {wants}, but {table}.{field} is {kind.name}"
            )
        return Aggregate(result, name, table, field, separator)

    def table_within(self, aggregate: str, token: Token) -> str:
        table = unquoted(token)
        if table not in self.within:
            # Deeper tables have no row here: they are reached level by level.
            hint = did_you_mean(table, self.within)
            hint = (
                hint or "aggregates are over tables that are directly within this one"
            )
            message = f"{aggregate}: no table {table} within this one"
            raise self.fail(token, message, hint, Code.UNKNOWN_TABLE)
        return table

    def field_within(self, table: str, token: Token) -> str:
        field, known = unquoted(token), self.within[table]
        if field not in known:
            hint = did_you_mean(field, known)
            raise self.fail(
                token, f"{table} has no field {field}", hint, Code.UNKNOWN_FIELD
            )
        return field

    def separator(self, argument: Syntax) -> str:
        """The text between the values of LISTAGG, which must not differ from row to row."""
        separator = self.check(argument)
        if not isinstance(separator, Constant) or not isinstance(separator.value, str):
            message = "LISTAGG wants a literal text between the values"
            raise self.fail(argument, message, "LISTAGG(ports.name, ', ')")
        return separator.value

    def _cast(self, node: Syntax) -> Expression:
        operand, type_node = self.children(node)
        expression = self.check(operand)
        parts = [str(part) for part in type_node.children if part is not None]
        name = f"{parts[0]}({','.join(parts[1:])})" if len(parts) > 1 else parts[0]
        try:
            target = self.types(name)
        except KeyError:
            raise self.fail(
                type_node, f"no type {name}", code=Code.UNKNOWN_TYPE
            ) from None
        except ValueError as error:
            raise self.fail(
                type_node,
                str(error),
                getattr(error, "hint", None),
                getattr(error, "code", "unknown-type"),
            ) from None
        # NULL of a type: nothing is left to convert.
        if expression.type is None:
            return Constant(target.type, None)
        if not families.castable(expression.type, target.type):
            raise self.fail(
                operand, f"{expression.type.name} can't be cast to {target.type.name}"
            )
        return Conversion(target.type, expression, target)
