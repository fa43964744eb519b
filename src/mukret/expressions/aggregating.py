"""Aggregates over the values of several rows, in the order of the rows."""

from __future__ import annotations

import math
from collections.abc import Sequence
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction

from mukret.expressions.tree import Aggregate
from mukret.expressions.values import Value, in_digits, overflow
from mukret.types import DecimalType, Float
from mukret.types.numbers import EXACT
from mukret.types.taken import total


def aggregated(node: Aggregate, values: Sequence[Value]) -> Value:
    """The value of an aggregate over the values of its field, nulls among them; COUNT without a
    field counts all.

    COUNT of no rows is 0, every other aggregate of none is null. Raises Bad (overflow).
    """
    if node.field is None:
        return len(values)
    known = [value for value in values if value is not None]
    if node.function == "COUNT":
        return len(known)
    if not known:
        return None
    # Of nothing the result is null, as SQL has it, and not 0.
    match node.function:
        case "MIN":
            return min(known)
        case "MAX":
            return max(known)
        case "LISTAGG":
            return node.separator.join(known)
        case "SUM":
            assert node.type is not None
            return total(node.type, known)
    return _average(node, known)


def _average(node: Aggregate, values: Sequence[Value]) -> Value:
    if isinstance(node.type, Float):
        return _finite(sum(values) / len(values))
    assert isinstance(node.type, DecimalType)
    scale = node.type.scale
    exact = sum(map(Fraction, values), Fraction(0)) / len(values)
    number = Decimal(round(exact * 10**scale)).scaleb(
        -scale, EXACT
    )  # Python rounds a fraction half-even
    return in_digits(
        number.quantize(Decimal((0, (1,), -scale)), ROUND_HALF_EVEN, EXACT), scale
    )


def _finite(number: float) -> float:
    if math.isinf(number) or math.isnan(number):
        raise overflow("a double can hold")
    return number
