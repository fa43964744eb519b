"""What becomes of the values of several nodes: their sum, the least, the greatest, or all of them
as one text.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from typing import Any, Literal

from mukret.codes import Code
from mukret.types.base import Bad, TypeSpec, ValueType
from mukret.types.calendar import Date, Datetime, Time
from mukret.types.durations import Duration, in_64_bits
from mukret.types.instants import Timestamp
from mukret.types.numbers import (
    EXACT,
    INT64_MAX,
    INT64_MIN,
    DecimalType,
    Float,
    Integer,
    rounded,
)
from mukret.types.texts import Text
from mukret.values import JsonValue

Gathering = Literal["sum", "min", "max", "join"]
GATHERINGS = ("sum", "min", "max", "join")


def can_gather(how: Gathering, kind: ValueType) -> bool:
    """Whether values of a type can be added up, put in order, or joined."""
    match how:
        case "sum":
            # min and max want an order that means something: enums have none.
            return isinstance(kind, Integer | DecimalType | Float | Duration)
        case "join":
            return isinstance(kind, Text)
    return isinstance(
        kind,
        Integer
        | DecimalType
        | Float
        | Text
        | Date
        | Time
        | Datetime
        | Timestamp
        | Duration,
    )


def gathered(
    how: Gathering, reading: TypeSpec, nodes: list[JsonValue], separator: str
) -> object:
    """Each node read as the type, nulls and blanks left out, and then all of them as one value;
    None of nothing.

    Raises Bad, with the node's index where one of them can't be read.
    """
    values: list[Any] = []
    for index, node in enumerate(nodes):
        try:
            value = reading.read(node)
        except Bad as bad:
            raise bad.at_element(index, node) from None
        if value is not None:
            values.append(value)
    # As SQL's aggregates: nothing gathered is null.
    if not values:
        return None
    match how:
        case "join":
            return separator.join(values)
        case "min":
            return min(values)
        case "max":
            return max(values)
    return total(reading.type, values)


def total(kind: ValueType, values: Sequence[Any]) -> Any:
    """The sum of values of a type, at least one, as the same type: exact, but for floats.

    Raises Bad (overflow) where the type can't hold it; what stands between does not count.
    """
    match kind:
        case DecimalType():
            exact = EXACT.create_decimal(0)
            for value in values:
                exact = EXACT.add(exact, value)
            if exact and exact.adjusted() >= kind.precision - kind.scale:
                raise _overflow(kind)
            return rounded(exact, kind.scale, None)
        case Float():
            number = sum(
                values[1:], values[0]
            )  # from the first on: 0.0 + -0.0 would lose the sign
            if not math.isfinite(number):
                raise _overflow(kind)
            return number
        case Duration():
            whole = sum(values, dt.timedelta())
            if not in_64_bits(whole):
                raise _overflow(kind)
            return whole
    number = sum(values)
    if not INT64_MIN <= number <= INT64_MAX:
        raise _overflow(kind)
    return number


def _overflow(kind: ValueType) -> Bad:
    return Bad(Code.OVERFLOW, f"the sum is too large for {kind.name}", told=True)
