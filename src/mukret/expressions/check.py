"""Types an expression before any data is read: syntax tree in, typed tree out, or an error at a character."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import cast

from lark import Token, Tree

from mukret.errors import ExpressionError
from mukret.expressions import families
from mukret.expressions.functions import ALIASES, FUNCTIONS, WrongArgument
from mukret.expressions.likeness import like_pattern
from mukret.expressions.parse import Syntax, parse_expression
from mukret.expressions.temporal import PARTS, SECONDS, temporal_type
from mukret.expressions.tree import (
    BOOLEAN,
    Aggregate,
    Arithmetic,
    ArithmeticOperator,
    AtZone,
    Call,
    Case,
    Coalesce,
    Comparison,
    ComparisonOperator,
    Concatenation,
    Constant,
    Conversion,
    EnumAttribute,
    Expression,
    Extraction,
    FieldValue,
    Inversion,
    Like,
    Logical,
    Negation,
    Now,
    NullTest,
    Temporal,
)
from mukret.text import did_you_mean
from mukret.types import (
    Bad,
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Duration,
    Enum,
    Float,
    Integer,
    Options,
    Reading,
    Text,
    Timestamp,
    ValueType,
)
from mukret.types.base import PLAIN
from mukret.types.instants import read_date
from mukret.types.numbers import INT64_MAX, MAX_DIGITS
from mukret.types.zones import zone, zone_names

AGGREGATES = ("COUNT", "SUM", "MIN", "MAX", "AVG", "LISTAGG")
_BRANCHING = ("COALESCE", "NULLIF")
_INTERVALS = {"DAY": "d", "HOUR": "h", "MINUTE": "min", "SECOND": "s"}
TypeNames = Callable[[str], Reading]
"""Finds a type by name for CAST; raises KeyError, or ValueError with the reason."""


Children = Mapping[str, Mapping[str, ValueType]]
"""The fields of the tables directly within one, by table."""


def compile_expression(
    text: str, fields: Mapping[str, ValueType], types: TypeNames, children: Children | None = None
) -> Expression:
    """Parse and type an expression over fields of the given types, and over the rows of tables directly within.

    Raises ExpressionError.
    """
    try:
        return _Checker(text, fields, types, children or {}).check(parse_expression(text))
    except RecursionError:
        raise ExpressionError(
            "expression-syntax", "nested too deeply", text, 0, "split it into several fields"
        ) from None


def names_in(text: str) -> list[tuple[str, int]]:
    """The fields of the row that an expression mentions, each with its position. Raises ExpressionError."""
    tree = parse_expression(text)
    over = {id(node) for node in _aggregated(tree)}
    return [
        (unquoted(token), token.start_pos or 0)
        for node in tree.iter_subtrees()
        if node.data in ("field", "attribute") and id(node) not in over
        for token in [cast(Token, node.children[0])]
    ]


def aggregates_in(text: str) -> list[tuple[str, str | None]]:
    """The tables over which an expression aggregates, each with the field, if it names one. Raises ExpressionError."""
    return [
        (
            unquoted(cast(Token, node.children[0])),
            unquoted(cast(Token, node.children[1])) if node.data == "attribute" else None,
        )
        for node in _aggregated(parse_expression(text))
    ]


def _aggregated(tree: Syntax) -> list[Syntax]:
    """What stands in the parentheses of aggregates: a table, or a field of one."""
    calls = [
        node for node in tree.iter_subtrees() if node.data == "call" and str(node.children[0]).upper() in AGGREGATES
    ]
    return [
        argument
        for node in calls
        for argument in node.children[1:2]
        if isinstance(argument, Tree) and argument.data in ("field", "attribute")
    ]


def converted(expression: Expression, target: Reading) -> Expression:
    """The expression followed by the conversion that a field's `type` asks for."""
    same = expression.type == target.type and target.options == PLAIN
    return expression if same else Conversion(target.type, expression, target, lenient=True)


def unquoted(token: Token) -> str:
    text = str(token)
    return text[1:-1].replace('""', '"') if text.startswith('"') else text


def _string(token: Token) -> str:
    text = str(token)
    return text[text.index("'") + 1 : -1].replace("''", "'")


