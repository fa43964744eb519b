"""Typed columns → lines of CSV. What compiled code does not write goes in as the texts of its cells."""

from __future__ import annotations

from collections.abc import Sequence
from enum import IntEnum
from typing import Any

import pyarrow as pa

from mukret.columns._lines import Lines, are_short
from mukret.columns.written import written
from mukret.types import Boolean, Date, Datetime, DecimalType, Enum, Float, Integer, Timestamp, ValueType


class What(IntEnum):
    """What a column holds, as `_lines.pyx` numbers it. WORDS: codes of the words of a dictionary."""

    TEXTS = 0
    WORDS = 1
    INTEGERS = 2
    DECIMALS = 3
    DATES = 4
    LOCAL_TIMES = 5
    INSTANTS = 6
    BOOLEANS = 7
    FLOATS = 8


_DIRECTLY: dict[type[ValueType], What] = {
    Enum: What.WORDS,
    Integer: What.INTEGERS,
    DecimalType: What.DECIMALS,
    Date: What.DATES,
    Datetime: What.LOCAL_TIMES,
    Timestamp: What.INSTANTS,
    Boolean: What.BOOLEANS,
    Float: What.FLOATS,
}


def csv_lines(columns: Sequence[Any], kinds: Sequence[ValueType], count: int) -> bytes:
    """The lines of so many rows (RFC 4180, `\\n` at the end of each). A column is an array of its type, or of strings:
    the texts of its cells."""
    lines = Lines(len(columns), count)
    for column, kind in zip(columns, kinds, strict=True):
        _add(lines, column, kind)
    return lines.text()


def _add(lines: Lines, column: Any, kind: ValueType) -> None:
    what = _what(column, kind)
    if what is What.TEXTS and not pa.types.is_string(column.type):
        column = written(column, kind)
    scale = kind.scale if isinstance(kind, DecimalType) else 0
    if what is What.WORDS:
        validity, codes = column.indices.buffers()
        _, ends, data = column.dictionary.buffers()
        lines.add(what, scale, column.offset, validity, codes, ends, data)
    elif what is What.TEXTS:
        validity, ends, data = column.buffers()
        lines.add(what, scale, column.offset, validity, None, ends, data)
    else:
        validity, values = column.buffers()
        lines.add(what, scale, column.offset, validity, values, None, None)


def _what(column: Any, kind: ValueType) -> What:
    if pa.types.is_string(column.type):
        return What.TEXTS
    if isinstance(kind, Float) and not are_short(column.offset, len(column), *column.buffers()):
        return What.TEXTS
    return _DIRECTLY.get(type(kind), What.TEXTS)
