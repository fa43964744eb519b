"""How JSON values compare in a filter (RFC 9535, section 2.3.5.2.2): by kind, numbers exactly,
nothing with nothing.
"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal, InvalidOperation

from mukret.values import JsonValue, Number


class Nothing:
    """The absence of a value: what a path that finds no node, or a function without a result,
    gives.
    """

    def __repr__(self) -> str:
        return "NOTHING"


NOTHING = Nothing()


def equal(left: JsonValue, right: JsonValue) -> bool:
    """Whether two values are the same JSON value, or both are nothing.

    Without recursion: responses may be deep.
    """
    todo = [(left, right)]
    while todo:
        this, that = todo.pop()
        kind = type(this)
        # 1 and 1.0 are one number (RFC 9535, section 2.3.5.2.2), though of two types here.
        if kind in _NUMERIC:
            if type(that) not in _NUMERIC or not _equal_numbers(this, that):
                return False
        elif kind is not type(that):
            return False
        elif kind is dict:
            if this.keys() != that.keys():
                return False
            todo += ((this[name], that[name]) for name in this)
        elif kind is list:
            if len(this) != len(that):
                return False
            todo += zip(this, that, strict=True)
        elif this != that:
            return False
    return True


def less(left: JsonValue, right: JsonValue) -> bool:
    """Whether `left` comes before `right`: two numbers, or two strings by code points; nothing else
    has an order.
    """
    kind = type(left)
    if kind is str:
        return type(right) is str and left < right
    if kind not in _NUMERIC or type(right) not in _NUMERIC:
        return False
    this, that = _comparable(left, right)
    return bool(this < that)


_NUMERIC = (int, Number, float)


def _equal_numbers(left: JsonValue, right: JsonValue) -> bool:
    if type(left) is int and type(right) is int:
        return left == right
    this, that = _comparable(left, right)
    return bool(this == that)


def _comparable(left: JsonValue, right: JsonValue) -> tuple[JsonValue, JsonValue]:
    """Two numbers, exactly as they were written.

    Where one is a double already (in documents that another reader made), both are doubles: else
    its 8.95 would not be the 8.95 of a query.
    """
    if type(left) is float or type(right) is float:
        return _as_double(left), _as_double(right)
    return _exact(left), _exact(right)


def _as_double(value: JsonValue) -> int | float:
    return float(value) if type(value) is Number else value


def _exact(value: JsonValue) -> int | float | Decimal:
    try:
        return Decimal(value) if type(value) is Number else value
    except InvalidOperation:  # an exponent beyond what a Decimal holds
        return float(value)


def descendants(value: JsonValue) -> Iterator[JsonValue]:
    """A value and all below it, each before what is below it,
    members and elements as they stand.
    """
    todo = [value]
    while todo:
        node = todo.pop()
        yield node
        if type(node) is list:
            todo += reversed(node)
        elif type(node) is dict:
            todo += reversed(node.values())
