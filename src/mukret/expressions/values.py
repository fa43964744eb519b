"""Errors of single values, and numbers kept within their types."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, TypeAlias

from mukret.codes import Code
from mukret.types import Bad
from mukret.types.numbers import INT64_MAX, INT64_MIN, MAX_DIGITS

# A value of the type that an expression was checked to have. Which one that is only the node
# knows: operators and functions are chosen by it before they are called.
Value: TypeAlias = Any


def division_by_zero() -> Bad:
    return Bad(Code.DIVISION_BY_ZERO, "division by zero", told=True)


def overflow(most: str) -> Bad:
    return Bad(Code.OVERFLOW, f"the result is more than {most}", told=True)


def no_result(why: str) -> Bad:
    return Bad(Code.NO_RESULT, why, told=True)


def int64(number: int) -> int:
    if not INT64_MIN <= number <= INT64_MAX:
        raise overflow("64 bits")
    return number


def in_digits(number: Decimal, scale: int) -> Decimal:
    """A decimal that fits into 38 digits, no negative zero."""
    if number and number.adjusted() >= MAX_DIGITS - scale:
        raise overflow(f"{MAX_DIGITS} digits")
    return number if number else number.copy_abs()
