"""Typed columns → columns of the texts that stand in CSV cells (as `ValueType.written`, a column at a time)."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import any_true, true_rows, with_values
from mukret.types import Datetime, DecimalType, Duration, Float, ListOf, Time, Timestamp, ValueType

_AFTER_DATE = len("2031-04-01")


def written(array: Any, kind: ValueType) -> Any:
    """A string array; null stays null."""
    match kind:
        case ListOf():
            return _lists(array, kind)
        case Timestamp():
            return pc.binary_join_element_wise(_moments(array), "Z", "")
        case Datetime():
            return _moments(array)
        case Time() | Duration():
            return _by_unique(array, kind)
        case Float():
            return _without_exponent(array, kind, "e+")
        case DecimalType() if kind.scale > 6:
            return _without_exponent(array, kind, "E")
    return array.cast(pa.string())


def _by_unique(array: Any, kind: ValueType) -> Any:
    """Few different values: each is written once."""
    encoded = array.dictionary_encode()
    texts = pa.array([kind.written(value) for value in encoded.dictionary.to_pylist()], pa.string())
    return texts.take(encoded.indices)


def _moments(array: Any) -> Any:
    naive = array.cast(pa.timestamp("us"))
    if not any_true(pc.not_equal(pc.microsecond(naive), 0)) and not any_true(pc.not_equal(pc.millisecond(naive), 0)):
        text = naive.cast(pa.timestamp("s"), safe=False).cast(pa.string())
    else:  # six digits after the point: all that end it go, and the point if it ends the text then
        text = pc.utf8_rtrim(pc.utf8_rtrim(naive.cast(pa.string()), characters="0"), characters=".")
    return pc.binary_replace_slice(text, _AFTER_DATE, _AFTER_DATE + 1, "T")


def _without_exponent(array: Any, kind: ValueType, mark: str) -> Any:
    """Arrow writes floats from 1e10 on and small decimals with an exponent: those are written one by one."""
    text = array.cast(pa.string())
    marked = pc.fill_null(pc.match_substring(text, mark), False)
    return with_values(text, {row: kind.written(array[row].as_py()) for row in true_rows(marked)})


def _lists(array: Any, kind: ListOf) -> Any:
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    items = written(array.flatten(), kind.item)
    if any_true(pc.match_substring_regex(items, r"[;\\]|^$")):  # some must be escaped
        return pa.array([None if value is None else kind.written(value) for value in array.to_pylist()], pa.string())
    lengths = pc.fill_null(pc.list_value_length(array), 0)
    ends = pa.concat_arrays([pa.array([0], pa.int32()), pc.cumulative_sum(lengths).cast(pa.int32())])
    joined = pc.binary_join(pa.ListArray.from_arrays(ends, items), ";")
    return pc.if_else(array.is_valid(), joined, pa.scalar(None, pa.string()))
