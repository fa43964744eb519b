"""From the name of a built-in type to the type: `text`, `decimal(12,2)`, `list(text)`."""

from __future__ import annotations

import re

from mukret.codes import Code
from mukret.types.base import ValueType
from mukret.types.booleans import Boolean
from mukret.types.calendar import Date, Datetime, Time
from mukret.types.durations import Duration
from mukret.types.instants import Timestamp
from mukret.types.json import Json
from mukret.types.lists import ListOf
from mukret.types.numbers import MAX_DIGITS, DecimalType, Float, Integer
from mukret.types.texts import Text

SIMPLE: dict[str, ValueType] = {
    "text": Text(),
    "integer": Integer(),
    "float": Float(),
    "boolean": Boolean(),
    "date": Date(),
    "time": Time(),
    "datetime": Datetime(),
    "timestamp": Timestamp(),
    "duration": Duration(),
    "json": Json(),
}
# As people are told them.
TYPE_NAMES = (*SIMPLE, "decimal(p,s)", "list(T)")
_DECIMAL = re.compile(r"decimal(?:\s*\(\s*([0-9]{1,4})\s*,\s*([0-9]{1,4})\s*\))?")
_LIST = re.compile(r"list\s*\(\s*(.*?)\s*\)")


class TypeNameError(ValueError):
    """A text that names no type; `code` is `unknown-type` or `not-supported`."""

    def __init__(
        self, message: str, code: str = Code.UNKNOWN_TYPE, hint: str | None = None
    ) -> None:
        super().__init__(message)
        self.code = code
        self.hint = hint


def parse_type(text: str) -> ValueType | None:
    """The built-in type of this name; None if no built-in type has it (it may be the name of an
    enum or of a type of the file).

    Raises TypeNameError for a built-in one that is written wrongly or not supported yet.
    """
    if text in SIMPLE:
        return SIMPLE[text]
    if text == "list":
        raise TypeNameError(
            "list wants the type of its elements",
            hint="write list(text), list(integer) …",
        )
    # list(list(text)) and further: lists in lists.
    inner = item_name(text)
    if inner is not None:
        item = parse_type(inner)
        return list_of(item) if item is not None else None
    match = _DECIMAL.fullmatch(text)
    return _decimal(match) if match else None


def item_name(text: str) -> str | None:
    """The name of the elements' type in the name of a type of lists;
    None if it is another type's.
    """
    match = _LIST.fullmatch(text)
    return match[1] if match else None


def list_of(item: ValueType) -> ListOf:
    """Lists of this type. Raises TypeNameError for lists of lists."""
    if isinstance(item, ListOf):
        raise TypeNameError(
            "a list of lists is no type",
            hint="read it as json, or make its rows a table",
        )
    return ListOf(item)


def _decimal(match: re.Match[str]) -> ValueType:
    # There is no size that would be right by default: too small refuses, too large hides.
    if match[1] is None:
        raise TypeNameError(
            "decimal wants its digits",
            hint='write "decimal(12,2)": 12 digits, 2 of them after the point',
        )
    precision, scale = int(match[1]), int(match[2])
    if not 1 <= precision <= MAX_DIGITS or scale > precision:
        raise TypeNameError(
            f"decimal({precision},{scale}) is out of range",
            hint=f"1 to {MAX_DIGITS} digits, at most as many after the point",
        )
    return DecimalType(precision, scale)
