"""What becomes of the values of several nodes: their sum, the least, the greatest, or all of them as one text."""

from __future__ import annotations

import datetime as dt
from decimal import Context, Decimal, Inexact, InvalidOperation
from typing import Any, Literal

from mukret.types.base import Bad, Reading, ValueType
from mukret.types.calendar import Date, Datetime, Time
from mukret.types.durations import Duration, in_64_bits
from mukret.types.instants import Timestamp
from mukret.types.numbers import MAX_DIGITS, DecimalType, Float, Integer
from mukret.types.texts import Text
from mukret.values import JsonValue

Gathering = Literal["sum", "min", "max", "join"]
GATHERINGS = ("sum", "min", "max", "join")
_EXACT = Context(prec=MAX_DIGITS, traps=[Inexact, InvalidOperation])


def can_gather(how: Gathering, kind: ValueType) -> bool:
    """Whether values of a type can be added up, put in order, or joined."""
    match how:
        case "sum":
            return isinstance(kind, Integer | DecimalType | Float | Duration)
        case "join":
            return isinstance(kind, Text)
    return isinstance(kind, Integer | DecimalType | Float | Text | Date | Time | Datetime | Timestamp | Duration)


def gathered(how: Gathering, reading: Reading, nodes: list[JsonValue], separator: str) -> object:
    """Each node read as the type, nulls and blanks left out, and then all of them as one value; None of nothing.

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
    if not values:
        return None
    match how:
        case "join":
            return separator.join(values)
        case "min":
            return min(values)
        case "max":
            return max(values)
    return _sum(reading.type, values)


def _sum(kind: ValueType, values: list[Any]) -> object:
    match kind:
        case DecimalType():
            total = Decimal(0)
            try:
                for value in values:
                    total = _EXACT.add(total, value)
            except (Inexact, InvalidOperation):
                raise _overflow(kind) from None
            if total and total.adjusted() >= kind.precision - kind.scale:
                raise _overflow(kind)
            return total.quantize(Decimal(1).scaleb(-kind.scale), context=_EXACT)
        case Float():
            try:
                return _finite(kind, sum(values))
            except OverflowError:
                raise _overflow(kind) from None
        case Duration():
            whole = sum(values, dt.timedelta())
            if not in_64_bits(whole):
                raise _overflow(kind)
            return whole
    total = sum(values)
    if not -(2**63) <= total < 2**63:
        raise _overflow(kind)
    return total


def _finite(kind: ValueType, total: float) -> float:
    if abs(total) == float("inf"):
        raise _overflow(kind)
    return total


def _overflow(kind: ValueType) -> Bad:
    return Bad("overflow", f"the sum is too large for {kind.name}", told=True)
