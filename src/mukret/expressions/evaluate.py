"""The plain meaning of a typed expression: one row in, one value out.

`mukret.columns` does whole columns.
"""

from __future__ import annotations

import datetime as dt
import math
import operator
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal

from mukret.expressions import families
from mukret.expressions.functions import FUNCTIONS
from mukret.expressions.likeness import is_like
from mukret.expressions.temporal import at_zone, extracted, temporal
from mukret.expressions.tree import (
    NOW,
    Aggregate,
    Arithmetic,
    AtZone,
    Binary,
    Case,
    Coalesce,
    Comparison,
    Concatenation,
    Constant,
    Conversion,
    EnumAttribute,
    Expression,
    Extraction,
    FieldValue,
    FunctionCall,
    Inversion,
    Like,
    Logical,
    Negation,
    Now,
    NullTest,
    Temporal,
)
from mukret.expressions.values import (
    Value,
    division_by_zero,
    in_digits,
    int64,
    overflow,
)
from mukret.types import (
    Bad,
    Date,
    Datetime,
    DecimalType,
    Enum,
    Float,
    Integer,
    Json,
    ReadingOptions,
    Text,
    TypeSpec,
    ValueType,
)
from mukret.types.base import WHITE_SPACE
from mukret.types.json import json_as_text
from mukret.types.numbers import EXACT, float_text
from mukret.values import Number

COMPARISONS: dict[str, Callable[[Value, Value], bool]] = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def evaluate(node: Expression, row: Mapping[str, object]) -> Value:  # noqa: C901  # a case for each kind of node
    """The value of an expression for one row of typed values.

    Raises Bad (division by zero, overflow, a cast).
    """
    match node:
        case Constant():
            return node.value
        case FieldValue():
            return row[node.name]
        case EnumAttribute():
            word = row[node.name]
            return node.enum.attribute(
                None if word is None else str(word), node.attribute
            )
        case Arithmetic():
            return _if_both(node, row, lambda a, b: arithmetic(node, a, b))
        case Temporal():
            return _if_both(
                node, row, lambda a, b: temporal(node.operator, node.type, a, b)
            )
        case Concatenation():
            return _if_both(node, row, operator.add)
        case Comparison():
            return _compare(node, row)
        case Logical():
            return _logic(
                node.operator, evaluate(node.left, row), evaluate(node.right, row)
            )
        case Negation():
            value = evaluate(node.operand, row)
            return None if value is None else negated(node.type, value)
        case Inversion():
            value = evaluate(node.operand, row)
            return None if value is None else not value
        case NullTest():
            return evaluate(node.operand, row) is None
        case Conversion():
            return convert(node, evaluate(node.operand, row))
        case FunctionCall():
            return call(node, [evaluate(argument, row) for argument in node.arguments])
        case Like():
            return _if_both(
                node, row, lambda text, pattern: is_like(text, pattern, node.escape)
            )
        case Extraction():
            value = evaluate(node.operand, row)
            return None if value is None else extracted(node.part, value)
        case AtZone():
            value = evaluate(node.operand, row)
            return None if value is None else at_zone(value, node.zone)
        case Now():
            return row[NOW]
        case Aggregate():
            value = row[node.key]
            if isinstance(value, Bad):
                raise value
            return value
        case Case():
            taken = next(
                (
                    result
                    for condition, result in node.branches
                    if evaluate(condition, row)
                ),
                node.otherwise,
            )
            return evaluate(taken, row)
        case Coalesce():
            return next(
                (
                    value
                    for item in node.items
                    if (value := evaluate(item, row)) is not None
                ),
                None,
            )
    raise AssertionError(node)


def call(node: FunctionCall, arguments: Sequence[Value]) -> Value:
    """A function applied to values, null if one of them is null, unless it skips those.

    Raises Bad.
    """
    function = FUNCTIONS[node.function]
    if not function.skips_nulls and None in arguments:
        return None
    return function.value(node.type, *arguments)


def _if_both(
    node: Binary, row: Mapping[str, object], function: Callable[[Value, Value], Value]
) -> Value:
    left, right = evaluate(node.left, row), evaluate(node.right, row)
    return None if left is None or right is None else function(left, right)


