"""Texts, and what is told by words, in columns."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.stored import CellKernel, Converted, Line, Stored
from mukret.scan import Cells
from mukret.types import Boolean, Enum, Json, ReadingOptions, Text, TypeSpec


class Texts(Stored[Text]):
    def of_cells(self, reading: TypeSpec) -> CellKernel | None:
        return None if has_text_steps(reading) else strings_of

    def reads_texts(self, options: ReadingOptions) -> bool:
        return True

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return strings, None


class Enums(Stored[Enum]):
    """Strings while they are computed, a dictionary of the names when they are handed over."""

    line = Line.WORDS

    @property
    def handed_over(self) -> pa.DataType:
        return pa.dictionary(pa.int32(), pa.string())

    def finished(self, array: pa.Array) -> pa.Array:
        names = pa.array(self.kind.names, pa.string())
        return pa.DictionaryArray.from_arrays(
            pc.index_in(array, value_set=names).cast(pa.int32()), names
        )


class Booleans(Stored[Boolean]):
    line = Line.BOOLEANS

    @property
    def arrow(self) -> pa.DataType:
        return pa.bool_()


class Jsons(Stored[Json]):
    """As JSON text."""


def has_text_steps(reading: TypeSpec) -> bool:
    """Whether anything is done to a text before it is one."""
    options = reading.options
    return bool(
        options.trim
        or options.blank
        or options.strip
        or options.capture
        or options.split
    )


def strings_of(cells: Cells) -> tuple[pa.Array, list[int]]:
    """A string array of texts, of numbers as they are written, and of true and false; and the rows
    of other kinds.
    """
    offsets, data, validity, null_count, refused = cells.texts()
    buffers = [pa.py_buffer(validity), pa.py_buffer(offsets), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.string(), cells.count, buffers, null_count), refused
