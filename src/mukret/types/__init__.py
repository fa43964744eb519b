"""One module per family of types: what is accepted, what is refused and why, and how it is written.

This is the plain meaning, a value at a time; `mukret.columns` does the same for whole columns.
"""

from mukret.types.base import (
    PLAIN,
    WHITE_SPACE,
    Bad,
    ReadingOptions,
    TypedValue,
    TypeSpec,
    ValueType,
)
from mukret.types.booleans import Boolean
from mukret.types.calendar import Date, Datetime, Time
from mukret.types.durations import Duration
from mukret.types.enums import Enum, EnumValue
from mukret.types.instants import Timestamp
from mukret.types.json import Json
from mukret.types.lists import ListOf
from mukret.types.names import parse_type
from mukret.types.numbers import DecimalType, Float, Integer
from mukret.types.texts import Text

__all__ = [
    "PLAIN",
    "WHITE_SPACE",
    "Bad",
    "Boolean",
    "Date",
    "Datetime",
    "DecimalType",
    "Duration",
    "Enum",
    "EnumValue",
    "Float",
    "Integer",
    "Json",
    "ListOf",
    "ReadingOptions",
    "Text",
    "Time",
    "Timestamp",
    "TypeSpec",
    "TypedValue",
    "ValueType",
    "parse_type",
]