def _compare(node: Comparison, row: Mapping[str, object]) -> bool | None:
    left, right = evaluate(node.left, row), evaluate(node.right, row)
    if left is None or right is None:
        if not node.distinct:
            return None
        return (left is right) == (node.operator == "=")
    return COMPARISONS[node.operator](left, right)


def _logic(word: str, left: bool | None, right: bool | None) -> bool | None:
    decisive = word == "OR"
    if left is decisive or right is decisive:
        return decisive
    return None if left is None or right is None else not decisive


def arithmetic(node: Arithmetic, left: Value, right: Value) -> Value:
    """One operation on two values that are not null. Raises Bad."""
    # SQL makes an error of it for every type, where IEEE 754 has an infinity.
    if node.operator == "/" and not right:
        raise division_by_zero()
    match node.type:
        case Integer():
            return int64(INTEGERS[node.operator](left, right))
        case DecimalType():
            return _decimal(node.operator, node.type.scale, left, right)
        case _:
            return _double(node.operator, left, right)


INTEGERS: dict[str, Callable[[Value, Value], Value]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
}


def _decimal(
    sign: str, scale: int, left: Decimal | int, right: Decimal | int
) -> Decimal:
    a, b = Decimal(left), Decimal(right)
    if sign == "/":
        result = _divided(a, b, scale)
    else:
        exact = {"+": EXACT.add, "-": EXACT.subtract, "*": EXACT.multiply}[sign](a, b)
        result = exact.quantize(Decimal((0, (1,), -scale)), context=EXACT)
    return in_digits(result, scale)


def _divided(a: Decimal, b: Decimal, scale: int) -> Decimal:
    """The quotient with `scale` fraction digits, rounded half-even from the exact ratio, in whole
    numbers.
    """
    a_digits, a_base = a.as_integer_ratio()
    b_digits, b_base = b.as_integer_ratio()
    above, below = a_digits * b_base * 10**scale, a_base * b_digits
    # Python's division of whole numbers rounds towards minus infinity: the sign goes above.
    if below < 0:
        above, below = -above, -below
    whole, rest = divmod(above, below)
    # Half to even, decided on the exact rest and not on digits.
    if 2 * rest > below or (2 * rest == below and whole % 2):
        whole += 1
    return Decimal(whole).scaleb(-scale, EXACT)


def _double(sign: str, left: float, right: float) -> float:
    result = {
        "+": operator.add,
        "-": operator.sub,
        "*": operator.mul,
        "/": operator.truediv,
    }[sign](left, right)
    # A column with infinities can't be written to JSON, and no database agrees on them.
    if math.isinf(result) or math.isnan(result):
        raise overflow("a double can hold")
    return float(result)


def negated(kind: ValueType | None, value: Value) -> Value:
    if isinstance(kind, Integer):
        return int64(-value)
    return (
        EXACT.minus(value)
        if isinstance(kind, DecimalType) and value
        else (value if isinstance(kind, DecimalType) else -value)
    )


def convert(node: Conversion, value: Value) -> Value:
    """A cast, or a field's `type`: exact unless the target rounds. Raises Bad."""
    if value is None:
        return None
    source, target = node.operand.type, node.target.type
    assert source is not None
    if families.is_textual(source):
        return read_text(node, value)
    # The checker let through only what can be cast; here it is only done.
    match target:
        case Text():
            return (
                json_as_text(value)
                if isinstance(source, Json)
                else source.written(value)
            )
        case Float() if not isinstance(value, float):
            return float(value)
        case Integer() | DecimalType():
            return as_number(node.target, value)
        case Date() if isinstance(value, dt.datetime):
            return value.date()
        case Datetime() if not isinstance(value, dt.datetime):
            return dt.datetime.combine(value, dt.time())
    return value


def read_text(node: Conversion, text: str) -> Value:
    """A text read as the target type: with all reading options for a field's `type`, strictly for
    CAST.
    """
    target = node.target
    if node.lenient:
        return target.read(text)
    if isinstance(target.type, Text | Enum):
        return target.type.convert(text, target.options)
    return target.type.convert(text.strip(WHITE_SPACE), target.options)


def as_number(target: TypeSpec, value: Value) -> Value:
    """An integer, decimal or float as an integer or decimal; a float stands for its shortest
    decimal text.
    """
    text = (
        Number(float_text(value))
        if isinstance(value, float)
        else Number(format(Decimal(value), "f"))
    )
    return target.type.convert(text, ReadingOptions(round=target.options.round))
