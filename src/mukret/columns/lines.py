"""Typed columns → lines of CSV.

What compiled code does not write goes in as the texts of its cells.
"""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from mukret.columns._lines import Lines
from mukret.columns.stored import Line
from mukret.columns.types import stored
from mukret.types import ValueType


def csv_lines(
    columns: Sequence[pa.Array], kinds: Sequence[ValueType], count: int
) -> bytes:
    """The lines of so many rows (RFC 4180, `\\n` at the end of each).

    A column is an array of its type, or of strings: the texts of its cells.
    """
    lines = Lines(len(columns), count)
    for column, kind in zip(columns, kinds, strict=True):
        _add(lines, column, kind)
    return lines.text()


def _add(lines: Lines, column: pa.Array, kind: ValueType) -> None:
    columns = stored(kind)
    # Types that can be written straight from their bytes are; long ones, and all others, by way of
    # their texts.
    line = (
        Line.TEXTS
        if pa.types.is_string(column.type) or not columns.is_short(column)
        else columns.line
    )
    if line is Line.TEXTS and not pa.types.is_string(column.type):
        column = columns.written(column)
    if line is Line.WORDS:
        validity, codes = column.indices.buffers()
        _, ends, data = column.dictionary.buffers()
        lines.add(line, columns.scale, column.offset, validity, codes, ends, data)
    elif line is Line.TEXTS:
        validity, ends, data = column.buffers()
        lines.add(line, columns.scale, column.offset, validity, None, ends, data)
    else:
        validity, values = column.buffers()
        lines.add(line, columns.scale, column.offset, validity, values, None, None)
