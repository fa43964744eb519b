"""The Arrow type of each type, and arrays put together from parts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

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

UTC = pa.timestamp("us", "UTC")
_SIMPLE: dict[type[ValueType], Any] = {
    Text: pa.string(),
    Integer: pa.int64(),
    Float: pa.float64(),
    Boolean: pa.bool_(),
    Date: pa.date32(),
    Time: pa.time64("us"),
    Datetime: pa.timestamp("us"),
    Timestamp: UTC,
    Duration: pa.duration("us"),
    Enum: pa.string(),
    Json: pa.string(),
}


def value_type(kind: ValueType | None) -> Any:
    """The Arrow type in which values of a type are computed; enums are strings here."""
    if isinstance(kind, DecimalType):
        return pa.decimal128(kind.precision, kind.scale)
    if isinstance(kind, ListOf):
        return pa.list_(value_type(kind.item))
    return _SIMPLE[type(kind)] if kind is not None else pa.string()


def column_type(kind: ValueType) -> Any:
    """The Arrow type in which a column is handed over: as `value_type`, but enums are dictionaries."""
    return pa.dictionary(pa.int32(), pa.string()) if isinstance(kind, Enum) else value_type(kind)


def finished(array: Any, kind: ValueType) -> Any:
    """A computed array as a column to hand over."""
    if not isinstance(kind, Enum):
        return array
    names = pa.array(kind.names, pa.string())
    return pa.DictionaryArray.from_arrays(pc.index_in(array, value_set=names).cast(pa.int32()), names)


def nulls(kind: ValueType | None, count: int) -> Any:
    return pa.nulls(count, value_type(kind))


def repeated(value: object, kind: ValueType | None, count: int) -> Any:
    """An array of one value, many times."""
    if value is None:
        return nulls(kind, count)
    return pa.repeat(pa.scalar(value, value_type(kind)), count)


def row_mask(rows: Iterable[int], count: int) -> Any:
    """A boolean array that is true at the given rows."""
    flags = bytearray(count)
    for row in rows:
        flags[row] = 1
    return pa.array(memoryview(flags), pa.uint8()).cast(pa.bool_())


def with_values(array: Any, values: Mapping[int, object]) -> Any:
    """The array with some rows replaced; None makes a row null."""
    if not values:
        return array
    rows = sorted(values)
    replacements = pa.array([values[row] for row in rows], array.type)
    mask = row_mask(rows, len(array))
    if pa.types.is_nested(array.type) or pa.types.is_duration(array.type):  # no kernel for those
        positions = {row: len(array) + index for index, row in enumerate(rows)}
        order = pa.array([positions.get(row, row) for row in range(len(array))], pa.int64())
        return pa.concat_arrays([array, replacements]).take(order)
    return pc.replace_with_mask(array, mask, replacements)


def true_rows(mask: Any) -> list[int]:
    """The rows at which a boolean array is true."""
    rows: list[int] = pc.indices_nonzero(mask).to_pylist()
    return rows


def any_true(mask: Any) -> bool:
    return bool(pc.any(mask, min_count=0).as_py())


def all_true(mask: Any) -> bool:
    """Whether a boolean array is true wherever it is not null."""
    return bool(pc.all(mask, min_count=0).as_py())


def regex_mask(array: Any, pattern: str) -> Any:
    """Where a string array matches a pattern as a whole; nulls stay null."""
    return pc.match_substring_regex(array, f"^(?:{pattern})$")


def merged(parts: Sequence[tuple[list[int], Any]], count: int, arrow_type: Any) -> Any:
    """An array of `count` rows put together from parts, each with the rows that it holds; the rest is null."""
    order = [count] * count
    position = 0
    for rows, _ in parts:
        for row in rows:
            order[row] = position
            position += 1
    arrays = [array for _, array in parts]
    joined = pa.concat_arrays([*arrays, pa.nulls(1, arrow_type)])
    return joined.take(pa.array([position if index == count else index for index in order], pa.int64()))
