"""Which types go together: the result types of arithmetic, of branches, and what can be cast to
what.
"""

from __future__ import annotations

from collections.abc import Callable

from mukret.types import (
    DecimalType,
    Enum,
    Float,
    Integer,
    ListOf,
    Text,
    ValueType,
)
from mukret.types.numbers import MAX_DIGITS

INTEGER_AS_DECIMAL = DecimalType(19, 0)
DIVISION_DIGITS = 6

# A type can be cast to itself and to text; these to more.
_CASTS_BESIDE: dict[str, frozenset[str]] = {
    "integer": frozenset({"decimal", "float"}),
    "decimal": frozenset({"integer", "float"}),
    "float": frozenset({"integer", "decimal"}),
    "date": frozenset({"datetime"}),
    "datetime": frozenset({"date"}),
    "timestamp": frozenset({"date"}),
}
# What no text is read as by a cast: `type:` on a field reads them.
_NEVER_FROM_TEXT = frozenset({"list", "json"})


def family(kind: ValueType) -> str:
    """The family of a type: decimals of all sizes are one, and so are enums."""
    match kind:
        case DecimalType():
            return "decimal"
        case Enum():
            return "enum"
        case ListOf():
            return "list"
    return kind.name


def is_numeric(kind: ValueType) -> bool:
    return kind.is_number


def is_textual(kind: ValueType) -> bool:
    return isinstance(kind, Text | Enum)


def is_timely(kind: ValueType | None) -> bool:
    """Whether it is a date, a time, an instant or a duration."""
    return kind is not None and family(kind) in (
        "date",
        "time",
        "datetime",
        "timestamp",
        "duration",
    )


def castable(source: ValueType, target: ValueType) -> bool:
    wanted, given = family(target), family(source)
    if is_textual(source):
        return wanted not in _NEVER_FROM_TEXT
    # A list has no text of its own.
    if wanted == "text":
        return given != "list"
    return wanted == given or wanted in _CASTS_BESIDE.get(given, ())


def as_decimal(kind: ValueType) -> DecimalType:
    return kind if isinstance(kind, DecimalType) else INTEGER_AS_DECIMAL


def arithmetic_type(
    operator: str, left: ValueType, right: ValueType
) -> ValueType | None:
    """The result type of two numeric types; None if no decimal of 38 digits could hold the fraction
    digits.
    """
    if isinstance(left, Float) or isinstance(right, Float):
        return Float()
    if operator != "/" and isinstance(left, Integer) and isinstance(right, Integer):
        return Integer()
    a, b = as_decimal(left), as_decimal(right)
    if operator == "/":
        return DecimalType(MAX_DIGITS, max(DIVISION_DIGITS, a.scale))
    if operator == "*":
        precision, scale = a.precision + b.precision, a.scale + b.scale
    else:
        # As SQL standards suggest: as many digits as the result can need, up to 38.
        scale = max(a.scale, b.scale)
        precision = max(a.precision - a.scale, b.precision - b.scale) + scale + 1
    return (
        DecimalType(min(MAX_DIGITS, precision), scale) if scale <= MAX_DIGITS else None
    )


def common_type(left: ValueType | None, right: ValueType | None) -> ValueType | None:
    """The type that holds the values of both, for branches. Raises TypeError if there is none."""
    if left is None or right is None or left == right:
        return right if left is None else left
    if is_textual(left) and is_textual(right):
        return Text()
    if not (is_numeric(left) and is_numeric(right)):
        raise TypeError
    if isinstance(left, Float) or isinstance(right, Float):
        return Float()
    # An integer among decimals becomes one that holds all of its digits.
    a, b = as_decimal(left), as_decimal(right)
    scale = max(a.scale, b.scale)
    return DecimalType(
        min(MAX_DIGITS, max(a.precision - a.scale, b.precision - b.scale) + scale),
        scale,
    )


def aggregate_type(function: str, kind: ValueType) -> ValueType | None:
    """The type of an aggregate over values of a type; None if there is none."""
    word = family(kind)
    match function:
        case "COUNT":
            return Integer()
        case "LISTAGG":
            return Text() if is_textual(kind) else None
        case "MIN" | "MAX":
            return kind if word not in ("list", "json", "enum", "boolean") else None
        case "SUM" if word in ("integer", "float", "duration"):
            return kind
        # A sum keeps the digits after the point and may need all 38 before it.
        case "SUM" | "AVG" if isinstance(kind, DecimalType):
            return DecimalType(
                MAX_DIGITS,
                kind.scale if function == "SUM" else max(DIVISION_DIGITS, kind.scale),
            )
        case "AVG" if word in ("integer", "float"):
            return kind if word == "float" else DecimalType(MAX_DIGITS, DIVISION_DIGITS)
    return None


def comparable(left: ValueType, right: ValueType) -> bool:
    if (is_numeric(left) and is_numeric(right)) or (
        is_textual(left) and is_textual(right)
    ):
        return True
    return family(left) == family(right) and family(left) not in ("list", "json")


def equal_form(left: ValueType, right: ValueType) -> Callable[[object], object] | None:
    """What brings values of two comparable types to forms that are equal (and hash alike) if the
    values are; None if they are as they stand. A float and a decimal compare as floats.
    """
    return _as_float if Float() in (left, right) and left != right else None


def _as_float(value: object) -> float:
    return float(value)  # type: ignore[arg-type]
