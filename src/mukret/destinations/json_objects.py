"""Record batches → JSON objects (RFC 8259), a column at a time.

Numbers have all their digits, decimals those after the point too; dates, times and durations are
texts as in CSV; lists are arrays; what has the type `json` stands as it is. Every object has all
members, null where there is nothing.
"""

from __future__ import annotations

import json
from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import any_true, true_rows, with_values
from mukret.columns.types import written
from mukret.types import (
    Boolean,
    DecimalType,
    Enum,
    Float,
    Integer,
    Json,
    ListOf,
    Text,
    ValueType,
)

_AS_IT_IS = (Integer, DecimalType, Float, Boolean, Json)
_MARKED = r'["\\\x00-\x1f]'
_CONTROL = r"[\x00-\x1f]"


def objects(
    batch: pa.RecordBatch,
    columns: Sequence[tuple[str, ValueType]],
    *,
    closed: bool = True,
) -> pa.Array:
    """The rows of a record batch as JSON texts, in a string array; not `closed`: without the brace
    at the end.
    """
    parts: list[pa.Array] = []
    for number, (name, kind) in enumerate(columns):
        # Joined column by column in Arrow: no row is made in Python.
        opening = "{" if number == 0 else ","
        parts += [
            f"{opening}{_quoted(name)}:",
            pc.fill_null(json_values(batch.column(number), kind), "null"),
        ]
    return pc.binary_join_element_wise(*parts, *(["}"] if closed else []), "")


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def json_values(array: pa.Array, kind: ValueType) -> pa.Array:
    """A column as the JSON texts of its values; null where there is none."""
    if isinstance(kind, ListOf):
        return _arrays(array, kind)
    text = written(array, kind)
    # Numbers, truth values and JSON are written as they are.
    if isinstance(kind, _AS_IT_IS):
        return text
    if isinstance(kind, Text | Enum):
        text = _escaped(text)
    return pc.binary_join_element_wise('"', text, '"', "")


def _escaped(text: pa.Array) -> pa.Array:
    """Texts as they stand between quotes."""
    if not any_true(pc.match_substring_regex(text, _MARKED)):
        return text
    controls = pc.fill_null(pc.match_substring_regex(text, _CONTROL), False)
    controlled = {row: _quoted(text[row].as_py())[1:-1] for row in true_rows(controls)}
    plain = pc.replace_substring(pc.replace_substring(text, "\\", "\\\\"), '"', '\\"')
    return with_values(plain, controlled) if controlled else plain


def _arrays(array: pa.Array, kind: ListOf) -> pa.Array:
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    lengths = pc.fill_null(pc.list_value_length(array), 0)
    # The offsets are made anew: those of a slice count from the beginning of what it was cut from.
    offsets = pa.concat_arrays(
        [pa.array([0], pa.int32()), pc.cumulative_sum(lengths).cast(pa.int32())]
    )
    items = pc.fill_null(json_values(array.flatten(), kind.item), "null")
    joined = pc.binary_join(pa.ListArray.from_arrays(offsets, items), ",")
    text = pc.binary_join_element_wise("[", joined, "]", "")
    return pc.if_else(pc.is_valid(array), text, pa.scalar(None, pa.string()))
