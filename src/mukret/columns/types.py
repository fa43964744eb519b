"""The one list of what types are in columns: a type that is added has its module in `types/` and
its columns here.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import pyarrow as pa

from mukret.columns.lists import Lists
from mukret.columns.moments import Dates, Datetimes, Timestamps
from mukret.columns.numbers import Decimals, Floats, Integers
from mukret.columns.spans import Durations, Times
from mukret.columns.stored import Stored
from mukret.columns.words import Booleans, Enums, Jsons, Texts
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Duration,
    Enum,
    Float,
    Integer,
    Json,
    ListOf,
    Text,
    Time,
    Timestamp,
    ValueType,
)

STORED: Mapping[type[ValueType], type[Stored[Any]]] = {
    Text: Texts,
    Integer: Integers,
    DecimalType: Decimals,
    Float: Floats,
    Boolean: Booleans,
    Date: Dates,
    Time: Times,
    Datetime: Datetimes,
    Timestamp: Timestamps,
    Duration: Durations,
    Enum: Enums,
    Json: Jsons,
}


@lru_cache(maxsize=10_000)
def stored(kind: ValueType) -> Stored[Any]:
    """The columns of a type."""
    return (
        Lists(kind, stored(kind.item))
        if isinstance(kind, ListOf)
        else STORED[type(kind)](kind)
    )


def value_type(kind: ValueType | None) -> pa.DataType:
    """The Arrow type in which values of a type are computed;
    of none (null alone) that of strings.
    """
    return pa.string() if kind is None else stored(kind).arrow


def nulls(kind: ValueType | None, count: int) -> pa.Array:
    return pa.nulls(count, value_type(kind))


def repeated(value: object, kind: ValueType | None, count: int) -> pa.Array:
    """An array of one value, many times."""
    if value is None:
        return nulls(kind, count)
    return pa.repeat(pa.scalar(value, value_type(kind)), count)


def written(array: pa.Array, kind: ValueType) -> pa.Array:
    """The texts of a typed array, as they stand in CSV cells; null stays null."""
    return stored(kind).written(array)
