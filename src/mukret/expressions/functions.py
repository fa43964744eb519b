"""The scalar functions: what they take, what they give, and their values.

All but CONCAT and CONCAT_WS give null if an argument is null. Text is counted in code points.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_UP, Decimal

from mukret.expressions import families
from mukret.expressions.values import (
    Value,
    division_by_zero,
    in_digits,
    int64,
    no_result,
    overflow,
)
from mukret.types import DecimalType, Float, Integer, Text, ValueType
from mukret.types.numbers import EXACT

Types = Sequence[ValueType]


class WrongArgument(Exception):
    """An argument of a type that a function does not take; `index` counts from 0."""

    def __init__(self, index: int, wanted: str) -> None:
        super().__init__(wanted)
        self.index = index
        self.wanted = wanted


@dataclass(frozen=True)
class Function:
    """`signature` gives the types to which the arguments are brought, and that of the result; it
    raises WrongArgument. `value` is called with the result's type and the arguments, none of them
    null unless `skips_nulls`.
    """

    least: int
    most: int | None
    signature: Callable[[Types], tuple[Types, ValueType]]
    value: Callable[..., Value]
    skips_nulls: bool = False

    def takes(self, count: int) -> bool:
        """Whether so many arguments can be given."""
        return self.least <= count and (self.most is None or count <= self.most)


def _numeric(types: Types, index: int) -> ValueType:
    if not families.is_numeric(types[index]):
        raise WrongArgument(index, "a number")
    return types[index]


def _texts(*wanted: str) -> Callable[[Types], list[ValueType]]:
    """Checks arguments: `text` or `integer` each."""

    def checked(types: Types) -> list[ValueType]:
        kinds: list[ValueType] = []
        for index, kind in enumerate(types):
            # The last one stands for all further arguments.
            want = wanted[min(index, len(wanted) - 1)]
            if want == "text" and not families.is_textual(kind):
                raise WrongArgument(index, "a text")
            if want == "integer" and not isinstance(kind, Integer):
                raise WrongArgument(index, "an integer")
            kinds.append(Text() if want == "text" else Integer())
        return kinds

    return checked


def _text_function(
    *wanted: str, gives: ValueType | None = None
) -> Callable[[Types], tuple[Types, ValueType]]:
    return lambda types: (_texts(*wanted)(types), gives or Text())


def _same_number(types: Types) -> tuple[Types, ValueType]:
    return types, _numeric(types, 0)


def _whole(types: Types) -> tuple[Types, ValueType]:
    kind = _numeric(types, 0)
    return types, DecimalType(kind.precision, 0) if isinstance(
        kind, DecimalType
    ) else kind


def _to_float(types: Types) -> tuple[Types, ValueType]:
    for index in range(len(types)):
        _numeric(types, index)
    return [Float()] * len(types), Float()


def _common(types: Types) -> tuple[Types, ValueType]:
    """All of one family with an order."""
    kind: ValueType | None = None
    for index, item in enumerate(types):
        try:
            kind = families.common_type(kind, item)
        except TypeError:
            raise WrongArgument(
                index, f"{kind.name if kind else 'a value'} like the one before"
            ) from None
        # Words of an enum are listed, which is no order that a query could rely on.
        if families.family(item) in ("list", "json", "enum"):
            raise WrongArgument(index, "a value with an order")
    assert kind is not None
    return [kind] * len(types), kind


def _modulo(types: Types) -> tuple[Types, ValueType]:
    for index in range(2):
        _numeric(types, index)
    kind = families.common_type(types[0], types[1])
    assert kind is not None
    return [kind, kind], kind


# ---- values


def _absolute(kind: ValueType, number: Value) -> Value:
    return int64(abs(number)) if isinstance(kind, Integer) else abs(number)


def _to_scale(kind: ValueType, number: Value, rounding: str) -> Value:
    if isinstance(kind, DecimalType):
        return in_digits(
            number.quantize(
                Decimal((0, (1,), -kind.scale)), rounding=rounding, context=EXACT
            ),
            kind.scale,
        )
    return number


def _floor(kind: ValueType, number: Value) -> Value:
    return (
        float(math.floor(number))
        if isinstance(kind, Float)
        else _to_scale(kind, number, ROUND_FLOOR)
    )


def _ceiling(kind: ValueType, number: Value) -> Value:
    return (
        float(math.ceil(number))
        if isinstance(kind, Float)
        else _to_scale(kind, number, ROUND_CEILING)
    )


def round_half_away(kind: ValueType, number: Value, digits: int) -> Value:
    """ROUND: to so many digits after the point, halves away from zero; a float by its shortest
    decimal text.
    """
    if isinstance(kind, Integer) and digits >= 0:
        return number
    # 2.675 is rounded as it is written, though the binary number is a little less.
    exact = Decimal(repr(number)) if isinstance(kind, Float) else Decimal(number)
    digits = max(-400, min(400, digits))
    result = (
        exact.quantize(
            Decimal((0, (1,), -digits)), rounding=ROUND_HALF_UP, context=EXACT
        )
        + 0
    )
    if isinstance(kind, Float):
        return finite(float(result))
    if isinstance(kind, Integer):
        return int64(int(result))
    assert isinstance(kind, DecimalType)
    return in_digits(
        result.quantize(Decimal((0, (1,), -kind.scale)), context=EXACT), kind.scale
    )


def finite(number: float) -> float:
    if math.isinf(number) or math.isnan(number):
        raise overflow("a double can hold")
    return number


def _remainder(kind: ValueType, number: Value, divisor: Value) -> Value:
    """With the sign of the dividend."""
    if not divisor:
        raise division_by_zero()
    if isinstance(kind, Float):
        return math.fmod(number, divisor)
    if isinstance(kind, Integer):
        return int(math.copysign(1, number)) * (abs(number) % abs(divisor))
    assert isinstance(kind, DecimalType)
    unit = Decimal((0, (1,), -kind.scale))
    # Adding 0 makes 0 of -0, which no decimal column has.
    return EXACT.remainder(number, divisor).quantize(unit, context=EXACT) + 0


def _power(_: ValueType, base: float, exponent: float) -> float:
    if base == 0 and exponent < 0:
        raise division_by_zero()
    if base < 0 and not exponent.is_integer():
        raise no_result("a negative number has no such power")
    try:
        return finite(math.pow(base, exponent))
    except OverflowError:
        raise overflow("a double can hold") from None


def _square_root(_: ValueType, number: float) -> float:
    if number < 0:
        raise no_result("a negative number has no square root")
    return math.sqrt(number)


def _logarithm(_: ValueType, number: float) -> float:
    if number <= 0:
        raise no_result("only numbers above zero have a logarithm")
    return math.log(number)


def _exponential(_: ValueType, number: float) -> float:
    try:
        return math.exp(number)
    except OverflowError:
        raise overflow("a double can hold") from None


def substring(text: str, start: int, length: int | None) -> str:
    """SQL's: counted from 1, characters before the first one are there and empty."""
    if length is not None and length < 0:
        raise no_result("a length below zero")
    end = len(text) + 1 if length is None else start + length
    return text[max(start, 1) - 1 : max(end, 1) - 1]


