"""Times of day and durations in columns: few are different, so each is read and written once."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.stored import Converted, Stored, written_once_each
from mukret.types import Duration, ReadingOptions, Time
from mukret.types.durations import UNITS


class Times(Stored[Time]):
    @property
    def arrow(self) -> pa.DataType:
        return pa.time64("us")

    def written(self, array: pa.Array) -> pa.Array:
        return written_once_each(array, self.kind.written)


class Durations(Stored[Duration]):
    @property
    def arrow(self) -> pa.DataType:
        return pa.duration("us")

    def of_integers(self, options: ReadingOptions, integers: pa.Array) -> Converted:
        if options.unit is None:
            return self.nothing(integers)
        return pc.multiply_checked(integers, UNITS[options.unit]).cast(
            pa.duration("us")
        ), None

    def written(self, array: pa.Array) -> pa.Array:
        return written_once_each(array, self.kind.written)
