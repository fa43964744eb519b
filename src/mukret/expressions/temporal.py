"""Dates, instants and durations in expressions: arithmetic, parts, zones."""

from __future__ import annotations

import datetime as dt
from decimal import ROUND_HALF_EVEN, Decimal

from mukret.expressions import families
from mukret.expressions.values import Value, division_by_zero, no_result, overflow
from mukret.types import (
    Date,
    Datetime,
    DecimalType,
    Duration,
    Integer,
    Time,
    Timestamp,
    ValueType,
)
from mukret.types.durations import in_64_bits
from mukret.types.instants import EPOCH, local_to_utc
from mukret.types.zones import MICROSECOND, zone

_DAY = dt.timedelta(days=1)
_MOMENTS = (Date, Datetime, Timestamp)
SECONDS = DecimalType(19, 6)

# What can be extracted, and of which types.
PARTS: dict[str, tuple[type[ValueType], ...]] = {
    **dict.fromkeys(
        ("YEAR", "QUARTER", "MONTH", "WEEK", "DOW", "DOY"), (Date, Datetime, Timestamp)
    ),
    "DAY": (Date, Datetime, Timestamp, Duration),
    **dict.fromkeys(
        ("HOUR", "MINUTE", "SECOND"), (Time, Datetime, Timestamp, Duration)
    ),
    "EPOCH": (Date, Datetime, Timestamp, Duration),
}


def temporal_type(operator: str, left: ValueType, right: ValueType) -> ValueType | None:
    """The type of an operation of which one side is a date, an instant or a duration; None if there
    is none.
    """
    # Everything that is not listed means nothing: the sum of two dates, a number less a date.
    match operator:
        case "+":
            return _moved(left, right) or _moved(right, left)
        case "-" if isinstance(left, _MOMENTS) and type(left) is type(right):
            return Duration()
        case "-":
            return _moved(left, right)
        case "*":
            return _times(left, right) or _times(right, left)
        case "/":
            return _times(left, right)
    return None


def _moved(kind: ValueType, by: ValueType) -> ValueType | None:
    """A date by whole days, or any moment or duration by a duration."""
    if isinstance(kind, Date) and isinstance(by, Integer):
        return kind
    moves = isinstance(kind, (*_MOMENTS, Duration)) and isinstance(by, Duration)
    return kind if moves else None


def _times(kind: ValueType, number: ValueType) -> ValueType | None:
    scales = isinstance(kind, Duration) and families.is_numeric(number)
    return kind if scales else None


def temporal(operator: str, kind: ValueType | None, left: Value, right: Value) -> Value:
    """One operation on two values that are not null. Raises Bad."""
    if operator in ("*", "/"):
        return _scaled(operator, left, right)
    if not isinstance(left, dt.date | dt.timedelta):
        left, right = right, left  # an integer before a date
    elif isinstance(left, dt.timedelta) and not isinstance(right, dt.timedelta):
        left, right = right, left  # a duration before a moment
    if isinstance(right, int):
        right = _days(right)
    elif isinstance(kind, Date) and right % _DAY:
        raise no_result("a date moves by whole days alone")
    try:
        result = left + right if operator == "+" else left - right
    except OverflowError:
        raise overflow("the year 9999, or before the year 1") from None
    if isinstance(result, dt.timedelta):
        return _in_range(result)
    return result


def _days(number: int) -> dt.timedelta:
    if abs(number) > 4_000_000:
        raise overflow("the year 9999, or before the year 1")
    return dt.timedelta(days=number)


def _in_range(value: dt.timedelta) -> dt.timedelta:
    if not in_64_bits(value):
        raise overflow("64 bits of microseconds")
    return value


def _scaled(operator: str, left: Value, right: Value) -> dt.timedelta:
    """Rounded to the microsecond, half-even."""
    duration, number = (
        (left, right) if isinstance(left, dt.timedelta) else (right, left)
    )
    if operator == "/" and not number:
        raise division_by_zero()
    # Exactly, by whole microseconds: floats would round twice.
    micros = Decimal(duration // MICROSECOND)
    exact = Decimal(repr(number)) if isinstance(number, float) else Decimal(number)
    try:
        result = micros * exact if operator == "*" else micros / exact
        return _in_range(
            dt.timedelta(microseconds=int(result.to_integral_value(ROUND_HALF_EVEN)))
        )
    except (OverflowError, ArithmeticError):
        raise overflow("64 bits of microseconds") from None


def extracted(part: str, value: Value) -> int | Decimal:
    """A part of a value: an integer, SECOND and EPOCH with six digits.

    ISO weeks; DOW 0 is Sunday; instants in UTC.
    """
    if part == "EPOCH":
        return _seconds(_since_epoch(value) // MICROSECOND)
    if isinstance(value, dt.timedelta):
        return _of_duration(part, value)
    match part:
        case "SECOND":
            return _seconds(value.second * 1_000_000 + value.microsecond)
        case "QUARTER":
            return int(value.month + 2) // 3
        case "WEEK":
            return int(value.isocalendar()[1])
        case "DOW":
            return int(value.isoweekday() % 7)
        case "DOY":
            return int(value.timetuple().tm_yday)
    # The other parts are members of Python's own names.
    return int(getattr(value, part.lower()))


def _since_epoch(value: Value) -> dt.timedelta:
    if isinstance(value, dt.timedelta):
        return value
    if not isinstance(value, dt.datetime):
        value = dt.datetime.combine(value, dt.time())
    since: dt.timedelta = value.replace(tzinfo=dt.UTC) - EPOCH
    return since


def _seconds(micros: int) -> Decimal:
    return Decimal(micros).scaleb(-6)


def _of_duration(part: str, value: dt.timedelta) -> int | Decimal:
    """Days, and what is left of hours, minutes and seconds; of a duration below zero all are below
    zero.
    """
    # PostgreSQL gives parts of a negative interval below zero each; Python keeps the sign in the
    # days.
    sign = -1 if value < dt.timedelta() else 1
    micros = abs(value) // MICROSECOND
    match part:
        case "DAY":
            return sign * (micros // 86_400_000_000)
        case "HOUR":
            return sign * (micros // 3_600_000_000 % 24)
        case "MINUTE":
            return sign * (micros // 60_000_000 % 60)
    return _seconds(sign * (micros % 60_000_000)) + 0


def at_zone(value: dt.datetime, name: str) -> dt.datetime:
    """The local time of an instant in a zone; the instant of a local time, which must be there
    once. Raises Bad.
    """
    try:
        # SQL has one operator for both ways, and the type says which is meant.
        if value.tzinfo is not None:
            return value.astimezone(zone(name)).replace(tzinfo=None, fold=0)
    except OverflowError:
        raise overflow("the year 9999, or before the year 1") from None
    micros = local_to_utc(
        (value - EPOCH.replace(tzinfo=None)) // MICROSECOND, name, None
    )
    try:
        return EPOCH + dt.timedelta(microseconds=micros)
    except OverflowError:
        raise overflow("the year 9999, or before the year 1") from None
