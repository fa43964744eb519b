"""Lists in columns."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import any_true
from mukret.columns.stored import Stored
from mukret.types import ListOf


class Lists(Stored[ListOf]):
    """`item` are the columns of the elements' type."""

    def __init__(self, kind: ListOf, item: Stored[Any]) -> None:
        super().__init__(kind)
        self.item = item

    @property
    def arrow(self) -> pa.DataType:
        return pa.list_(self.item.arrow)

    def text(self, value: object) -> str | None:
        return None if value is None else self.kind.written(value)

    def written(self, array: pa.Array) -> pa.Array:
        if isinstance(array, pa.ChunkedArray):
            array = array.combine_chunks()
        items = self.item.written(array.flatten())
        if any_true(
            pc.match_substring_regex(items, r"[;\\]|^$")
        ):  # some must be escaped
            return pa.array(map(self.text, array.to_pylist()), pa.string())
        lengths = pc.fill_null(pc.list_value_length(array), 0)
        ends = pa.concat_arrays(
            [pa.array([0], pa.int32()), pc.cumulative_sum(lengths).cast(pa.int32())]
        )
        joined = pc.binary_join(pa.ListArray.from_arrays(ends, items), ";")
        return pc.if_else(array.is_valid(), joined, pa.scalar(None, pa.string()))