def _left(_: ValueType, text: str, count: int) -> str:
    return text[:count] if count >= 0 else text[: max(0, len(text) + count)]


def _right(_: ValueType, text: str, count: int) -> str:
    if count >= 0:
        return text[max(0, len(text) - count) :]
    return text[min(len(text), -count) :]


# A text that a function makes longer is no longer than this.
LONGEST_TEXT = 10_000_000


def _padding(text: str, length: int, fill: str) -> str:
    if length > LONGEST_TEXT:
        raise overflow(f"a text of {LONGEST_TEXT:,} characters")
    missing = length - len(text)
    return (fill * (missing // len(fill) + 1))[:missing] if fill and missing > 0 else ""


def _left_pad(_: ValueType, text: str, length: int, fill: str = " ") -> str:
    return (
        (_padding(text, length, fill) + text)[: max(0, length)]
        if length >= len(text)
        else text[: max(0, length)]
    )


def _right_pad(_: ValueType, text: str, length: int, fill: str = " ") -> str:
    return (text + _padding(text, length, fill))[: max(0, length)]


def _replaced(_: ValueType, text: str, old: str, new: str) -> str:
    if not old:
        return text
    if text.count(old) * (len(new) - len(old)) + len(text) > LONGEST_TEXT:
        raise overflow(f"a text of {LONGEST_TEXT:,} characters")
    return text.replace(old, new)


def _joined_with(_: ValueType, separator: str | None, *texts: str | None) -> str | None:
    return (
        None
        if separator is None
        else separator.join(text for text in texts if text is not None)
    )


def _trimmed(side: str) -> Callable[..., str]:
    def trim(_: ValueType, text: str, characters: str = " ") -> str:
        if side != "TRAILING":
            text = text.lstrip(characters) if characters else text
        return text.rstrip(characters) if side != "LEADING" and characters else text

    return trim


_TEXT = _text_function("text")
# By name; ROUND's own rules for the type of its result stand where calls are typed.
FUNCTIONS: dict[str, Function] = {
    "ABS": Function(1, 1, _same_number, _absolute),
    "MOD": Function(2, 2, _modulo, _remainder),
    "FLOOR": Function(1, 1, _whole, _floor),
    "CEILING": Function(1, 1, _whole, _ceiling),
    "POWER": Function(2, 2, _to_float, _power),
    "SQRT": Function(1, 1, _to_float, _square_root),
    "LN": Function(1, 1, _to_float, _logarithm),
    "EXP": Function(1, 1, _to_float, _exponential),
    "GREATEST": Function(1, None, _common, lambda _, *values: max(values)),
    "LEAST": Function(1, None, _common, lambda _, *values: min(values)),
    "UPPER": Function(1, 1, _TEXT, lambda _, text: text.upper()),
    "LOWER": Function(1, 1, _TEXT, lambda _, text: text.lower()),
    "CHAR_LENGTH": Function(
        1, 1, _text_function("text", gives=Integer()), lambda _, text: len(text)
    ),
    "SUBSTRING": Function(
        2,
        3,
        _text_function("text", "integer"),
        lambda _, text, start, length=None: substring(text, start, length),
    ),
    "POSITION": Function(
        2,
        2,
        _text_function("text", gives=Integer()),
        lambda _, part, text: text.find(part) + 1,
    ),
    "REPLACE": Function(3, 3, _TEXT, _replaced),
    "LEFT": Function(2, 2, _text_function("text", "integer"), _left),
    "RIGHT": Function(2, 2, _text_function("text", "integer"), _right),
    "LPAD": Function(2, 3, _text_function("text", "integer", "text"), _left_pad),
    "RPAD": Function(2, 3, _text_function("text", "integer", "text"), _right_pad),
    "CONCAT": Function(
        1,
        None,
        _TEXT,
        lambda _, *texts: "".join(text for text in texts if text is not None),
        True,
    ),
    "CONCAT_WS": Function(2, None, _TEXT, _joined_with, True),
    "TRIM BOTH": Function(1, 2, _TEXT, _trimmed("BOTH")),
    "TRIM LEADING": Function(1, 2, _TEXT, _trimmed("LEADING")),
    "TRIM TRAILING": Function(1, 2, _TEXT, _trimmed("TRAILING")),
    "ROUND": Function(
        1,
        2,
        _same_number,
        lambda kind, number, digits=0: round_half_away(kind, number, digits),
    ),
}

ALIASES = {"CEIL": "CEILING", "CHARACTER_LENGTH": "CHAR_LENGTH"}
