"""Arrow arrays put together from parts, and what is asked of masks."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import pyarrow as pa
import pyarrow.compute as pc

UTC = pa.timestamp("us", "UTC")


def row_mask(rows: Iterable[int], count: int) -> pa.Array:
    """A boolean array that is true at the given rows."""
    flags = bytearray(count)
    for row in rows:
        flags[row] = 1
    return pa.array(memoryview(flags), pa.uint8()).cast(pa.bool_())


def with_values(array: pa.Array, values: Mapping[int, object]) -> pa.Array:
    """The array with some rows replaced; None makes a row null."""
    if not values:
        return array
    rows = sorted(values)
    replacements = pa.array([values[row] for row in rows], array.type)
    mask = row_mask(rows, len(array))
    if pa.types.is_nested(array.type) or pa.types.is_duration(
        array.type
    ):  # no kernel for those
        positions = {row: len(array) + index for index, row in enumerate(rows)}
        order = pa.array(
            [positions.get(row, row) for row in range(len(array))], pa.int64()
        )
        return pa.concat_arrays([array, replacements]).take(order)
    return pc.replace_with_mask(array, mask, replacements)


def true_rows(mask: pa.Array) -> list[int]:
    """The rows at which a boolean array is true."""
    rows: list[int] = pc.indices_nonzero(mask).to_pylist()
    return rows


def any_true(mask: pa.Array) -> bool:
    return bool(pc.any(mask, min_count=0).as_py())


def all_true(mask: pa.Array) -> bool:
    """Whether a boolean array is true wherever it is not null."""
    return bool(pc.all(mask, min_count=0).as_py())


def regex_mask(array: pa.Array, pattern: str) -> pa.Array:
    """Where a string array matches a pattern as a whole; nulls stay null."""
    return pc.match_substring_regex(array, f"^(?:{pattern})$")


def merged(
    parts: Sequence[tuple[list[int], pa.Array]], count: int, arrow_type: pa.DataType
) -> pa.Array:
    """An array of `count` rows put together from parts, each with the rows that it holds; the rest
    is null.
    """
    # Behind all parts stands a null, for the rows that are in none.
    order = [sum(len(rows) for rows, _ in parts)] * count
    position = 0
    for rows, _ in parts:
        for row in rows:
            order[row] = position
            position += 1
    arrays = [array for _, array in parts]
    joined = pa.concat_arrays([*arrays, pa.nulls(1, arrow_type)])
    # One gather out of all parts.
    return joined.take(pa.array(order, pa.int64()))
