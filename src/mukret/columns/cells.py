"""Cells of a scan → typed Arrow columns, with exactly the values refused that the plain reading refuses.

The kernels of the scanner read from the bytes what surely means one thing. What they refuse is read by the type itself
(`Reading.read`), once for each different text, and so are types that have no kernel.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns import zoned
from mukret.columns.arrow import UTC, any_true, nulls, true_rows, value_type, with_values
from mukret.columns.read import Column, has_text_steps, read_column, read_strings, tried
from mukret.documents.decode import decode
from mukret.scan import Cells
from mukret.scan.kinds import NOTHING, TEXTS
from mukret.types import (
    Bad,
    Date,
    Datetime,
    DecimalType,
    Float,
    Integer,
    Json,
    ListOf,
    Options,
    Reading,
    Text,
    Timestamp,
)
from mukret.types.instants import EPOCH_MICROS, FIRST_MICRO, LAST_MICRO
from mukret.values import JsonValue

MOST_DIFFERENT = 4096
"""Up to so many different values are read once each; of more it does not pay to look for those that are the same."""

MOST_KNOWN, LONGEST_KNOWN = 20_000, 200
"""So many texts of a field are remembered, and none that are longer."""
_UNKNOWN = object()

Kernel = Callable[[Cells], tuple[Any, list[int]]]
"""Gives an array, and the rows that the kernel refuses."""


def value_of(cells: Cells, row: int) -> JsonValue:
    """A value as it stands in the document; None where there is none."""
    raw = cells.raw(row)
    return value_in(raw) if raw else None


def value_in(raw: bytes) -> JsonValue:
    """The value of a JSON text that was scanned. A text without escapes, as most are, needs no decoder."""
    if raw.startswith(b'"') and b"\\" not in raw:
        return raw[1:-1].decode()
    return decode(raw)


def values_of(cells: Cells) -> list[JsonValue]:
    if cells.kinds_seen() <= TEXTS | NOTHING:
        texts: list[JsonValue] = strings_of(cells)[0].to_pylist()
        return texts
    return [value_of(cells, row) for row in range(cells.count)]


class Known:
    """What was read of some texts, so that each is read once in a run; the texts of one field."""

    def __init__(self) -> None:
        self.outcomes: dict[bytes, object] = {}

    def outcome(self, reading: Reading, raw: bytes) -> object:
        """The typed value of a JSON text, or what is wrong with it."""
        found = self.outcomes.get(raw, _UNKNOWN)
        if found is _UNKNOWN:
            if len(self.outcomes) > MOST_KNOWN:
                self.outcomes.clear()
            found = tried(reading.read, value_in(raw)) if raw else None
            if len(raw) <= LONGEST_KNOWN:
                self.outcomes[raw] = found
        return found


def read_cells(reading: Reading, cells: Cells, known: Known | None = None) -> Column:
    """Cells as a typed column. `known`: what was read of other cells of the same field."""
    kinds = cells.kinds_seen()
    if kinds <= NOTHING:
        return Column(nulls(reading.type, cells.count))
    known = known or Known()
    kernel = kernel_for(reading)
    if kernel is not None:
        array, refused = kernel(cells)
        return _completed(reading, array, refused, cells, known)
    column = _by_different(reading, cells, known)
    if column is not None:
        return column
    if isinstance(reading.type, ListOf | Json):
        return read_column(reading, values_of(cells))
    if kinds <= TEXTS | NOTHING:
        return read_strings(reading, strings_of(cells)[0], reading.read)
    return read_column(reading, values_of(cells))


def strings_of(cells: Cells) -> tuple[Any, list[int]]:
    """A string array of texts, of numbers as they are written, and of true and false; and the rows of other kinds."""
    offsets, data, validity, null_count, refused = cells.texts()
    buffers = [pa.py_buffer(validity), pa.py_buffer(offsets), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.string(), cells.count, buffers, null_count), refused


def kernel_for(reading: Reading) -> Kernel | None:
    """The kernel that reads a type with these options; None if there is none."""
    if not isinstance(reading.type, Text | Integer | DecimalType | Float | Date | Datetime | Timestamp):
        return None
    return _kernel(reading)


@lru_cache(maxsize=10_000)
def _kernel(reading: Reading) -> Kernel | None:
    kind, options = reading.type, reading.options
    if isinstance(kind, Text):
        return None if has_text_steps(reading) else strings_of
    blanks = _blanks(reading)
    if options.strip or options.capture is not None or blanks is None:
        return None
    if isinstance(kind, Integer | DecimalType | Float):
        return _numbers(kind, options, blanks)
    return _times(kind, options, blanks)


def _blanks(reading: Reading) -> bytes | None:
    """The texts that mean null, each behind its length; None if one is too long for that."""
    texts = [text.encode("utf-8", "surrogatepass") for text in sorted(reading.blanks)]
    if any(len(text) > 255 for text in texts):
        return None
    return b"".join(bytes([len(text)]) + text for text in texts)


def _numbers(kind: Integer | DecimalType | Float, options: Options, blanks: bytes) -> Kernel | None:
    grouping = options.grouping or ""
    if not (options.point.isascii() and grouping.isascii() and len(options.point) == 1 and len(grouping) <= 1):
        return None
    marks = (options.point, grouping, options.percent)
    match kind:
        case Integer():
            return lambda cells: _array(kind, cells.count, cells.integers(marks, blanks))
        case DecimalType(precision, scale):
            return lambda cells: _array(kind, cells.count, cells.decimals(marks, blanks, precision, scale))
    return lambda cells: _array(kind, cells.count, cells.floats(marks, blanks))


def _array(kind: Any, count: int, found: Any) -> tuple[Any, list[int]]:
    values, validity, null_count, refused, _ = found
    buffers = [pa.py_buffer(validity), pa.py_buffer(values)]
    return pa.Array.from_buffers(value_type(kind), count, buffers, null_count), refused


def _times(kind: Any, options: Options, blanks: bytes) -> Kernel | None:
    if isinstance(kind, Date):
        if options.format != ("iso",):
            return None
        return lambda cells: _array(kind, cells.count, cells.dates(blanks))
    if isinstance(kind, Datetime):
        if options.format != ("iso",):
            return None
        return lambda cells: _without_offset(cells, blanks)
    if not all(form == "iso" or form in EPOCH_MICROS for form in options.format):
        return None
    epoch = next((form for form in options.format if form in EPOCH_MICROS), None)
    factor = 0
    if epoch is not None:
        factor = 10 ** EPOCH_MICROS[epoch] if EPOCH_MICROS[epoch] >= 0 else -1
    iso = "iso" in options.format
    return lambda cells: _instants(cells, options, cells.moments(blanks, iso, factor, FIRST_MICRO, LAST_MICRO))


def _without_offset(cells: Cells, blanks: bytes) -> tuple[Any, list[int]]:
    """Local times; what has an offset is none."""
    values, validity, null_count, refused, local = cells.moments(blanks, True, 0, FIRST_MICRO, LAST_MICRO)
    buffers = [pa.py_buffer(validity), pa.py_buffer(values)]
    array = pa.Array.from_buffers(pa.timestamp("us"), cells.count, buffers, null_count)
    with_offset = pc.and_(array.is_valid(), pc.invert(_flags(local, cells.count)))
    if not any_true(with_offset):
        return array, refused
    array = pc.if_else(with_offset, pa.scalar(None, array.type), array)
    return array, sorted({*refused, *true_rows(with_offset)})


def _instants(cells: Cells, options: Options, found: Any) -> tuple[Any, list[int]]:
    """Instants; local times are those of the zone, if one is told."""
    values, validity, null_count, refused, local = found
    buffers = [pa.py_buffer(validity), pa.py_buffer(values)]
    array = pa.Array.from_buffers(UTC, cells.count, buffers, null_count)
    if local is None:
        return array, refused
    is_local = _flags(local, cells.count)
    if options.zone is None:
        array = pc.if_else(is_local, pa.scalar(None, UTC), array)
        return array, sorted({*refused, *true_rows(is_local)})
    naive = pc.if_else(is_local, array, pa.scalar(None, UTC)).cast(pa.timestamp("us"))
    instants, doubtful = zoned.to_utc(naive, options.zone, options.fold)
    outside = pc.or_(pc.less(instants.cast(pa.int64()), FIRST_MICRO), pc.greater(instants.cast(pa.int64()), LAST_MICRO))
    doubtful = outside if doubtful is None else pc.or_(pc.fill_null(outside, False), doubtful)
    if any_true(doubtful):
        refused = sorted({*refused, *true_rows(doubtful)})
        instants = pc.if_else(pc.fill_null(doubtful, False), pa.scalar(None, UTC), instants)
    return pc.if_else(is_local, instants, array), refused


def _flags(flags: bytes | None, count: int) -> Any:
    if flags is None:
        return pa.repeat(pa.scalar(False), count)
    return pa.Array.from_buffers(pa.uint8(), count, [None, pa.py_buffer(flags)]).cast(pa.bool_())


def _completed(reading: Reading, array: Any, refused: Sequence[int], cells: Cells, known: Known) -> Column:
    """Reads what a kernel refused and puts it in."""
    column = Column(array)
    values: dict[int, object] = {}
    for row in refused:
        outcome = known.outcome(reading, cells.raw(row))
        if isinstance(outcome, Bad):
            column.failures[row] = outcome
        elif outcome is not None:
            values[row] = outcome
    column.array = with_values(array, values)
    return column


def _by_different(reading: Reading, cells: Cells, known: Known) -> Column | None:
    """Each different value is read once; None if there are too many of them."""
    found = cells.different(min(MOST_DIFFERENT, max(64, cells.count // 2)))
    if found is None:
        return None
    codes, rows = found
    outcomes = [known.outcome(reading, cells.raw(row)) for row in rows]
    values = pa.array([None if isinstance(one, Bad) else one for one in outcomes], value_type(reading.type))
    numbers = pa.Array.from_buffers(pa.int32(), cells.count, [None, pa.py_buffer(codes)])
    column = Column(values.take(numbers))
    if any(isinstance(one, Bad) for one in outcomes):
        for row, number in enumerate(numbers.to_pylist()):
            outcome = outcomes[number]
            if isinstance(outcome, Bad):
                column.failures[row] = outcome
    return column
