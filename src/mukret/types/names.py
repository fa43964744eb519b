"""From the name of a built-in type to the type: `text`, `decimal(12,2)`, `list(text)`."""

from __future__ import annotations

import re

from mukret.types.base import ValueType
from mukret.types.booleans import Boolean
from mukret.types.json import Json
from mukret.types.lists import ListOf
from mukret.types.numbers import MAX_DIGITS, DecimalType, Float, Integer
from mukret.types.texts import Text
from mukret.types.times import Date, Timestamp

SIMPLE: dict[str, ValueType] = {
    "text": Text(),
    "integer": Integer(),
    "float": Float(),
    "boolean": Boolean(),
    "date": Date(),
    "timestamp": Timestamp(),
    "json": Json(),
}
LATER = ("time", "datetime", "duration")
TYPE_NAMES = (*SIMPLE, "decimal(p,s)", "list(text)")
_DECIMAL = re.compile(r"decimal(?:\s*\(\s*([0-9]{1,4})\s*,\s*([0-9]{1,4})\s*\))?")
_LIST = re.compile(r"list\s*\(\s*(.*?)\s*\)")


class TypeNameError(ValueError):
    """A text that names no type; `code` is `unknown-type` or `not-supported`."""

    def __init__(self, message: str, code: str = "unknown-type", hint: str | None = None) -> None:
        super().__init__(message)
        self.code = code
        self.hint = hint


def parse_type(text: str) -> ValueType | None:
    """The built-in type of this name; None if it is none (then it may be an enum's or a type's name).

    Raises TypeNameError for a built-in one that is written wrongly or not supported yet.
    """
    if text in SIMPLE:
        return SIMPLE[text]
    if text in LATER:
        raise TypeNameError(f"the type {text} is not supported yet", "not-supported", "read it as text for now")
    if text == "list" or _LIST.fullmatch(text):
        return _list(text)
    match = _DECIMAL.fullmatch(text)
    return _decimal(match) if match else None


def _list(text: str) -> ValueType:
    match = _LIST.fullmatch(text)
    if not match or match[1] != "text":
        raise TypeNameError(f"the type {text} is not supported yet", "not-supported", "list(text) is")
    return ListOf(Text())


def _decimal(match: re.Match[str]) -> ValueType:
    if match[1] is None:
        raise TypeNameError(
            "decimal wants its digits", hint='write "decimal(12,2)": 12 digits, 2 of them after the point'
        )
    precision, scale = int(match[1]), int(match[2])
    if not 1 <= precision <= MAX_DIGITS or scale > precision:
        raise TypeNameError(
            f"decimal({precision},{scale}) is out of range",
            hint=f"1 to {MAX_DIGITS} digits, at most as many after the point",
        )
    return DecimalType(precision, scale)