class _Checker:
    def __init__(self, text: str, fields: Mapping[str, ValueType], types: TypeNames, children: Children) -> None:
        self.text = text
        self.fields = fields
        self.types = types
        self.within = children

    def fail(
        self, where: Syntax | Token, message: str, hint: str | None = None, code: str = "expression-type"
    ) -> ExpressionError:
        position = where.start_pos if isinstance(where, Token) else getattr(where.meta, "start_pos", 0)
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
        return Constant(Text(), _string(cast(Token, node.children[0])))

    def _true_literal(self, node: Syntax) -> Expression:
        return Constant(BOOLEAN, True)

    def _false_literal(self, node: Syntax) -> Expression:
        return Constant(BOOLEAN, False)

    def _null_literal(self, node: Syntax) -> Expression:
        return Constant(None, None)

    def _date_literal(self, node: Syntax) -> Expression:
        try:
            return Constant(Date(), read_date(_string(cast(Token, node.children[0]))))
        except Bad as bad:
            raise self.fail(node, f"expected {bad.expected}") from None

    def _timestamp_literal(self, node: Syntax) -> Expression:
        """With an offset a timestamp, without one a datetime."""
        text = _string(cast(Token, node.children[0]))
        try:
            return Constant(Timestamp(), Timestamp().convert(text, PLAIN))
        except Bad as bad:
            expected = bad.expected
            if bad.code == "no-zone":
                return Constant(Datetime(), Datetime().convert(text, PLAIN))
        raise self.fail(node, f"expected {expected}")

    def _interval_literal(self, node: Syntax) -> Expression:
        before, quote, rest = str(node.children[0]).partition("'")
        text, _, unit = rest.rpartition(quote)
        unit = unit.strip().upper()
        unit = unit.removesuffix("S") if unit.removesuffix("S") in _INTERVALS else unit
        if unit not in _INTERVALS:
            hint = f"INTERVAL '90' MINUTE; known: {', '.join(_INTERVALS)}"
            raise self.fail(node, f"{before.strip()} '{text}' has no unit {unit} of fixed length", hint)
        try:
            return Constant(Duration(), Duration().convert(text.strip(), Options(unit=_INTERVALS[unit])))
        except Bad as bad:
            raise self.fail(node, f"expected {bad.expected}") from None

    def _current_timestamp(self, node: Syntax) -> Expression:
        return Now(Timestamp())

    def _field(self, node: Syntax) -> Expression:
        token = cast(Token, node.children[0])
        name = unquoted(token)
        if name not in self.fields:
            raise self.fail(token, f"no field {name}", did_you_mean(name, self.fields), "unknown-field")
        return FieldValue(self.fields[name], name)

    def _attribute(self, node: Syntax) -> Expression:
        owner, attribute = (cast(Token, child) for child in node.children)
        name = unquoted(owner)
        kind = self.fields.get(name)
        if kind is None:
            raise self.fail(owner, f"no field {name}", did_you_mean(name, self.fields), "unknown-field")
        if not isinstance(kind, Enum):
            raise self.fail(attribute, f"{name} is of type {kind.name}: only enums have attributes")
        known = kind.attribute_types
        if unquoted(attribute) not in known:
            message = f"the enum {kind.name} has no attribute {unquoted(attribute)}"
            raise self.fail(attribute, message, did_you_mean(unquoted(attribute), known), "unknown-attribute")
        return EnumAttribute(known[unquoted(attribute)], name, kind, unquoted(attribute))

    # ---- operators

    def _identity(self, node: Syntax) -> Expression:
        [child] = self.children(node)
        return self.numeric(child, "+")

    def _negation(self, node: Syntax) -> Expression:
        [child] = self.children(node)
        operand = self.check(child)
        if not isinstance(operand.type, Duration):
            operand = self.numeric(child, "-")
        kind = operand.type or Integer()
        return Negation(kind, self.widened(operand, kind))

    def numeric(self, node: Syntax, operator: str) -> Expression:
        expression = self.check(node)
        if expression.type is not None and not families.is_numeric(expression.type):
            text_hint = "cast it first: CAST(… AS decimal(12,2))" if families.is_textual(expression.type) else None
            hint = "texts are joined by ||" if operator == "+" and families.is_textual(expression.type) else text_hint
            raise self.fail(node, f"{operator} wants numbers, but this is {expression.type.name}", hint)
        return expression

    def _arithmetic(self, node: Syntax) -> Expression:
        left_node, sign, right_node = node.children
        assert isinstance(left_node, Tree)
        assert isinstance(right_node, Tree)
        operator = cast(ArithmeticOperator, str(sign))
        found = self.with_times(node, operator, self.check(left_node), self.check(right_node))
        if found is not None:
            return found
        left, right = self.numeric(left_node, operator), self.numeric(right_node, operator)
        left_type = left.type or right.type or Integer()
        right_type = right.type or left_type
        result = families.arithmetic_type(operator, left_type, right_type)
        if result is None:
            message = f"{left_type.name} * {right_type.name} would need more than {MAX_DIGITS} digits after the point"
            raise self.fail(node, message, "cast one of them to fewer first")
        if isinstance(result, Float):
            left_type = right_type = result
        return Arithmetic(result, self.widened(left, left_type), self.widened(right, right_type), operator)

    def with_times(
        self, node: Syntax, operator: ArithmeticOperator, left: Expression, right: Expression
    ) -> Expression | None:
        """Arithmetic of which one side is a date, an instant or a duration; None if none is."""
        timely = ("date", "time", "datetime", "timestamp", "duration")
        kinds = [expression.type for expression in (left, right)]
        if not any(kind is not None and families.family(kind) in timely for kind in kinds):
            return None
        left_type, right_type = left.type or right.type, right.type or left.type
        assert left_type is not None
        assert right_type is not None
        result = temporal_type(operator, left_type, right_type)
        if result is None:
            hint = "durations are written INTERVAL '90' MINUTE"
            if {families.family(left_type), families.family(right_type)} == {"timestamp", "datetime"}:
                hint = "AT TIME ZONE makes one out of the other"
            raise self.fail(node, f"{left_type.name} {operator} {right_type.name} means nothing", hint)
        return Temporal(result, self.widened(left, left_type), self.widened(right, right_type), operator)

    def widened(self, expression: Expression, target: ValueType) -> Expression:
        """The expression in another type of its family or above; NULL takes any type."""
        if expression.type == target:
            return expression
        if isinstance(expression, Constant) and expression.value is None:
            return Constant(target, None)
        return Conversion(target, expression, Reading(target))

    def _concatenation(self, node: Syntax) -> Expression:
        parts = []
        for child in self.children(node):
            part = self.check(child)
            if part.type is not None and not families.is_textual(part.type):
                raise self.fail(child, f"|| joins texts, but this is {part.type.name}", "write CAST(… AS text)")
            parts.append(part)
        return Concatenation(Text(), parts[0], parts[1])

    def _comparison(self, node: Syntax) -> Expression:
        left, operator, right = node.children
        assert isinstance(left, Tree)
        assert isinstance(right, Tree)
        return self.compared(left, cast(ComparisonOperator, str(operator)), right)

    def compared(
        self, left: Syntax, operator: ComparisonOperator, right: Syntax, *, distinct: bool = False
    ) -> Expression:
        a, b = self.check(left), self.check(right)
        self.check_comparable(a, operator, b, right)
        self.check_word(a, b, right)
        self.check_word(b, a, left)
        left_type = a.type or b.type or Text()
        right_type = b.type or left_type
        if isinstance(left_type, Float) or isinstance(right_type, Float):
            left_type = right_type = Float()
        return Comparison(BOOLEAN, self.widened(a, left_type), self.widened(b, right_type), operator, distinct)

    def check_comparable(self, a: Expression, operator: str, b: Expression, where: Syntax) -> None:
        if a.type is None or b.type is None:
            return
        if not families.comparable(a.type, b.type):
            hint = None
            for literal, other in ((a, b), (b, a)):
                if isinstance(literal, Constant) and isinstance(literal.type, Text) and other.type:
                    hint = (
                        f"write {other.type.name.upper()} '{literal.value}'"
                        if isinstance(other.type, Date | Timestamp)
                        else None
                    )
                    hint = "leave out the quotes around a number" if families.is_numeric(other.type) else hint
            raise self.fail(where, f"{a.type.name} and {b.type.name} can't be compared", hint)
        if operator not in ("=", "<>") and (isinstance(a.type, Enum) or isinstance(b.type, Enum)):
            raise self.fail(
                where, "enums have no order: only = and <> compare them", "give the values a rank and compare that"
            )

    def check_word(self, enum: Expression, literal: Expression, where: Syntax) -> None:
        if isinstance(enum.type, Enum) and isinstance(literal, Constant) and isinstance(literal.value, str):
            names = enum.type.names
            if literal.value not in names:
                message = f"'{literal.value}' is no value of the enum {enum.type.name}"
                raise self.fail(where, message, did_you_mean(literal.value, names), "unknown-enum-value")

    def _is_distinct(self, node: Syntax) -> Expression:
        left, right = self.children(node)
        return self.compared(left, "<>", right, distinct=True)

    def _is_not_distinct(self, node: Syntax) -> Expression:
        left, right = self.children(node)
        return self.compared(left, "=", right, distinct=True)

    def _between(self, node: Syntax) -> Expression:
        value, low, high = self.children(node)
        return Logical(BOOLEAN, self.compared(value, ">=", low), self.compared(value, "<=", high), "AND")

    def _not_between(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._between(node))

    def _in_list(self, node: Syntax) -> Expression:
        value, *items = self.children(node)
        found: list[Expression] = [self.compared(value, "=", item) for item in items]
        while len(found) > 1:  # in pairs, so that a long list makes a shallow tree
            pairs = zip(found[::2], found[1::2], strict=False)
            joined: list[Expression] = [Logical(BOOLEAN, left, right, "OR") for left, right in pairs]
            found = joined + found[len(joined) * 2 :]
        return found[0]

    def _not_in_list(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._in_list(node))

    def _is_null(self, node: Syntax) -> Expression:
        return NullTest(BOOLEAN, self.checked(node)[0])

    def _is_not_null(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._is_null(node))

    # ---- logic

    def condition(self, node: Syntax, role: str) -> Expression:
        expression = self.check(node)
        if expression.type is not None and not isinstance(expression.type, Boolean):
            raise self.fail(
                node, f"{role} wants a condition, but this is {expression.type.name}", "compare it with something"
            )
        return self.widened(expression, BOOLEAN)

    def _disjunction(self, node: Syntax) -> Expression:
        left, right = (self.condition(child, "OR") for child in self.children(node))
        return Logical(BOOLEAN, left, right, "OR")

    def _conjunction(self, node: Syntax) -> Expression:
        left, right = (self.condition(child, "AND") for child in self.children(node))
        return Logical(BOOLEAN, left, right, "AND")

    def _inversion(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self.condition(self.children(node)[0], "NOT"))

    # ---- branches

    def _searched_case(self, node: Syntax) -> Expression:
        branches, otherwise = self.split_case(self.children(node))
        conditions = [self.condition(self.children(branch)[0], "WHEN") for branch in branches]
        return self.case(conditions, branches, otherwise)

    def _simple_case(self, node: Syntax) -> Expression:
        operand, *rest = self.children(node)
        branches, otherwise = self.split_case(rest)
        conditions = [self.compared(operand, "=", self.children(branch)[0]) for branch in branches]
        return self.case(conditions, branches, otherwise)

    @staticmethod
    def split_case(nodes: list[Syntax]) -> tuple[list[Syntax], Syntax | None]:
        return [node for node in nodes if node.data == "when"], next(
            (node for node in nodes if node.data != "when"), None
        )

    def case(self, conditions: list[Expression], branches: list[Syntax], otherwise: Syntax | None) -> Expression:
        nodes = [self.children(branch)[1] for branch in branches]
        *results, last = self.unified([*nodes, otherwise] if otherwise else nodes, extra_null=otherwise is None)
        return Case(last.type, tuple(zip(conditions, results, strict=True)), last)

    def unified(self, nodes: list[Syntax], *, extra_null: bool = False) -> list[Expression]:
        """The expressions, all converted to their common type."""
        expressions = [self.check(node) for node in nodes]
        kind: ValueType | None = None
        for node, expression in zip(nodes, expressions, strict=True):
            try:
                kind = families.common_type(kind, expression.type)
            except TypeError:
                assert kind is not None
                assert expression.type is not None
                raise self.fail(
                    node, f"one branch gives {kind.name}, this one {expression.type.name}", "cast one of them"
                ) from None
        if extra_null:
            expressions.append(Constant(None, None))
        return [self.widened(expression, kind or Text()) for expression in expressions]

    # ---- functions

    def _call(self, node: Syntax) -> Expression:
        token = cast(Token, node.children[0])
        name = ALIASES.get(str(token).upper(), str(token).upper())
        arguments = self.children(node)
        match name:
            case "COALESCE" if arguments:
                items = self.unified(arguments)
                return Coalesce(items[0].type, tuple(items))
            case "NULLIF" if len(arguments) == 2:
                value = self.check(arguments[0])
                same = self.compared(arguments[0], "=", arguments[1])
                kind = value.type or Text()
                return Case(kind, ((same, Constant(kind, None)),), self.widened(value, kind))
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
        raise self.fail(token, f"no function {token}", did_you_mean(name, known), "unknown-function")

    def wrong_count(self, node: Syntax, name: str, count: int) -> ExpressionError:
        arguments = "1 argument" if count == 1 else f"{count} arguments"
        return self.fail(node, f"{name} does not take {arguments}", code="expression-syntax")

    def called(self, node: Syntax, name: str, arguments: list[Syntax]) -> Expression:
        function = FUNCTIONS[name]
        if len(arguments) < function.least or (function.most is not None and len(arguments) > function.most):
            raise self.wrong_count(node, name.partition(" ")[0], len(arguments))
        expressions = [self.check(argument) for argument in arguments]
        known = next((expression.type for expression in expressions if expression.type is not None), Text())
        types = [expression.type for expression in expressions]
        given: list[ValueType] = []
        for index, kind in enumerate(types):
            given.append(kind if kind is not None else self.wanted(name, types, index, known))
        try:
            wanted, result = function.signature(given)
        except WrongArgument as wrong:
            found = given[wrong.index].name
            message = f"{name.partition(' ')[0]} wants {wrong.wanted} here, but this is {found}"
            raise self.fail(arguments[wrong.index], message, self.cast_hint(wrong.wanted)) from None
        return Call(
            result, name, tuple(self.widened(item, kind) for item, kind in zip(expressions, wanted, strict=True))
        )

    @staticmethod
    def wanted(name: str, types: list[ValueType | None], index: int, known: ValueType) -> ValueType:
        """A type that a NULL in this place can have."""
        for candidate in (known, Integer(), Text()):
            try:
                FUNCTIONS[name].signature([kind if kind is not None else candidate for kind in types])
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
        """ROUND(x) and ROUND(x, n): of a decimal n decides the digits after the point, so it must be a literal."""
        number = self.numeric(arguments[0], "ROUND")
        digits: Expression = self.check(arguments[1]) if len(arguments) == 2 else Constant(Integer(), 0)
        count = self.literal_integer(digits)
        kind = number.type or Integer()
        if count is None and (not isinstance(digits.type, Integer) or isinstance(kind, DecimalType)):
            raise self.fail(arguments[-1], "ROUND wants a whole number here", "such as ROUND(fare, 2)")
        if isinstance(kind, DecimalType) and count is not None:
            scale = min(kind.scale, max(0, count))
            whole = max(kind.precision - kind.scale, 0) + 1
            result: ValueType = DecimalType(min(MAX_DIGITS, max(1, whole + scale)), scale)
        else:
            result = kind
        return Call(result, "ROUND", (self.widened(number, kind), digits))

    @staticmethod
    def literal_integer(expression: Expression) -> int | None:
        if isinstance(expression, Negation):
            inner = _Checker.literal_integer(expression.operand)
            return None if inner is None else -inner
        value = expression.value if isinstance(expression, Constant) else None
        return value if type(value) is int else None

    def _extract(self, node: Syntax) -> Expression:
        token, operand_node = cast(Token, node.children[0]), self.children(node)[0]
        part, operand = str(token).upper(), self.check(operand_node)
        if part not in PARTS:
            raise self.fail(token, f"EXTRACT knows no {token}", did_you_mean(part, PARTS))
        if operand.type is not None and not isinstance(operand.type, PARTS[part]):
            hint = "cast it first: CAST(… AS timestamp)" if families.is_textual(operand.type) else None
            raise self.fail(operand_node, f"a value of type {operand.type.name} has no {part}", hint)
        result = SECONDS if part in ("SECOND", "EPOCH") else Integer()
        return Extraction(result, self.widened(operand, operand.type or Timestamp()), part)

    def _at_zone(self, node: Syntax) -> Expression:
        operand_node, token = self.children(node)[0], cast(Token, node.children[1])
        operand, name = self.check(operand_node), _string(token)
        if operand.type is not None and not isinstance(operand.type, Timestamp | Datetime):
            message = f"AT TIME ZONE wants a timestamp or a datetime, but this is {operand.type.name}"
            raise self.fail(operand_node, message)
        try:
            zone(name)
        except KeyError:
            raise self.fail(token, f"no time zone {name}", did_you_mean(name, zone_names()), "unknown-zone") from None
        kind = operand.type or Timestamp()
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
                raise self.fail(child, f"LIKE compares texts, but this is {part.type.name}", "write CAST(… AS text)")
            parts.append(self.widened(part, Text()))
        token = node.children[2] if len(node.children) > 2 else None
        escape = _string(token) if isinstance(token, Token) else None
        if escape is not None and len(escape) != 1:
            raise self.fail(cast(Token, token), "ESCAPE wants one character")
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
        if len(arguments) != (2 if name == "LISTAGG" else 1):
            raise self.wrong_count(node, name, len(arguments))
        over = arguments[0]
        if over.data not in ("field", "attribute"):
            hint = f"{name}(sailings.fare): a field with compute in the table below can hold an expression"
            raise self.fail(over, f"{name} takes a field of a table directly within this one", hint)
        token = cast(Token, over.children[0])
        table = unquoted(token)
        if table not in self.within:
            hint = did_you_mean(table, self.within) or "aggregates are over tables that are directly within this one"
            raise self.fail(token, f"{name}: no table {table} within this one", hint, "unknown-table")
        if over.data == "field":
            if name != "COUNT":
                raise self.fail(over, f"{name} wants a field of {table}", f"{name}({table}.fare)")
            return Aggregate(Integer(), name, table, None, None)
        field_token = cast(Token, over.children[1])
        field, known = unquoted(field_token), self.within[table]
        if field not in known:
            raise self.fail(field_token, f"{table} has no field {field}", did_you_mean(field, known), "unknown-field")
        separator = self.check(arguments[1]) if name == "LISTAGG" else Constant(Text(), "")
        if not (isinstance(separator, Constant) and isinstance(separator.value, str)):
            raise self.fail(
                arguments[1], "LISTAGG wants a literal text between the values", "LISTAGG(ports.name, ', ')"
            )
        result = families.aggregate_type(name, known[field])
        if result is None:
            by_name = {"LISTAGG": "texts", "SUM": "numbers or durations", "AVG": "numbers"}
            wants = by_name.get(name, "values with an order")
            raise self.fail(over, f"{name} wants {wants}, but {table}.{field} is {known[field].name}")
        return Aggregate(result, name, table, field, known[field], separator.value)

    def _cast(self, node: Syntax) -> Expression:
        operand, type_node = self.children(node)
        expression = self.check(operand)
        parts = [str(part) for part in type_node.children if part is not None]
        name = f"{parts[0]}({','.join(parts[1:])})" if len(parts) > 1 else parts[0]
        try:
            target = self.types(name)
        except KeyError:
            raise self.fail(type_node, f"no type {name}", code="unknown-type") from None
        except ValueError as error:
            raise self.fail(
                type_node, str(error), getattr(error, "hint", None), getattr(error, "code", "unknown-type")
            ) from None
        if expression.type is None:
            return Constant(target.type, None)
        if not families.castable(expression.type, target.type):
            raise self.fail(operand, f"{expression.type.name} can't be cast to {target.type.name}")
        return Conversion(target.type, expression, target)
